//! What the macros of options and flags stand for in a step, and which of them its files can name.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use super::step::Judge;
use super::verdict::Reason;
use crate::base::Digest;
use crate::board::OptionId;
use crate::plan::MacroEntry;
use crate::reading::{NameIndex, Tokens, Usage};
use crate::step::{Location, Look, Step};
use crate::store::Note;

/// Names of the time, which the compiler knows; what they stand for here is when the build is as if made.
const CLOCK: [&str; 3] = ["__DATE__", "__TIME__", "__TIMESTAMP__"];

static CLOCK_NAMES: OnceLock<NameIndex> = OnceLock::new();

/// A file that a compile read.
#[derive(Debug)]
pub struct ReadFile {
    /// Which one.
    pub at: Location,
    /// Its content.
    pub content: Digest,
    /// What it names, where names count.
    pub tokens: Arc<Tokens>,
}

/// The option headers that a step reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Forms {
    /// All that there are.
    All,
    /// These.
    These(BTreeSet<Location>),
}

impl Forms {
    fn any(&self) -> bool {
        match self {
            Forms::All => true,
            Forms::These(read) => !read.is_empty(),
        }
    }
}

impl Judge<'_> {
    /// Returns what a macro stands for in a step that reads these option headers, `None` when it is no macro that carries an option or
    /// flag there.
    fn macro_now(&self, step: &Step, name: &str, forms: &Forms) -> Option<(Option<String>, Option<OptionId>)> {
        if let Some(value) = self.defines(step).and_then(|defines| defines.get(name)) {
            return Some((value.clone(), None));
        }
        if CLOCK.contains(&name) {
            return Some((Some(self.plan.epoch.to_string()), None));
        }
        let entry = self.plan.macros.entries.get(name)?;
        let stands_for = entry.stands_for.clone().filter(|_| self.is_read(entry, forms));
        Some((stands_for, Some(entry.option)))
    }

    /// Tells whether a macro's header is among those that a step reads.
    fn is_read(&self, entry: &MacroEntry, forms: &Forms) -> bool {
        match forms {
            Forms::All => true,
            Forms::These(read) => {
                self.plan.headers.iter().any(|header| header.id == entry.header && read.contains(&header.at))
            }
        }
    }

    /// The option headers among what a note looked at.
    pub fn forms<'t>(&self, inputs: impl IntoIterator<Item = &'t str>) -> Forms {
        let look = |text: &str| match text.strip_prefix("form>").map(str::parse) {
            Some(Ok(at)) => Some(at),
            Some(Err(_)) | None => None,
        };
        Forms::These(inputs.into_iter().filter_map(look).collect())
    }

    /// Returns what a macro stands for in a step, `None` when it is not defined.
    pub(super) fn macro_value<'s>(&'s self, step: &'s Step, name: &str, forms: &Forms) -> Option<Cow<'s, str>> {
        match self.defines(step).and_then(|defines| defines.get(name)) {
            Some(value) => value.as_deref().map(Cow::Borrowed),
            None if CLOCK.contains(&name) => Some(Cow::Owned(self.plan.epoch.to_string())),
            None => {
                let entry = self.plan.macros.entries.get(name).filter(|entry| self.is_read(entry, forms))?;
                entry.stands_for.as_deref().map(Cow::Borrowed)
            }
        }
    }

    /// Returns the macros given as flags to a step.
    fn defines<'s>(&self, step: &'s Step) -> Option<&'s BTreeMap<String, Option<String>>> {
        step.compile().map(|compile| &compile.setting.defines)
    }

    /// Returns the digest of the names of all macros that a step could see: nothing but a compile sees any.
    pub fn names_digest(&self, step: &Step) -> Digest {
        if !step.is_preprocessed() {
            return Digest::default();
        }
        let of_headers = self.plan.macros.index().digest;
        match self.defines(step).filter(|defines| !defines.is_empty()) {
            None => of_headers,
            Some(defines) => {
                let of_headers = of_headers.to_string();
                Digest::of_parts(std::iter::once(of_headers.as_str()).chain(defines.keys().map(String::as_str)))
            }
        }
    }

    /// Returns the macros that the files of a compile name, with what they stand for in a step that reads these option headers. What a
    /// macro stands for can name further ones, so that counts as well, and so do the words of the command.
    pub fn seen_macros<'t>(
        &self,
        step: &Step,
        files: impl IntoIterator<Item = &'t Arc<Tokens>>,
        forms: &Forms,
    ) -> Vec<(String, Option<String>)> {
        let empty = BTreeMap::new();
        let (carried, defines) = (&self.plan.macros, self.defines(step).unwrap_or(&empty));
        let reads_header = forms.any();
        if step.records_macros() {
            return self.all_macros(step, forms);
        }
        let mut seen: BTreeSet<&str> = BTreeSet::new();
        let clock = CLOCK_NAMES.get_or_init(|| NameIndex::of(CLOCK));
        let mut usage = Usage::default();
        files.into_iter().for_each(|tokens| usage.add(tokens.clone()));
        let dialects = step.dialects();
        let words = step.compile().map_or_else(Vec::new, |compile| compile.setting.defining_words());
        words.iter().for_each(|word| usage.add(Arc::new(Tokens::of(word.as_bytes(), dialects))));
        let flags = NameIndex::of(defines.keys().map(String::as_str));
        loop {
            let before = seen.len();
            let mut now: BTreeSet<&str> = usage.seen(clock);
            if reads_header {
                now.extend(usage.seen(carried.index()));
            }
            let of_flags = usage.seen(&flags);
            now.extend(defines.keys().map(String::as_str).filter(|name| of_flags.contains(name)));
            for name in now {
                if seen.insert(name)
                    && let Some(value) = self.macro_value(step, name, forms).filter(|_| !CLOCK.contains(&name))
                {
                    usage.add(Arc::new(Tokens::of(value.as_bytes(), dialects)));
                }
            }
            if seen.len() == before {
                break;
            }
        }
        let now = |name: &str| self.macro_now(step, name, forms).and_then(|(now, _)| now);
        seen.into_iter().map(|name| (name.to_string(), now(name))).collect()
    }

    /// Returns what the macros that a note names stand for now.
    pub fn macros_as_now(&self, step: &Step, note: &Note) -> Vec<Option<String>> {
        let forms = self.forms(note.inputs.iter().map(|(look, _)| look.as_str()));
        note.macros.iter().map(|(name, _)| self.macro_now(step, name, &forms).and_then(|(now, _)| now)).collect()
    }

    /// Returns all macros that a compile could name, with what they stand for.
    pub fn all_macros(&self, step: &Step, forms: &Forms) -> Vec<(String, Option<String>)> {
        let carried = self.plan.macros.entries.keys().filter(|_| forms.any()).map(String::as_str);
        let flags = self.defines(step).into_iter().flat_map(|defines| defines.keys().map(String::as_str));
        let all: BTreeSet<&str> = CLOCK.into_iter().chain(carried).chain(flags).collect();
        let now = |name: &str| self.macro_now(step, name, forms).and_then(|(now, _)| now);
        all.into_iter().map(|name| (name.to_string(), now(name))).collect()
    }

    /// Returns a note that stands as it would be taken down now, where other macros could be seen when it was: all that its files name is
    /// worked out once, and not with every look. `None` where there is nothing to renew, or where that takes more than the texts of its files.
    pub fn renewed(&self, step: &Step, note: &Note) -> Option<Note> {
        let names = self.names_digest(step);
        if note.macro_names == names || !step.is_preprocessed() || step.records_macros() {
            return None;
        }
        let files = note.inputs.iter().filter_map(|(look, _)| match look.parse().ok()? {
            Look::Content(at) => Some(at),
            _ => None,
        });
        let files: Option<Vec<ReadFile>> = files.map(|at| self.read_file(step, &at)).collect();
        let forms = self.forms(note.inputs.iter().map(|(look, _)| look.as_str()));
        Some(Note { macros: self.macros_in(step, &files?, &forms), macro_names: names, ..note.clone() })
    }

    /// Returns the macros that the files of a compile name, the option headers aside, with what they stand for in it.
    pub fn macros_in(&self, step: &Step, files: &[ReadFile], forms: &Forms) -> Vec<(String, Option<String>)> {
        let path = |file: &ReadFile| file.at.path(&self.plan.folders);
        if files.iter().any(|file| path(file).extension().is_some_and(|e| e == "gch" || e == "pch")) {
            // Nobody reads what one that was compiled before names.
            return self.all_macros(step, forms);
        }
        if !files.iter().any(|file| file.tokens.pragmas) {
            return self.seen_macros(step, files.iter().map(|file| &file.tokens), forms);
        }
        // What is handed to a pragma may stand in any string.
        let dialects = step.dialects().clone().everywhere();
        let read = |file: &ReadFile| {
            let tokens = self.tokens.of(&path(file), &file.content, &dialects);
            tokens.unwrap_or_else(|| Arc::clone(&file.tokens))
        };
        let tokens: Vec<Arc<Tokens>> = files.iter().map(read).collect();
        self.seen_macros(step, &tokens, forms)
    }

    /// Tells whether macros stand for what they stood for then.
    pub(super) fn same_macros<'m>(
        &self,
        step: &Step,
        then: impl IntoIterator<Item = (&'m str, Option<&'m str>)>,
        forms: &Forms,
    ) -> bool {
        then.into_iter().all(|(name, value)| self.macro_value(step, name, forms).as_deref() == value)
    }

    pub(super) fn macro_changes(&self, step: &Step, note: &Note, inputs: &[Location], forms: &Forms) -> Vec<Reason> {
        let mut reasons = Vec::new();
        for (name, before) in &note.macros {
            let (now, option) = self.macro_now(step, name, forms).unwrap_or((None, None));
            if now != *before {
                let (name, before) = (name.clone(), before.clone());
                let named_in = self.named_in(step, &name, inputs);
                reasons.push(Reason::Macro { name, option, before, now, named_in });
            }
        }
        reasons
    }

    /// Macros that the board has gained since: those that the files name and that are defined now.
    pub(super) fn new_macros(&self, step: &Step, note: &Note, inputs: &[Location], forms: &Forms) -> Vec<Reason> {
        let files: Vec<ReadFile> = inputs.iter().filter_map(|input| self.read_file(step, input)).collect();
        let seen = self.macros_in(step, &files, forms);
        let known = |name: &str| note.macros.iter().any(|(n, _)| n == name);
        seen.into_iter()
            .filter(|(name, now)| now.is_some() && !known(name))
            .map(|(name, now)| {
                let option = self.plan.macros.entries.get(&name).map(|entry| entry.option);
                let named_in = self.named_in(step, &name, inputs);
                Reason::Macro { name, option, before: None, now, named_in }
            })
            .collect()
    }

    /// Returns the first file of the tree that names a macro outright.
    fn named_in(&self, step: &Step, name: &str, inputs: &[Location]) -> Option<Location> {
        let of_tree = inputs.iter().filter(|l| matches!(l, Location::Tree(_) | Location::Made(_)));
        of_tree.into_iter().find(|l| self.tokens_of(step, l).is_some_and(|tokens| tokens.names(name))).cloned()
    }

    fn tokens_of(&self, step: &Step, location: &Location) -> Option<Arc<Tokens>> {
        self.read_file(step, location).map(|file| file.tokens)
    }

    /// Reads a file as a compile does; `None` where there is none.
    fn read_file(&self, step: &Step, at: &Location) -> Option<ReadFile> {
        let path = at.path(&self.plan.folders);
        let content = self.status.digest(&path)?;
        let tokens = self.tokens.of(&path, &content, step.dialects())?;
        Some(ReadFile { at: at.clone(), content, tokens })
    }
}
