//! All places that a build looked at, for its seal.

use std::collections::{HashMap, HashSet};
use std::path::PathBuf;
use std::time::SystemTime;

use crate::base::{Digest, FileError};
use crate::plan::{Action, Judge, Location, Step, ToolPlace};
use crate::store::{Journal, Number, PackedNote, SealMaker, Sealed};

/// What is needed to seal a build.
#[derive(Debug, Clone)]
pub struct SealWanted {
    /// Stands for what was asked, by whom, in which environment.
    pub asked: Digest,
    /// The time before anything was looked at.
    pub started: SystemTime,
    /// Files and folders that the plan follows from.
    pub looked: Vec<PathBuf>,
    /// The folders in which programs are looked for, first to last.
    pub search_path: Vec<PathBuf>,
}

/// Seals a build of which every step is done.
///
/// # Errors
/// The seal cannot be written.
pub(super) fn seal(judge: &Judge<'_>, journal: &Journal, wanted: &SealWanted) -> Result<(), FileError> {
    let mut places = Places {
        judge,
        maker: SealMaker::new(judge.status, wanted.started),
        journal,
        contents: HashMap::new(),
        misses: HashSet::new(),
        output_bytes: 0,
    };
    for path in &wanted.looked {
        places.maker.looked(path.clone());
    }
    let mut tools: HashSet<PathBuf> = HashSet::new();
    for (_, step) in judge.plan.steps.iter() {
        let note = journal.packed(&step.name).and_then(|record| record.note.as_ref());
        let Some(()) = note.and_then(|note| places.add(step, note)) else { return Ok(()) };
        if let Some(ToolPlace::Host { path, .. }) = step.tool().map(|tool| &tool.place)
            && !tools.contains(path)
        {
            tools.insert(path.clone());
            places.maker.looked(path.clone());
            // A program of that name which comes first.
            let name = path.file_name().unwrap_or_default();
            let before = wanted.search_path.iter().take_while(|folder| path.parent() != Some(folder));
            before.for_each(|folder| places.maker.absent(folder.join(name)));
        }
    }
    let sealed = Sealed { steps: judge.plan.steps.len(), output_bytes: places.output_bytes };
    places.maker.write(&judge.plan.folders.seal(), wanted.asked, sealed)
}

struct Places<'a> {
    judge: &'a Judge<'a>,
    maker: SealMaker<'a>,
    journal: &'a Journal,
    /// What each file that was read holds now, by its number, and whether its interface is meant.
    contents: HashMap<(Number, bool), Option<Digest>>,
    misses: HashSet<Number>,
    output_bytes: u64,
}

impl Places<'_> {
    /// Adds the places of one step; `None` when its result no longer stands.
    fn add(&mut self, step: &Step, note: &PackedNote) -> Option<()> {
        let (judge, journal) = (self.judge, self.journal);
        let folders = &judge.plan.folders;
        let may_see_interface = step.links() || !step.interfaces.is_empty();
        for (file, content) in &note.inputs {
            let text = journal.text(*file);
            let interface = may_see_interface && step.sees_interface(&text.parse().ok()?);
            let maker = &mut self.maker;
            let now = self.contents.entry((*file, interface)).or_insert_with(|| {
                let location: Location = text.parse().ok()?;
                let path = location.path(folders);
                let (_, content) = judge.status.seen(&path)?;
                maker.read(path, |_| true);
                Some(if interface { judge.counted(step, &location, content) } else { content })
            });
            if *now != Some(journal.digest(*content)) {
                return None;
            }
        }
        for (file, made, _) in &note.outputs {
            let (location, made) = (journal.text(*file).parse::<Location>().ok()?, journal.digest(*made));
            let path = location.path(folders);
            match &step.action {
                Action::Link { target } => self.maker.leads(path, target),
                _ => {
                    if matches!(location, Location::Output(_)) {
                        self.output_bytes += std::fs::metadata(&path).map_or(0, |status| status.len());
                    }
                    self.maker.read(path, |content| content == made);
                }
            }
        }
        for file in &note.absent {
            if !self.misses.insert(*file) {
                continue;
            }
            let path = journal.text(*file).parse::<Location>().ok()?.path(folders);
            // Names that come or go in a folder of the tree or the host change its status; folders of the build change
            // with every build.
            let folder = path.parent().filter(|folder| !folder.starts_with(&folders.build) && folder.is_dir());
            match folder.map(std::path::Path::to_path_buf) {
                Some(folder) if self.maker.has(&folder) => {}
                Some(folder) => self.maker.looked(folder),
                None => self.maker.absent(path),
            }
        }
        Some(())
    }
}
