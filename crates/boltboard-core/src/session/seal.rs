//! What a build is sealed with, and how the last one stands, told from its seal alone.

use std::path::PathBuf;

use tracing::debug;

use super::open::{Resolved, Session};
use super::place::Whereabouts;
use super::plan::Planned;
use super::scope::{Scope, Surroundings};
use crate::base::Digest;
use crate::board::{Generator, SourceFile};
use crate::definitions::Listing;
use crate::judge::{Basis, Concern, SealFile, SealWanted, Standing, Touched};
use crate::profile::ProfileName;
use crate::record::Handed;
use crate::survey::EPOCH_VARIABLE;

/// What our own variables begin with.
const OWN_VARIABLES: &str = "BOLTBOARD_";
/// The variable that asks for what is decided on the way; it decides nothing itself.
pub const TRACE_VARIABLE: &str = "BOLTBOARD_TRACE";

impl Whereabouts {
    /// Reads the seal of the last build, if there is one that can answer.
    pub fn seal(&self, scope: &Scope) -> Option<SealFile> {
        if scope.is_supposed() {
            return None;
        }
        // Where the sources lie only matters for what `asked` holds already.
        SealFile::read(&self.work.folders(&self.root, &self.profile).seal())
    }

    /// Tells how the last build of the profile stands, without reading the board; `None` if it was not one for what is asked.
    pub fn standing<'f>(&self, seal: &'f SealFile, scope: &Scope, around: &Surroundings) -> Option<Standing<'f>> {
        if !Handed::is_whole(&self.work.folders(&self.root, &self.profile)) {
            debug!("what was built does not lie where it was handed over");
            return None;
        }
        let standing = seal.look(self.asked(scope, around), |name| around.variables.get(name).cloned());
        debug!(answers = standing.is_some(), "the seal of the last build");
        standing
    }

    /// Stands for all that a build follows from and that no file says.
    fn asked(&self, scope: &Scope, around: &Surroundings) -> Digest {
        let mut parts = vec![
            around.program.clone(),
            self.root.display().to_string(),
            self.work.root().display().to_string(),
            scope.sources.as_ref().map_or(String::new(), |folder| folder.display().to_string()),
            self.profile.to_string(),
            self.file.as_ref().map_or(String::new(), |file| file.display().to_string()),
            around.search_path().to_string(),
            around.variable(EPOCH_VARIABLE).to_string(),
            around.processor().to_string(),
        ];
        parts.extend(self.add_ons.iter().map(|one| format!("{} {}", one.name, one.folder.display())));
        let counts = |name: &str| name.starts_with(OWN_VARIABLES) && name != TRACE_VARIABLE;
        let own = around.variables.iter().filter(|(name, _)| counts(name));
        parts.extend(own.map(|(name, value)| format!("{name}={value}")));
        Digest::of_parts(parts.iter().map(String::as_str))
    }
}

impl Session {
    fn whereabouts(&self) -> Whereabouts {
        let root = self.board.tree.board_root.clone();
        let file = self.shelf.aside.as_ref().map(|(_, file)| file.clone());
        Whereabouts {
            root,
            sources: None,
            work: self.work.clone(),
            profile: self.profile.clone(),
            file,
            add_ons: self.add_ons.clone(),
        }
    }

    /// Returns what a build is sealed with; none where it answers a mere supposition. What was looked at for a `touched` part of the plan
    /// is known already.
    pub(super) fn seal_wanted(
        &self,
        resolved: &Resolved,
        planned: &Planned,
        touched: Option<&Touched>,
    ) -> Option<SealWanted> {
        // What is built of changed sources is looked at anew each time: a new file beside them could come first.
        if self.scope.is_supposed() || self.is_mirrored(&resolved.choices) {
            return None;
        }
        let layers = resolved.choices.layers.iter().filter_map(|(_, layer)| ProfileName::parse(&layer.name));
        let chosen = layers.chain([self.profile.clone()]).flat_map(|name| self.shelf.places(&name));
        let mut looked: Vec<(PathBuf, Concern)> = chosen.map(|place| (place, Concern::Choices)).collect();
        let mut named = Vec::new();
        if touched.is_none() {
            looked.extend(self.places_of_plan().into_iter().map(|place| (place, Concern::Plan)));
            named = self.named_folders(planned);
        }
        looked.sort();
        looked.dedup();
        Some(SealWanted {
            asked: self.whereabouts().asked(&self.scope, &self.around),
            started: self.opened,
            looked,
            named,
            search_path: self.around.search_folders().collect(),
            basis: match touched {
                Some(touched) => touched.basis.clone(),
                None => Basis::of(&self.plan_input(resolved, planned), &planned.plan.macros),
            },
            variables: self.around.variables.clone(),
        })
    }

    /// The files that every plan follows from.
    fn places_of_plan(&self) -> Vec<PathBuf> {
        let tree = &self.board.tree;
        let mut places: Vec<PathBuf> = self.board.files.names().map(|name| tree.definition_file(name)).collect();
        for (_, part) in self.board.parts.iter() {
            if let Some(Generator::Template { from, .. }) = part.kind.generator() {
                places.extend(match from {
                    SourceFile::Beside(path) => Some(tree.definition(path)),
                    SourceFile::Tree(path) => Some(tree.source(path)),
                    SourceFile::Part(_) => None,
                });
            }
            let stub = part.modules.iter().filter_map(|modules| modules.stub.as_ref());
            places.extend(stub.map(|from| tree.source(from)));
        }
        places.extend(self.board.fetches.iter().map(|(_, fetch)| self.work.fetched().join(fetch.kept_as())));
        places.extend(self.probes.places());
        places
    }

    /// The folders of the tree whose names count.
    fn named_folders(&self, planned: &Planned) -> Vec<PathBuf> {
        let tree = &self.board.tree;
        let mut named: Vec<PathBuf> =
            planned.listing.folders().iter().map(|folder| folder.below(&tree.source_root)).collect();
        if tree.board_root != tree.source_root {
            let listing = Listing::of(&tree.board_root);
            named.extend(listing.folders().iter().map(|folder| folder.below(&tree.board_root)));
        }
        named
    }
}
