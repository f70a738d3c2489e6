//! Would a step make the same again? If not, why not?
//!
//! This is the one place that answers "can this step see that change?". A step's result stands while its command and tool
//! are the same, every file that it read has the same content, nothing lies where a header was looked for in vain, and
//! every option macro that the files it read name stands for the same.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::{Arc, OnceLock};

use super::interface::interface_digest;
use super::location::Location;
use super::outright;
use super::step::{Action, Command, Plan, Step, StepId, ToolPlace};
use super::tokens::Tokens;
use super::usage::{NameIndex, TokenMemo, Usage};
use super::verdict::{Ahead, Alike, Coming, Judged, Reason, TextChanges, Verdict};
use crate::base::Digest;
use crate::board::OptionId;
use crate::store::{Journal, Note, StatusMemo, StepRecord, Store};

/// Names of the time, which the compiler knows; what they stand for here is when the build is as if made.
const CLOCK: [&str; 3] = ["__DATE__", "__TIME__", "__TIMESTAMP__"];

static CLOCK_NAMES: OnceLock<NameIndex> = OnceLock::new();

/// Judges the steps of one plan.
pub struct Judge<'a> {
    /// The plan.
    pub plan: &'a Plan,
    /// What the steps last did.
    pub journal: &'a Journal,
    /// Results of any profile and day.
    pub store: &'a Store,
    /// Contents of files.
    pub status: &'a StatusMemo,
    /// Names in files.
    pub tokens: &'a TokenMemo,
}

