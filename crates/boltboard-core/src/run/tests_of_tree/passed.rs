//! What tests that passed stood on, so that they are not run again before something of it changes.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::TestsInput;
use super::one::absolute;
use crate::base::files::{read_text, write_quickly};
use crate::base::{Digest, FileError};
use crate::board::{Making, PartId, SourceFile, TestDef, Variable};
use crate::run::stands::Seeing;
use crate::step::{Location, Look};
use crate::watch::Sight;

/// What a test that passed stood on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Passed {
    /// All that it says of itself.
    inputs: Digest,
    /// What it was seen to look at, in kept form, with what stood for it.
    looks: Vec<(String, Digest)>,
    /// Where it looked in vain.
    absent: Vec<String>,
}

/// What tests that passed stood on, by name.
#[derive(Debug, Default)]
pub(super) struct PassedBefore {
    place: PathBuf,
    pub inputs: BTreeMap<String, Passed>,
}

impl PassedBefore {
    pub fn load(place: PathBuf) -> PassedBefore {
        let text = read_text(&place).ok().flatten().unwrap_or_default();
        PassedBefore { place, inputs: serde_json::from_str(&text).unwrap_or_default() }
    }

    pub fn save(&self) -> Result<(), FileError> {
        write_quickly(&self.place, serde_json::to_string(&self.inputs).unwrap_or_default().as_bytes())
    }
}

impl TestsInput<'_> {
    /// Returns the digest of all that a test runs and reads, as far as it says so; none when it is given a folder of sources,
    /// of which it may read anything.
    pub(super) fn inputs_of(&self, test: &TestDef) -> Option<Digest> {
        let (input, folders) = (self.plan_input, &self.plan.folders);
        let board = input.board;
        let mut words: Vec<String> = vec![test.limit_seconds.to_string()];
        for interp in &test.command {
            let word = absolute(input, interp);
            let path = Path::new(&word);
            let of_sources = [&folders.tree, &board.tree.board_root].iter().any(|root| path.starts_with(root));
            if of_sources && path.is_dir() {
                return None;
            }
            words.push(self.status.digest(path).map_or(String::new(), |digest| digest.to_string()));
            words.push(word);
        }
        for file in test.input.iter().chain(&test.output) {
            let path = match file {
                SourceFile::Tree(path) => path.below(&folders.tree),
                SourceFile::Beside(path) => path.below(&board.tree.board_root),
                SourceFile::Part(part) => input.main_output(*part).path(folders),
            };
            words.push(self.status.digest(&path).map_or(String::new(), |digest| digest.to_string()));
        }
        words.push(format!("{:?} {:?}", test.success, test.folder));
        for (name, value) in &test.environment {
            let value = match value {
                Variable::Set(text) => absolute(input, text),
                Variable::Passed => input.tools.variables.get(name).cloned().unwrap_or_default(),
            };
            words.push(format!("{name}={value}"));
        }
        for option in &test.options {
            words.push(input.resolution.value(*option).to_string());
        }
        for part in self.reached(&test.parts) {
            for output in self.plan.parts.get(&part).into_iter().flatten() {
                let content = self.status.digest(&output.path(folders))?;
                words.extend([output.to_string(), content.to_string()]);
            }
        }
        Some(Digest::of_parts(words.iter().map(String::as_str)))
    }

    /// Parts with all that they use, and with the modules of programs, which may load them.
    fn reached(&self, parts: &[PartId]) -> BTreeSet<PartId> {
        let input = self.plan_input;
        let mut reached: BTreeSet<PartId> = BTreeSet::new();
        // Whatever runs may read the data of the tree.
        let data = input.board.parts.iter().filter(|(_, part)| part.kind.making() == Making::Copied);
        let mut open: Vec<PartId> = parts.iter().copied().chain(data.map(|(id, _)| id)).collect();
        let mut modules: BTreeMap<PartId, Vec<PartId>> = BTreeMap::new();
        for (module, part) in input.board.parts.iter() {
            if let Some(role) = part.kind.module() {
                modules.entry(role.program).or_default().push(module);
            }
        }
        while let Some(id) = open.pop() {
            if reached.insert(id) {
                open.extend(input.uses(&input.board.parts[id]));
                open.extend(modules.get(&id).into_iter().flatten());
            }
        }
        reached
    }

    /// What a test that passed stood on, as far as it was seen.
    pub(super) fn passed(&self, inputs: Digest, sight: Option<&Sight>) -> Passed {
        let Some(sight) = sight else { return Passed { inputs, looks: vec![], absent: vec![] } };
        let folders = &self.plan.folders;
        let work = folders.build.parent().and_then(Path::parent).map(Path::to_path_buf);
        let seeing = Seeing::new(folders, [Some(folders.aside()), work].into_iter().flatten().collect());
        let mut seen = seeing.whole(sight);
        if sight.blind.is_some() {
            seen.looks.insert(Look::Unseen);
        }
        let now = |look: &Look| (look.kept(), look.alone(folders, self.status).unwrap_or_default());
        let looks = seen.looks.iter().map(now).collect();
        Passed { inputs, looks, absent: seen.absent.iter().map(Location::kept).collect() }
    }

    /// Tells whether all that a test stood on when it passed is as it was.
    pub(super) fn stands(&self, passed: Option<&Passed>, inputs: Digest) -> bool {
        let folders = &self.plan.folders;
        let look = |(look, then): &(String, Digest)| {
            let now = look.parse::<Look>().ok().and_then(|look| look.alone(folders, self.status));
            now == Some(*then)
        };
        let absent = |place: &String| place.parse::<Location>().is_ok_and(|at| !at.path(folders).exists());
        passed.is_some_and(|passed| {
            passed.inputs == inputs && passed.looks.iter().all(look) && passed.absent.iter().all(absent)
        })
    }
}
