//! A tree that was read, and how choices on it become values.

use std::path::{Path, PathBuf};
use std::time::SystemTime;

use tracing::debug;

use super::fault::SessionFault;
use super::place::{WORK, Whereabouts, first_profile};
use super::scope::{Scope, Surroundings};
use crate::base::Epoch;
use crate::board::{Board, PartId, PartOrigin};
use crate::definitions::{AddOnPlace, Outside};
use crate::launch::RealLaunch;
use crate::load::{KeptPlace, LazySearch, Loaded, load};
use crate::logic::Logic;
use crate::profile::{Choices, ProfileName, ProfileSource, Shelf};
use crate::reading::UnitsMemo;
use crate::reason::Explainer;
use crate::resolve::{Resolution, resolve};
use crate::survey::{EPOCH_VARIABLE, Facts, ProbeMemo};
use crate::work::{Places, WorkFolder};

/// A tree that was read, and where things are kept for it.
pub struct Session {
    /// The time before anything was read.
    pub opened: SystemTime,
    /// What all answers are about.
    pub scope: Scope,
    /// The machine and the process that asks.
    pub around: Surroundings,
    /// The board.
    pub board: Board,
    /// Its rules as clauses.
    pub logic: Logic,
    /// Its search index.
    pub search: LazySearch,
    /// The work folder, whether or not it is there yet.
    pub work: WorkFolder,
    /// Where profiles are kept.
    pub shelf: Shelf,
    /// The profile in use.
    pub profile: ProfileName,
    /// Starts processes.
    pub launch: RealLaunch,
    /// What compilers and programs have answered.
    pub probes: ProbeMemo,
    /// What Fortran sources say of modules.
    pub(super) units: UnitsMemo,
    /// The time that everything is built as if at.
    pub epoch: Epoch,
    /// Folders outside of the tree that bring more to its board.
    pub add_ons: Vec<AddOnPlace>,
    /// The folders of the tree, whose programs are not run before a build.
    pub tree_folders: Vec<PathBuf>,
}

/// Choices with facts and the values that follow.
#[derive(Debug, Clone)]
pub struct Resolved {
    /// The choices.
    pub choices: Choices,
    /// The facts.
    pub facts: Facts,
    /// The values.
    pub resolution: Resolution,
}

impl Resolved {
    /// Whether a part is made with these values.
    pub fn makes(&self, board: &Board, part: PartId) -> bool {
        let definition = &board.parts[part];
        definition.origin != PartOrigin::Absent
            && definition.gate().is_none_or(|gate| self.resolution.holds(&self.facts, &gate))
    }
}

impl Session {
    /// Reads the tree that is asked about.
    ///
    /// # Errors
    /// There is none, its definitions are wrong, or the work folder cannot be used.
    pub fn open(scope: Scope, around: Surroundings) -> Result<Session, SessionFault> {
        let opened = SystemTime::now();
        let Whereabouts { root, sources, work, profile, file, mut add_ons } = Whereabouts::find(&scope, &around)?;
        let sources = scope.sources.clone().or(sources);
        // A tree that is only looked at gets no work folder.
        let kept = || KeptPlace { file: work.board(), program: around.program.clone(), work: work.clone() };
        let place = (work.exists() && scope.with_add_on.is_none()).then(kept);
        add_ons.extend(scope.with_add_on.clone());
        let outside = Outside { fetched: Some(work.fetched()), add_ons };
        let loaded = load(&root, sources.as_deref(), &outside, place.as_ref());
        let Loaded { board, logic, search, source } = loaded.map_err(SessionFault::Definitions)?;
        debug!(root = %root.display(), work = %work.root().display(), %profile, definitions = ?source, options = board.options.len(), "opened");
        work.check(&board.tree.name)?;
        let epoch = around.epoch().map_err(|text| SessionFault::Epoch { variable: EPOCH_VARIABLE, text })?;
        Ok(Session {
            units: UnitsMemo::at(work.units()),
            opened,
            shelf: Shelf { aside: file.map(|file| (profile.clone(), file)), ..work.shelf(root.join("profiles")) },
            tree_folders: [board.tree.board_root.clone(), board.tree.source_root.clone()]
                .into_iter()
                .chain(outside.add_ons.iter().map(|add_on| add_on.folder.clone()))
                .collect(),
            add_ons: outside.add_ons,
            launch: RealLaunch::default(),
            probes: ProbeMemo::load(&work.probes()),
            scope,
            around,
            board,
            logic,
            search,
            work,
            profile,
            epoch,
        })
    }

