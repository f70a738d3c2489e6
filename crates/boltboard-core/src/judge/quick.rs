//! The quick look at a step: is it current? It goes by numbers, looks at each file once however many steps read it, and leaves
//! every answer but a plain yes to the [`Judge`].

use super::step::{Judge, has_mode};
use super::verdict::Ahead;
use crate::base::Digest;
use crate::journal::PackedNote;
use crate::step::{Location, Look, Sees, Step};

/// What was found out about a file.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Found {
    Unknown,
    Nothing,
    Content(Digest),
}

/// Looks at the steps of one build.
pub struct QuickJudge<'a> {
    judge: &'a Judge<'a>,
    /// By the number of a file's name in the journal.
    contents: Vec<Found>,
    present: Vec<Option<bool>>,
}

impl<'a> QuickJudge<'a> {
    /// Makes one that has looked at nothing.
    pub fn new(judge: &'a Judge<'a>) -> QuickJudge<'a> {
        let texts = judge.journal.texts();
        QuickJudge { judge, contents: vec![Found::Unknown; texts], present: vec![None; texts] }
    }

    /// Tells whether a step is current for sure, given what earlier steps will make.
    pub fn is_current(&mut self, step: &Step, ahead: &Ahead) -> bool {
        let (judge, journal) = (self.judge, self.judge.journal);
        let Some(record) = journal.packed(&step.name) else { return false };
        let Some(note) = &record.note else { return false };
        let plain = match step.sees() {
            Sees::Text => true,
            Sees::Class | Sees::All => self.has_reads(step),
            Sees::Declared => step.leads_to().is_none(),
        };
        plain
            && record.base_key == step.base_key()
            && journal.digest(note.macro_names) == judge.names_digest(step)
            && self.same_macros(step, note)
            && step.unmade(|kept| note.outputs.iter().any(|(at, ..)| journal.text(*at) == kept)).next().is_none()
            && note.outputs.iter().all(|(file, content, mode)| {
                self.holds(*file, journal.digest(*content), ahead) && self.has_mode(*file, *mode)
            })
            && note.inputs.iter().all(|(file, content)| self.holds(*file, journal.digest(*content), ahead))
            && !note.absent.iter().any(|file| self.is_present(*file))
    }

    /// Forgets a file that a step has written.
    pub fn forget(&mut self, location: &Location) {
        let at = || location.clone();
        let looks = [
            Look::Content(at()),
            Look::Interface(at()),
            Look::Data(at()),
            Look::Mode(at()),
            Look::Status(at()),
            Look::Leads(at()),
        ];
        for number in looks.iter().filter_map(|look| self.judge.journal.number(&look.kept())) {
            self.contents[number as usize] = Found::Unknown;
            self.present[number as usize] = None;
        }
    }

    fn has_reads(&self, step: &Step) -> bool {
        let journal = self.judge.journal;
        let Some(note) = journal.packed(&step.name).and_then(|record| record.note.as_ref()) else { return false };
        let number = |look: Look| journal.number(&look.kept());
        let known = |read: &Location| {
            let looks = [Look::Content(read.clone()), Look::Interface(read.clone()), Look::Data(read.clone())];
            let numbers = looks.map(number);
            note.inputs.iter().any(|(look, _)| numbers.contains(&Some(*look)))
        };
        step.reads.iter().all(known)
    }

    fn same_macros(&self, step: &Step, note: &PackedNote) -> bool {
        let (judge, journal) = (self.judge, self.judge.journal);
        if note.macros.is_empty() {
            return true;
        }
        let forms = judge.forms(note.inputs.iter().map(|(look, _)| journal.text(*look)));
        let text = |number: u32| journal.text(number);
        judge.same_macros(step, note.macros.iter().map(|(name, value)| (text(*name), value.map(text))), &forms)
    }

    fn holds(&mut self, look: u32, content: Digest, ahead: &Ahead) -> bool {
        let name = self.judge.journal.text(look);
        if ahead.touches(name.split_once('>').map_or(name, |(_, at)| at)) {
            return false;
        }
        let found = &mut self.contents[look as usize];
        if *found == Found::Unknown {
            let look = name.parse::<Look>().ok();
            let now = look.and_then(|look| self.judge.look_now(&look, &Ahead::default()).ok()?);
            *found = now.map_or(Found::Nothing, Found::Content);
        }
        if *found == Found::Content(content) {
            return true;
        }
        // Of what the programs behind a tool stand on, more than one state may stand.
        matches!(name.parse(), Ok(Look::Footing(class)) if self.judge.footing_stands(&class, content))
    }

    fn has_mode(&self, file: u32, mode: u32) -> bool {
        let location = self.judge.journal.text(file).parse::<Location>();
        location.is_ok_and(|at| has_mode(&at.path(&self.judge.plan.folders), mode))
    }

    fn is_present(&mut self, file: u32) -> bool {
        let judge = self.judge;
        *self.present[file as usize].get_or_insert_with(|| {
            let location = judge.journal.text(file).parse::<Location>();
            location.is_ok_and(|location| location.path(&judge.plan.folders).exists())
        })
    }
}
