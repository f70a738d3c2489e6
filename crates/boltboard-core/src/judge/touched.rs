//! What a change touches: the parts that look at a place, a value or a macro that is not as it was for the last sealed build, and
//! those that look at what these make. Only their steps are planned and judged; all others are current.

use std::collections::{BTreeSet, HashSet};
use std::path::PathBuf;

use super::basis::{Basis, HeaderTexts};
use super::quick::QuickJudge;
use super::step::Judge;
use super::verdict::Ahead;
use crate::base::{Digest, FileError, Glob};
use crate::board::{Board, PartId};
use crate::judge::{Concern, Sweep};
use crate::plan::{MacroTable, Plan};
use crate::reading::TokenMemo;
use crate::resolve::Resolution;
use crate::step::{Location, Look};

use crate::work::{Folders, StatusMemo};

use crate::journal::{Journal, Opening};

use crate::store::Store;
use crate::survey::Facts;

/// What is needed to tell what a change touches.
pub struct Touching<'a, 's> {
    /// The board, with the same definitions as for the sealed build.
    pub board: &'a Board,
    /// All values.
    pub resolution: &'a Resolution,
    /// All facts.
    pub facts: &'a Facts,
    /// Where everything lies.
    pub folders: &'a Folders,
    /// Results of any profile and day.
    pub store: &'a Store,
    /// What is not as it was.
    pub sweep: &'a Sweep<'s>,
}

/// What the plan of what a change touches is judged by.
pub struct Touched {
    /// What its steps last did.
    pub journal: Journal,
    /// Contents of the files that they read and made.
    pub status: StatusMemo,
    /// What the plan follows from.
    pub basis: Basis,
    /// The parts that are touched.
    pub parts: BTreeSet<PartId>,
}

/// The parts to plan.
pub struct PartsToPlan<'a> {
    /// Those whose steps are wanted.
    pub wanted: &'a BTreeSet<PartId>,
    /// The patterns of all files that their plan looks at.
    pub patterns: Vec<&'a Glob>,
    /// What the macros of option headers stand for.
    pub macros: MacroTable,
}

/// Plans some parts; `None` when something stands against it.
pub type Planner<'p> = dyn FnMut(PartsToPlan<'_>) -> Option<Plan> + 'p;

/// What came of planning some parts.
enum Attempt {
    Planned(Box<(Plan, Journal, StatusMemo)>),
    /// More parts are touched.
    More(BTreeSet<PartId>),
    /// All must be planned.
    Unclear,
}

impl Touching<'_, '_> {
    /// Plans the steps of the parts that are touched and of all generated parts, by a function that plans some parts; `None` when
    /// all must be planned.
    ///
    /// # Errors
    /// The journal cannot be read.
    pub fn plan(&self, lower: &mut Planner<'_>) -> Result<Option<(Plan, Touched)>, FileError> {
        let Some(mut basis) = Basis::unpacked(self.sweep.basis) else { return Ok(None) };
        let mut parts = self.sweep.open.clone();
        for (_, concerns) in self.sweep.changed() {
            for concern in concerns {
                match concern {
                    Concern::Plan => return Ok(None),
                    Concern::Choices | Concern::Common => {}
                    Concern::Part(part) => {
                        parts.insert(part);
                    }
                }
            }
        }
        let Some(follows) = basis.follow(self.board, self.resolution, self.facts) else { return Ok(None) };
        parts.extend(follows.parts);
        let macros = follows.macros;
        if follows.headers == HeaderTexts::Other {
            let headers = self.board.headers.iter().map(|(_, header)| Location::Made(header.path.clone()));
            headers.for_each(|header| parts.extend(self.lookers(&header)));
        }
        loop {
            match self.attempt(&mut parts, &basis, &macros, lower)? {
                Attempt::Planned(planned) => {
                    let (plan, journal, status) = *planned;
                    return Ok(Some((plan, Touched { journal, status, basis, parts })));
                }
                Attempt::More(more) => parts.extend(more),
                Attempt::Unclear => return Ok(None),
            }
        }
    }

    /// The parts that look at a file, or make it.
    fn lookers(&self, file: &Location) -> impl Iterator<Item = PartId> {
        self.sweep.whom(&file.path(self.folders)).into_iter().filter_map(|concern| match concern {
            Concern::Part(part) => Some(part),
            Concern::Plan | Concern::Choices | Concern::Common => None,
        })
    }