    /// Returns whether a profile exists, and where it comes from.
    ///
    /// # Errors
    /// The folder of profiles cannot be read.
    pub fn source_of(&self, profile: &ProfileName) -> Result<Option<ProfileSource>, SessionFault> {
        Ok(self.shelf.list()?.get(profile).copied())
    }

    /// Reads a profile's choices, with those that are tried on top. The first profile need not be there yet.
    ///
    /// # Errors
    /// The profile is wrong, or what is tried is no choice.
    pub fn choices_of(&self, profile: &ProfileName) -> Result<Choices, SessionFault> {
        let fresh = *profile == first_profile()? && self.source_of(profile)?.is_none();
        let choices =
            if fresh { Choices::default().in_kit(&self.board) } else { self.shelf.read(profile, &self.board)? };
        Ok(choices.with_tried(&self.board, &self.scope.tried)?)
    }

    /// Reads a profile's choices as if its file, whether or not it is there, held `text`.
    ///
    /// # Errors
    /// They are wrong.
    pub fn choices_as(&self, profile: &ProfileName, text: &str) -> Result<Choices, SessionFault> {
        Ok(self.shelf.read_as(profile, Some(text), &self.board)?)
    }

    /// Resolves choices under facts.
    ///
    /// # Errors
    /// They clash, or a layer of theirs is for other hosts than this one.
    pub fn resolve(&self, choices: Choices, facts: Facts) -> Result<Resolved, SessionFault> {
        let unfit = self.unfit_layers(&choices, &facts)?;
        if !unfit.is_empty() {
            return Err(SessionFault::Unfit { unfit, choices: Box::new(choices) });
        }
        match resolve(&self.board, &self.logic, &choices, &facts) {
            Ok(resolution) => Ok(Resolved { choices, facts, resolution }),
            Err(clashes) => Err(SessionFault::Clash { clashes, choices: Box::new(choices), facts: Box::new(facts) }),
        }
    }

    /// Makes the work folder. One that lies outside of the definitions remembers which tree it belongs to.
    ///
    /// # Errors
    /// It cannot be made, or belongs to another tree.
    pub fn prepare_work(&self) -> Result<(), SessionFault> {
        let tree = &self.board.tree;
        self.work.prepare(&tree.name)?;
        let whole = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_path_buf());
        let (board, sources) = (whole(&tree.board_root), whole(&tree.source_root));
        let places = Places { board: board.clone(), sources: sources.clone(), work: None };
        let work = whole(self.work.root());
        if !work.starts_with(&board) {
            self.work.remember(&places)?;
        }
        // Sources that are described elsewhere lead to where everything of them is kept, unless a person says each time where that is.
        if self.scope.work.is_none() && !sources.starts_with(&board) && !work.starts_with(&sources) {
            // That they cannot be written to is no hindrance.
            let _ = WorkFolder::at(&work).sign_at(&sources.join(WORK), &tree.name, &places);
        }
        Ok(())
    }

    /// Keeps what compilers have answered, once there is a place for it.
    pub fn keep_probes(&self) {
        if self.work.exists() {
            // What is not kept is asked again, which is no reason to stop.
            let _ = self.probes.save(&self.work.probes());
        }
    }

    /// Returns what explains values.
    pub fn explainer<'a>(&'a self, resolved: &'a Resolved) -> Explainer<'a> {
        let Resolved { choices, facts, resolution } = resolved;
        Explainer { board: &self.board, choices, facts, resolution }
    }
}
