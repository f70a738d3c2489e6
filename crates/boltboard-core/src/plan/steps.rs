//! All steps of a build.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::OnceLock;

use super::macros::{HeaderText, MacroTable};
use crate::base::{Arena, Digest, Epoch};
use crate::board::PartId;
use crate::step::{Location, Step, StepId};
use crate::work::Folders;

/// All steps of a build. Steps come after those whose files they read.
#[derive(Debug, Clone)]
pub struct Plan {
    /// The steps.
    pub steps: Arena<Step>,
    /// Where everything lies.
    pub folders: Folders,
    /// The option headers; compiles see them macro by macro, not as files.
    pub headers: Vec<HeaderText>,
    /// The parts that are made, with what each ends in.
    pub parts: BTreeMap<PartId, Vec<Location>>,
    /// The macros of the option headers.
    pub macros: MacroTable,
    /// The names of the parts that steps belong to.
    pub part_names: BTreeMap<PartId, String>,
    /// Variables of the environment that generators have passed on.
    pub variables: BTreeSet<String>,
    /// The time that everything is built as if at.
    pub epoch: Epoch,
    /// Where programs are looked for.
    pub search_path: String,
    /// How many steps more there are, of parts that nothing touches: they are current.
    pub rest: usize,
    /// Who makes each file, by half a digest of its kept name.
    pub(super) makers: OnceLock<HashMap<[u8; 16], StepId>>,
}

impl Plan {
    /// Returns the step that makes a file.
    pub fn maker(&self, file: &Location) -> Option<StepId> {
        let key = |file: &Location| Digest::of(file.kept().as_bytes()).half();
        let all = || self.steps.iter().flat_map(|(id, step)| step.writes.iter().map(move |write| (key(write), id)));
        self.makers.get_or_init(|| all().collect()).get(&key(file)).copied()
    }

    /// Tells whether a step is done before another one starts, whatever the order in which they become ready.
    pub fn comes_before(&self, first: StepId, step: &Step) -> bool {
        let mut seen = BTreeSet::new();
        let mut open: Vec<StepId> = Vec::new();
        let ahead = |step: &Step, open: &mut Vec<StepId>| {
            open.extend(step.after.iter().copied());
            open.extend(step.reads.iter().filter_map(|read| self.maker(read)));
        };
        ahead(step, &mut open);
        while let Some(next) = open.pop() {
            if next == first {
                return true;
            }
            if seen.insert(next) {
                ahead(&self.steps[next], &mut open);
            }
        }
        false
    }

    /// Returns the steps of these parts, with all that they wait for.
    pub fn needed_for(&self, parts: &[PartId]) -> BTreeSet<StepId> {
        let of_parts = |step: &Step| step.part.is_some_and(|part| parts.contains(&part));
        let mut open: Vec<StepId> = self.steps.iter().filter(|(_, step)| of_parts(step)).map(|(id, _)| id).collect();
        let mut needed = BTreeSet::new();
        while let Some(next) = open.pop() {
            if needed.insert(next) {
                let step = &self.steps[next];
                open.extend(step.after.iter().copied());
                open.extend(step.reads.iter().filter_map(|read| self.maker(read)));
            }
        }
        needed
    }

    /// Tells whether a file is an option header.
    pub fn is_header(&self, location: &Location) -> bool {
        self.headers.iter().any(|header| header.at == *location)
    }

    /// Returns the name of the part that a step belongs to.
    pub fn owner(&self, step: &Step) -> &str {
        step.part.map_or("option header", |part| self.part_name(part))
    }

    /// Returns the name of a part that steps belong to.
    pub fn part_name(&self, part: PartId) -> &str {
        self.part_names.get(&part).map_or("", String::as_str)
    }

    /// Returns how many steps the build has.
    pub fn count(&self) -> usize {
        self.steps.len() + self.rest
    }
}
