//! Handing over what a build made: each file gets its record, see [`crate::record`].

use std::collections::BTreeSet;
use std::path::PathBuf;

use super::fault::SessionFault;
use super::host::Wants;
use super::open::{Resolved, Session};
use super::plan::Planned;
use crate::base::RelPath;
use crate::base::files::{files_below, read_regular, remove_file};
use crate::plan::{PlanInput, Recorder, is_recorded, tells_of};
use crate::record::{Amiss, Handed, Item, Record, content, mark_of};
use crate::run::{BuildReport, Difference, Unlike};
use crate::step::{Location, StepId};
use crate::survey::{Language, Tools};

/// Which of the finished parts are as they are to be.
pub(super) enum Finished<'r> {
    /// All of the tree.
    All,
    /// Those of these steps.
    Of(&'r BTreeSet<StepId>),
    /// Those that the build got to.
    Done(&'r BuildReport),
}

impl Session {
    /// Hands over what is finished; `removed` tells whether finished parts went away. Returns what was noticed on the way.
    pub(super) fn hand_over(
        &self,
        resolved: &Resolved,
        planned: &Planned,
        finished: &Finished<'_>,
        removed: bool,
    ) -> Result<Handed, SessionFault> {
        let (plan, folders) = (&planned.plan, &planned.folders);
        let tools = self.tools_of_records(resolved);
        let recorder = self.recorder(resolved, planned, &tools);
        let done: BTreeSet<StepId> = match finished {
            Finished::Done(report) => {
                let ran = report.ran.iter().map(|(id, _)| *id);
                ran.chain(report.from_store.iter().chain(&report.written).copied()).collect()
            }
            Finished::All | Finished::Of(_) => BTreeSet::new(),
        };
        let is_finished = |id: &StepId| match finished {
            Finished::All => true,
            Finished::Of(steps) => steps.contains(id),
            Finished::Done(_) => done.contains(id),
        };
        let mut items = self.items(planned, &recorder, &is_finished);
        let parts: BTreeSet<String> = items.iter().map(|item| item.part.clone()).collect();
        let mut handed = Handed::load(folders);
        if matches!(finished, Finished::All) && plan.rest > 0 {
            // Parts that nothing touches are not planned; what all records say may be another all the same.
            for (name, path) in handed.behind(recorder.common()) {
                let part = self.board.part(&name).filter(|_| !parts.contains(&name));
                items.extend(part.map(|part| Item { path, part: name, says: recorder.says(part) }));
            }
        }
        if handed.is_empty() && matches!(finished, Finished::All) && plan.rest == 0 {
            // Nobody knows what lies there: an earlier program left finished parts there themselves.
            let wanted: BTreeSet<PathBuf> = items.iter().map(|item| item.path.below(&folders.outputs())).collect();
            for stray in files_below(&folders.outputs()).difference(&wanted) {
                remove_file(stray)?;
            }
        }
        let record = |item: &Item| self.board.part(&item.part).and_then(|part| recorder.record(part));
        handed.hand_over(folders, &items, &record)?;
        if plan.rest == 0 || removed {
            handed.drop_gone(folders)?;
        }
        handed.close(folders)?;
        Ok(handed)
    }

    /// What the records of a build say alike.
    pub fn common_record(&self, resolved: &Resolved, planned: &Planned) -> Record {
        Recorder::of(self.plan_input(resolved, planned)).common_record()
    }

    /// The compilers that records tell of. A plan of what was touched knows only those for the files that it looked at.
    fn tools_of_records(&self, resolved: &Resolved) -> Tools {
        let parts = || self.board.parts.iter().filter(|(id, _)| resolved.makes(&self.board, *id));
        let any = |language| parts().any(|(_, part)| tells_of(part, language));
        self.tools_by(
            &|option| resolved.resolution.value(option).to_string(),
            Wants { cxx: any(Language::Cxx), fortran: any(Language::Fortran) },
        )
    }

    fn recorder<'a>(&'a self, resolved: &'a Resolved, planned: &'a Planned, tools: &'a Tools) -> Recorder<'a> {
        Recorder::of(PlanInput { tools, ..self.plan_input(resolved, planned) })
    }

    /// The files that some steps of a plan finish.
    fn items(&self, planned: &Planned, recorder: &Recorder<'_>, wanted: &dyn Fn(&StepId) -> bool) -> Vec<Item> {
        let mut items = Vec::new();
        for (_, step) in planned.plan.steps.iter().filter(|(id, _)| wanted(id)) {
            let Some(part) = step.part else { continue };
            let outputs = step.writes.iter().filter_map(|write| match write {
                Location::Output(path) => Some(path.clone()),
                _ => None,
            });
            let item = |path| Item { path, part: self.board.parts[part].name.clone(), says: recorder.says(part) };
            items.extend(outputs.map(item));
        }
        items
    }

    /// The finished parts that are not handed over as they would be now, whether or not a step is to run for them.
    pub fn to_hand_over(&self, resolved: &Resolved, planned: &Planned) -> BTreeSet<Location> {
        let handed = Handed::load(&planned.folders);
        let tools = self.tools_of_records(resolved);
        let recorder = self.recorder(resolved, planned, &tools);
        let items = self.items(planned, &recorder, &|_| true).into_iter();
        let others = items.filter(|item| !handed.is_current(&item.path, item.says, &planned.folders));
        others.map(|item| Location::Output(item.path)).collect()
    }

    /// What would be handed over anew, beside what steps are to make: what is amiss where it was handed over, and how many files get
    /// another record.
    pub fn handing_ahead(&self, resolved: &Resolved, planned: &Planned) -> HandingAhead {
        let handed = Handed::load(&planned.folders);
        // Of compilers, only the record of a part tells.
        let common = Recorder::of(self.plan_input(resolved, planned)).common();
        let is_recorded = |(name, _): &(String, RelPath)| {
            self.board.part(name).is_some_and(|part| is_recorded(&self.board.parts[part]))
        };
        HandingAhead {
            amiss: handed.amiss(&planned.folders),
            records: handed.behind(common).iter().filter(|one| is_recorded(one)).count(),
        }
    }

    /// Compares what was handed over with what would be: what differs, and what lies there beside it. What differs is taken away, so that
    /// the next build hands it over again.
    pub(super) fn verify_handed(
        &self,
        resolved: &Resolved,
        planned: &Planned,
    ) -> Result<Vec<Difference>, SessionFault> {
        let folders = &planned.folders;
        let tools = self.tools_of_records(resolved);
        let recorder = self.recorder(resolved, planned, &tools);
        let mut strays = files_below(&folders.outputs());
        let mut differences = Vec::new();
        for item in self.items(planned, &recorder, &|_| true) {
            let (plain, out) = (item.path.below(&folders.parts()), item.path.below(&folders.outputs()));
            strays.remove(&out);
            if plain.is_symlink() {
                let same = std::fs::read_link(&plain).ok() == std::fs::read_link(&out).ok();
                differences.extend((!same).then(|| differs(&item.path, Unlike::From(0))));
                continue;
            }
            let Ok(bytes) = read_regular(&plain) else { continue };
            let record = self.board.part(&item.part).and_then(|part| recorder.record(part));
            let wanted = content(&bytes, record, &mark_of(&bytes)).concat();
            let how = match read_regular(&out) {
                Err(_) => Unlike::Missing,
                Ok(there) if there == wanted => continue,
                Ok(there) => {
                    let same = there.iter().zip(&wanted).take_while(|(a, b)| a == b).count();
                    remove_file(&out)?;
                    Unlike::From(same as u64)
                }
            };
            differences.push(differs(&item.path, how));
        }
        let strays = strays.iter().filter_map(|stray| RelPath::of(stray, &folders.outputs()));
        differences.extend(strays.map(|path| differs(&path, Unlike::Extra)));
        Ok(differences)
    }
}

/// What would be handed over anew, beside what steps are to make.
#[derive(Debug, Clone, Default)]
pub struct HandingAhead {
    /// What is not as it was handed over, though the finished part is.
    pub amiss: Vec<(String, Amiss)>,
    /// How many files get another record.
    pub records: usize,
}

impl HandingAhead {
    /// Tells whether there is nothing.
    pub fn is_empty(&self) -> bool {
        self.amiss.is_empty() && self.records == 0
    }
}

fn differs(path: &RelPath, how: Unlike) -> Difference {
    Difference { file: Location::Output(path.clone()).to_string(), step: None, how }
}