    fn attempt(
        &self,
        parts: &mut BTreeSet<PartId>,
        basis: &Basis,
        macros: &MacroTable,
        lower: &mut Planner<'_>,
    ) -> Result<Attempt, FileError> {
        let mut opening = Opening::of(&self.folders.build)?;
        let mut waiting: Vec<PartId> = parts.iter().copied().collect();
        while let Some(part) = waiting.pop() {
            for output in opening.take(&self.board.parts[part].name) {
                let Ok(file) = output.parse::<Location>() else { return Ok(Attempt::Unclear) };
                waiting.extend(self.lookers(&file).filter(|looker| parts.insert(*looker)));
            }
        }
        let wanted: BTreeSet<PartId> = parts.union(&basis.generated).copied().collect();
        for part in &basis.generated {
            opening.take(&self.board.parts[*part].name);
        }
        opening.take("");
        if !opening.serves_parts() {
            return Ok(Attempt::Unclear);
        }
        let journal = opening.end();
        let patterns = self.patterns(&basis.with_looked_at(&wanted));
        let to_plan = PartsToPlan { wanted: &wanted, patterns, macros: macros.clone() };
        let Some(mut plan) = lower(to_plan) else { return Ok(Attempt::Unclear) };
        let Some(rest) = self.sweep.sealed.steps.checked_sub(journal.all().count()) else {
            return Ok(Attempt::Unclear);
        };
        plan.rest = rest;
        let status = self.trusted(&journal);
        let more = self.more(&plan, &journal, &status, parts);
        if !more.is_empty() {
            return Ok(Attempt::More(more));
        }
        Ok(Attempt::Planned(Box::new((plan, journal, status))))
    }

    fn patterns(&self, parts: &BTreeSet<PartId>) -> Vec<&Glob> {
        let mut patterns = Vec::new();
        for part in parts.iter().map(|part| &self.board.parts[*part]) {
            patterns.extend(part.sources.iter().flat_map(|rule| &rule.globs));
            if let Some(generator) = part.kind.generator() {
                patterns.extend(generator.reads());
            }
        }
        patterns
    }

    /// The parts that look at what was not made before, or is not made as before, and are not planned yet.
    fn more(&self, plan: &Plan, journal: &Journal, status: &StatusMemo, parts: &BTreeSet<PartId>) -> BTreeSet<PartId> {
        let tokens = TokenMemo::default();
        let judge = Judge::new(plan, journal, self.store, status, &tokens);
        let mut quick = QuickJudge::new(&judge);
        let mut more = BTreeSet::new();
        for (_, step) in plan.steps.iter() {
            let touched = step.part.is_some_and(|part| parts.contains(&part));
            let is_new = journal.packed(&step.name).is_none();
            if is_new || !touched && !quick.is_current(step, &Ahead::default()) {
                more.extend(step.part);
                more.extend(step.writes.iter().flat_map(|write| self.lookers(write)));
            }
        }
        &more - parts
    }

    /// Takes a content for that of a file which is as it was.
    fn trust(&self, status: &StatusMemo, at: &Location, content: Digest) {
        let path: PathBuf = at.path(self.folders);
        if let Some(stamp) = self.sweep.status(&path) {
            status.trust(&path, stamp, content);
        }
    }

    /// Contents of files that are as they were, as the records say.
    fn trusted(&self, journal: &Journal) -> StatusMemo {
        let status = StatusMemo::default();
        let mut known = HashSet::new();
        for note in journal.all().filter_map(|record| record.note.as_ref()) {
            let outputs = note.outputs.iter().map(|(file, content, _)| (*file, *content));
            for (look, content) in outputs.chain(note.inputs.iter().copied()) {
                if !known.insert(look) {
                    continue;
                }
                match journal.text(look).parse::<Look>() {
                    Ok(Look::Content(at)) => self.trust(&status, &at, journal.digest(content)),
                    Ok(Look::Footing(class)) => {
                        let generation = journal.digest(content);
                        let all = self.store.footings(&class);
                        let footing = all.into_iter().find(|footing| footing.generation == generation);
                        for (look, content) in footing.map_or(vec![], |footing| footing.looks) {
                            if let Ok(Look::Content(at)) = look.parse() {
                                self.trust(&status, &at, content);
                            }
                        }
                    }
                    // Their digests are not those of contents.
                    Ok(_) | Err(_) => {}
                }
            }
        }
        status
    }
}