impl Judge<'_> {
    /// Returns the digest of a step's command and tool: what is the same whatever the files hold.
    pub fn base_key(&self, step: &Step) -> Digest {
        if let (Action::Compile { setting, .. }, Some(source)) = (&step.action, step.source()) {
            let (setting, source) = (setting.digest.to_string(), source.kept());
            return Digest::of_parts(["compile 3", &setting, &source, &step.name]);
        }
        let mut parts = vec!["step 2".to_string(), step.verb().to_string(), self.tool_identity(step).to_string()];
        parts.extend(step.command());
        match &step.action {
            Action::Compile { .. } => {}
            Action::Run(command) => {
                let Command { folder, success, .. } = &**command;
                parts.push(folder.kept());
                parts.push(format!("{success:?}"));
            }
            Action::Write { content } => parts.push(Digest::of(content.as_bytes()).to_string()),
            Action::Copy => {}
            Action::Link { target } => parts.push(target.clone()),
        }
        parts.extend(step.writes.iter().map(Location::kept));
        Digest::of_parts(parts.iter().map(String::as_str))
    }

    /// Returns the digest of the tool that runs a step.
    pub fn tool_identity(&self, step: &Step) -> Digest {
        step.tool().map_or(Digest::of(b"none"), |tool| tool.identity())
    }

    /// Returns what a macro stands for in a step, `None` when it is no macro that carries an option or flag.
    fn macro_now(&self, step: &Step, name: &str) -> Option<(Option<String>, Option<OptionId>)> {
        if let Some(value) = self.defines(step).and_then(|defines| defines.get(name)) {
            return Some((value.clone(), None));
        }
        if CLOCK.contains(&name) {
            return Some((Some(self.plan.epoch.to_string()), None));
        }
        self.plan.macros.entries.get(name).map(|entry| (entry.stands_for.clone(), Some(entry.option)))
    }

    /// Returns what a macro stands for in a step, `None` when it is not defined.
    pub(super) fn macro_value<'s>(&'s self, step: &'s Step, name: &str) -> Option<Cow<'s, str>> {
        match self.defines(step).and_then(|defines| defines.get(name)) {
            Some(value) => value.as_deref().map(Cow::Borrowed),
            None if CLOCK.contains(&name) => Some(Cow::Owned(self.plan.epoch.to_string())),
            None => self.plan.macros.value(name).map(Cow::Borrowed),
        }
    }

    /// Returns the macros given as flags to a step.
    fn defines<'s>(&self, step: &'s Step) -> Option<&'s BTreeMap<String, Option<String>>> {
        match &step.action {
            Action::Compile { setting, .. } => Some(&setting.defines),
            Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => None,
        }
    }

    /// Returns the digest of the names of all macros that a step could see.
    pub fn names_digest(&self, step: &Step) -> Digest {
        let of_headers = self.plan.macros.index().digest;
        match self.defines(step).filter(|defines| !defines.is_empty()) {
            None => of_headers,
            Some(defines) => {
                let of_headers = of_headers.to_string();
                Digest::of_parts(std::iter::once(of_headers.as_str()).chain(defines.keys().map(String::as_str)))
            }
        }
    }

    /// Returns the macros that the files of a compile name, with what they stand for.
    pub fn seen_macros<'t>(
        &self,
        step: &Step,
        files: impl IntoIterator<Item = &'t Arc<Tokens>>,
        reads_header: bool,
    ) -> Vec<(String, Option<String>)> {
        let empty = BTreeMap::new();
        let (carried, defines) = (&self.plan.macros, self.defines(step).unwrap_or(&empty));
        let mut seen: BTreeSet<&str> = BTreeSet::new();
        let mut usage = Usage::default();
        files.into_iter().for_each(|tokens| usage.add(tokens.clone()));
        let clock = CLOCK_NAMES.get_or_init(|| NameIndex::of(CLOCK));
        seen.extend(usage.seen(clock));
        if step.records_macros() {
            seen.extend(CLOCK);
            seen.extend(carried.entries.keys().filter(|_| reads_header).map(String::as_str));
            seen.extend(defines.keys().map(String::as_str));
        } else {
            if reads_header {
                seen.extend(usage.seen(carried.index()));
            }
            let flags = NameIndex::of(defines.keys().map(String::as_str));
            let flags = usage.seen(&flags);
            seen.extend(defines.keys().map(String::as_str).filter(|name| flags.contains(name)));
        }
        seen.into_iter().map(|name| (name.to_string(), self.macro_now(step, name).and_then(|(now, _)| now))).collect()
    }

    /// Returns what the macros that a note names stand for now.
    pub fn macros_of(&self, step: &Step, note: &Note) -> Vec<Option<String>> {
        note.macros.iter().map(|(name, _)| self.macro_now(step, name).and_then(|(now, _)| now)).collect()
    }

    fn content(&self, step: &Step, location: &Location, ahead: &Ahead) -> Result<Option<Digest>, StepId> {
        let content = match ahead.coming(location) {
            Some(Coming::Known(digest)) => Some(*digest),
            Some(Coming::Open(step)) => return Err(*step),
            None => self.status.digest(&location.path(&self.plan.folders)),
        };
        Ok(content.map(|content| self.counted(step, location, content)))
    }

    /// Returns the digest by which a file counts for a step: that of its content, or of a shared library's interface.
    pub fn counted(&self, step: &Step, location: &Location, content: Digest) -> Digest {
        if !step.sees_interface(location) {
            return content;
        }
        let read = || {
            let here = std::fs::read(location.path(&self.plan.folders)).ok();
            let right = here.filter(|bytes| Digest::of(bytes) == content);
            right.or_else(|| self.store.read(&content)).and_then(|bytes| interface_digest(&bytes))
        };
        self.store.derived("interface", &content, &read).unwrap_or(content)
    }

    /// Judges a step, given what earlier steps will make.
    pub fn judge(&self, step: &Step, ahead: &Ahead) -> Judged {
        let base_key = self.base_key(step);
        let mut reasons = match self.journal.get(&step.name) {
            None => vec![Reason::New],
            Some(record) => self.against_record(step, &record, &base_key, ahead),
        };
        if reasons.is_empty() {
            return Judged { verdict: Verdict::Current, reasons };
        }
        if step.reads.iter().any(|read| matches!(ahead.coming(read), Some(Coming::Open(_)))) {
            // What else has changed counts even when the earlier result comes out the same.
            let sure = reasons.iter().any(|reason| !matches!(reason, Reason::Follows(_)));
            let verdict = if sure { Verdict::Run } else { Verdict::Follows };
            return Judged { verdict, reasons };
        }
        let in_process = !matches!(step.action, Action::Compile { .. } | Action::Run(_));
        if !in_process
            && let Some(note) = self.store.notes(&base_key).into_iter().find(|note| self.stands(step, note, ahead))
        {
            return Judged { verdict: Verdict::FromStore(Box::new(note)), reasons };
        }
        let only_follows = reasons.iter().all(|reason| matches!(reason, Reason::Follows(_)));
        let verdict = if only_follows { Verdict::Follows } else { Verdict::Run };
        reasons.dedup();
        Judged { verdict, reasons }
    }

    /// Looks for an earlier result of a compile that differs from what would be made now in macros and in the content of
    /// headers at most, so that its text after preprocessing may be the same.
    pub fn alike(&self, step: &Step) -> Option<Alike> {
        if !step.is_preprocessed() || step.records_macros() {
            return None;
        }
        let base_key = self.base_key(step);
        let record = self.journal.get(&step.name).filter(|record| record.base_key == base_key);
        if let Some(record) = record
            && let Some(note) = &record.note
        {
            let reasons = self.against_record(step, &record, &base_key, &Ahead::default());
            if let Some(changes) = self.text_changes(step, &reasons) {
                return Some(Alike { note: note.clone(), changes, in_place: true });
            }
        }
        let kept = self.store.notes(&base_key).into_iter().filter_map(|note| {
            let changes = self.text_changes(step, &self.against_note(step, &note, &Ahead::default()))?;
            note.outputs.iter().all(|o| self.store.has(&o.digest)).then_some(Alike { note, changes, in_place: false })
        });
        kept.min_by_key(|alike| alike.changes.macros.len() + alike.changes.files.len())
    }

    /// Returns the changes that reasons tell of when a compile may not see them in its text after preprocessing, and can see
    /// nothing else.
    pub(super) fn text_changes(&self, step: &Step, reasons: &[Reason]) -> Option<TextChanges> {
        let changes = TextChanges::of(step, reasons)?;
        let source = || std::fs::read(step.source()?.path(&self.plan.folders)).ok();
        let now: Vec<Option<Cow<'_, str>>> = changes.macros.keys().map(|name| self.macro_value(step, name)).collect();
        let pairs = changes.macros.iter().zip(&now);
        let of_macros: outright::Changes<'_> =
            pairs.map(|((name, before), now)| (name.as_str(), (before.as_deref(), now.as_deref()))).collect();
        let sure = !of_macros.is_empty() && source().is_some_and(|text| outright::surely_differs(&text, &of_macros));
        (!sure).then_some(changes)
    }

    fn stands(&self, step: &Step, note: &Note, ahead: &Ahead) -> bool {
        self.against_note(step, note, ahead).is_empty() && note.outputs.iter().all(|o| self.store.has(&o.digest))
    }

    fn against_record(&self, step: &Step, record: &StepRecord, base_key: &Digest, ahead: &Ahead) -> Vec<Reason> {
        let mut reasons = Vec::new();
        if record.base_key != *base_key {
            reasons.extend(self.command_change(step, record));
        }
        let Some(note) = &record.note else {
            reasons.push(Reason::Unsettled);
            return reasons;
        };
        let command = reasons.iter().any(|reason| matches!(reason, Reason::Command { .. }));
        // What a command reads anew, or no longer, stands among its words.
        let said = |reason: &Reason| command && matches!(reason, Reason::Added(_) | Reason::Dropped(_));
        reasons.extend(self.against_note(step, note, ahead).into_iter().filter(|reason| !said(reason)));
        for output in &note.outputs {
            let Ok(location) = output.location.parse::<Location>() else { continue };
            let path = location.path(&self.plan.folders);
            match (&step.action, self.status.digest(&path)) {
                (Action::Link { target }, _) => {
                    if std::fs::read_link(&path).ok().as_deref() != Some(Path::new(target)) {
                        reasons.push(Reason::OutputMissing(location));
                    }
                }
                (_, None) => reasons.push(Reason::OutputMissing(location)),
                (_, Some(digest)) if digest != output.digest => reasons.push(Reason::OutputEdited(location)),
                (_, Some(_)) => {}
            }
        }
        reasons
    }

    fn command_change(&self, step: &Step, record: &StepRecord) -> Vec<Reason> {
        if let Action::Write { .. } = &step.action {
            return vec![Reason::Text];
        }
        let command = step.command();
        let missing = |from: &[String], other: &[String]| -> Vec<String> {
            from.iter().filter(|word| !other.contains(word)).cloned().collect()
        };
        let (added, removed) = (missing(&command, &record.command), missing(&record.command, &command));
        let mut reasons = Vec::new();
        if record.tool != self.tool_identity(step)
            && let Some(tool) = step.tool()
        {
            reasons.push(Reason::Tool(tool.name.clone()));
        }
        if !added.is_empty() || !removed.is_empty() || reasons.is_empty() {
            reasons.push(Reason::Command { added, removed });
        }
        reasons
    }

    fn against_note(&self, step: &Step, note: &Note, ahead: &Ahead) -> Vec<Reason> {
        let mut reasons = Vec::new();
        let mut inputs = Vec::new();
        for (text, digest) in &note.inputs {
            let Ok(location) = text.parse::<Location>() else {
                reasons.push(Reason::Unsettled);
                continue;
            };
            // A compile and a link read what they find; every other step reads what it declares.
            if !step.may_find(&location) && !step.reads.contains(&location) {
                reasons.push(Reason::Dropped(location));
                continue;
            }
            match self.content(step, &location, ahead) {
                Ok(Some(now)) if now == *digest => {}
                Ok(Some(_)) => reasons.push(Reason::Edited(location.clone())),
                Ok(None) => reasons.push(Reason::Gone(location.clone())),
                Err(id) => reasons.push(Reason::Follows(id)),
            }
            inputs.push(location);
        }
        for read in step.reads.iter().filter(|read| !inputs.contains(read)) {
            reasons.push(Reason::Added(read.clone()));
        }
        for text in &note.absent {
            if let Ok(location) = text.parse::<Location>()
                && location.path(&self.plan.folders).exists()
            {
                reasons.push(Reason::Appeared(location));
            }
        }
        reasons.extend(self.macro_changes(step, note, &inputs));
        if note.macro_names != self.names_digest(step) {
            reasons.extend(self.new_macros(step, note, &inputs));
        }
        reasons
    }

    fn macro_changes(&self, step: &Step, note: &Note, inputs: &[Location]) -> Vec<Reason> {
        let mut reasons = Vec::new();
        for (name, before) in &note.macros {
            let (now, option) = self.macro_now(step, name).unwrap_or((None, None));
            if now != *before {
                let (name, before) = (name.clone(), before.clone());
                let named_in = self.named_in(&name, inputs);
                reasons.push(Reason::Macro { name, option, before, now, named_in });
            }
        }
        reasons
    }

    /// Macros that the board has gained since: those that the files name and that are defined now.
    fn new_macros(&self, step: &Step, note: &Note, inputs: &[Location]) -> Vec<Reason> {
        let reads_header = note.macros.iter().any(|(name, _)| self.plan.macros.entries.contains_key(name));
        let tokens: Vec<Arc<Tokens>> = inputs.iter().filter_map(|input| self.tokens_of(input)).collect();
        let seen = self.seen_macros(step, &tokens, reads_header || !self.plan.headers.is_empty());
        let known = |name: &str| note.macros.iter().any(|(n, _)| n == name);
        seen.into_iter()
            .filter(|(name, now)| now.is_some() && !known(name))
            .map(|(name, now)| {
                let option = self.plan.macros.entries.get(&name).map(|entry| entry.option);
                let named_in = self.named_in(&name, inputs);
                Reason::Macro { name, option, before: None, now, named_in }
            })
            .collect()
    }

    /// Returns the first file of the tree that names a macro outright.
    fn named_in(&self, name: &str, inputs: &[Location]) -> Option<Location> {
        let of_tree = inputs.iter().filter(|l| matches!(l, Location::Tree(_) | Location::Made(_)));
        of_tree.into_iter().find(|l| self.tokens_of(l).is_some_and(|tokens| tokens.names(name))).cloned()
    }

    fn tokens_of(&self, location: &Location) -> Option<Arc<Tokens>> {
        let path = location.path(&self.plan.folders);
        self.tokens.of(&path, &self.status.digest(&path)?)
    }
}

impl Step {
    /// Tells whether running the step starts a process.
    pub fn has_process(&self) -> bool {
        matches!(self.action, Action::Compile { .. } | Action::Run(_))
    }

    /// Returns why its tool cannot be run, if it cannot.
    pub fn absent_tool(&self) -> Option<&str> {
        match &self.tool()?.place {
            ToolPlace::Absent(why) => Some(why),
            ToolPlace::Host { .. } | ToolPlace::Made(_) => None,
        }
    }
}
