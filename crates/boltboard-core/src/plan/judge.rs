//! Would a step make the same again? If not, why not?
//!
//! This is the one place that answers "can this step see that change?". A step's result stands while its command and tool
//! are the same, every file that it read has the same content, nothing lies where a header was looked for in vain, and
//! every option macro that the files it read name stands for the same.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock};

use super::location::Location;
use super::look::Look;
use super::macros::MacroEntry;
use super::step::{Action, Command, Plan, Step, ToolPlace};
use super::verdict::{Ahead, Alike, Coming, Judged, Reason, TextChanges, Verdict};
use crate::base::Digest;
use crate::board::OptionId;
use crate::reading::{Changes, Dialects, NameIndex, TokenMemo, Tokens, Usage, surely_differs};
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
    /// What footings come to now.
    pub(super) footings: Footings,
}

/// What stands for the footings of classes now, looked up once; `None` where one is not known.
#[derive(Debug, Default)]
pub(super) struct Footings {
    pub now: Mutex<BTreeMap<Digest, Option<Digest>>>,
}

impl<'a> Judge<'a> {
    /// Makes a judge that has looked at nothing.
    pub fn new(
        plan: &'a Plan,
        journal: &'a Journal,
        store: &'a Store,
        status: &'a StatusMemo,
        tokens: &'a TokenMemo,
    ) -> Judge<'a> {
        Judge { plan, journal, store, status, tokens, footings: Footings::default() }
    }
}

impl Judge<'_> {
    /// Returns the digest of a step's command and tool: what is the same whatever the files hold.
    pub fn base_key(&self, step: &Step) -> Digest {
        if let (Action::Compile { setting, .. }, Some(source)) = (&step.action, step.source()) {
            let (setting, source) = (setting.digest.to_string(), source.kept());
            return Digest::of_parts(["compile 4", &setting, &source, &step.name]);
        }
        let mut parts = vec!["step 3".to_string(), step.verb().to_string(), self.tool_identity(step).to_string()];
        parts.extend(step.command());
        match &step.action {
            Action::Compile { .. } => {}
            Action::Run(command) => {
                let Command { folder, success, .. } = &**command;
                parts.push(folder.kept());
                parts.push(format!("{success:?}"));
                parts.push(self.plan.search_path.clone());
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
        let words = match &step.action {
            Action::Compile { setting, .. } => setting.defining_words(),
            Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => Vec::new(),
        };
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
        let now = changes.macros.keys().map(|name| self.macro_value(step, name, &Forms::All));
        let now: Vec<Option<Cow<'_, str>>> = now.collect();
        let pairs = changes.macros.iter().zip(&now);
        let of_macros: Changes<'_> =
            pairs.map(|((name, before), now)| (name.as_str(), (before.as_deref(), now.as_deref()))).collect();
        let sure =
            !of_macros.is_empty() && source().is_some_and(|text| surely_differs(&text, &of_macros, step.dialects()));
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
                (_, Some(_)) if !has_mode(&path, output.mode) => reasons.push(Reason::OutputEdited(location)),
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
        if !added.is_empty() || !removed.is_empty() {
            reasons.push(Reason::Command { added, removed });
        } else if reasons.is_empty() {
            // Where its tool looks for further programs.
            reasons.push(step.tool().map_or(Reason::Unsettled, |tool| Reason::Tool(tool.name.clone())));
        }
        reasons
    }

    fn against_note(&self, step: &Step, note: &Note, ahead: &Ahead) -> Vec<Reason> {
        let mut reasons = Vec::new();
        let mut inputs = Vec::new();
        for (text, digest) in &note.inputs {
            let Ok(look) = text.parse::<Look>() else {
                reasons.push(Reason::Unsettled);
                continue;
            };
            // A process looks at what it finds; every other step reads what it declares.
            if let Look::Content(location) = &look
                && !step.may_find()
                && !step.reads.contains(location)
            {
                reasons.push(Reason::Dropped(location.clone()));
                continue;
            }
            match self.look_now(&look, ahead) {
                Ok(Some(now)) if now == *digest => {}
                Ok(_) if matches!(look, Look::Footing(_)) => reasons.extend(self.tool_changes(step, &look)),
                Ok(now) => reasons.push(match (&look, now) {
                    (Look::Content(at) | Look::Interface(at), Some(_)) => Reason::Edited(at.clone()),
                    (Look::Content(at) | Look::Interface(at) | Look::Form(at), None) => Reason::Gone(at.clone()),
                    (Look::Unseen, _) => Reason::Unseen,
                    _ => Reason::Looks(look.clone()),
                }),
                Err(id) => reasons.push(Reason::Follows(id)),
            }
            if let Look::Content(at) | Look::Interface(at) = look {
                inputs.push(at);
            }
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
        let forms = self.forms(note.inputs.iter().map(|(look, _)| look.as_str()));
        reasons.extend(self.macro_changes(step, note, &inputs, &forms));
        if note.macro_names != self.names_digest(step) {
            reasons.extend(self.new_macros(step, note, &inputs, &forms));
        }
        reasons
    }

    fn macro_changes(&self, step: &Step, note: &Note, inputs: &[Location], forms: &Forms) -> Vec<Reason> {
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
    fn new_macros(&self, step: &Step, note: &Note, inputs: &[Location], forms: &Forms) -> Vec<Reason> {
        let tokens: Vec<Arc<Tokens>> = inputs.iter().filter_map(|input| self.tokens_of(step, input)).collect();
        let seen = self.seen_macros(step, &tokens, forms);
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
        let path = location.path(&self.plan.folders);
        self.tokens.of(&path, &self.status.digest(&path)?, step.dialects())
    }
}

/// Tells whether a file is one itself, and has these permission bits.
pub(super) fn has_mode(path: &Path, mode: u32) -> bool {
    let status = std::fs::symlink_metadata(path);
    status.is_ok_and(|status| status.is_file() && status.permissions().mode() & 0o777 == mode)
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

impl Step {
    /// Tells whether running the step starts a process.
    pub fn has_process(&self) -> bool {
        matches!(self.action, Action::Compile { .. } | Action::Run(_))
    }

    /// Returns how its text is read, if it compiles one.
    pub fn dialects(&self) -> &Dialects {
        static OTHERS: std::sync::LazyLock<Dialects> = std::sync::LazyLock::new(Dialects::default);
        match &self.action {
            Action::Compile { setting, .. } => &setting.flags.dialects,
            Action::Run(_) | Action::Write { .. } | Action::Copy | Action::Link { .. } => &OTHERS,
        }
    }

    /// Returns why its tool cannot be run, if it cannot.
    pub fn absent_tool(&self) -> Option<&str> {
        match &self.tool()?.place {
            ToolPlace::Absent(why) => Some(why),
            ToolPlace::Host { .. } | ToolPlace::Made(_) => None,
        }
    }
}
