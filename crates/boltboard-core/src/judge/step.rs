//! Would a step make the same again? If not, why not?
//!
//! This is the one place that answers "can this step see that change?". A step's result stands while its command and tool
//! are the same, every file that it read has the same content, nothing lies where a header was looked for in vain, and
//! every option macro that the files it read name stands for the same.

use std::borrow::Cow;
use std::collections::HashMap;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::sync::{Arc, Mutex};

use foldhash::fast::FixedState;
use tracing::debug;

use super::footing::Footings;
use super::interface::LibraryData;
use super::macros::Forms;
use super::verdict::{Ahead, Alike, Coming, Judged, Reason, TextChanges, Verdict};
use crate::base::Digest;
use crate::journal::{Journal, StepRecord};
use crate::plan::Plan;
use crate::reading::{Changes, TokenMemo, surely_differs};
use crate::step::{Location, Step};

use crate::store::Store;

use crate::work::StatusMemo;

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
    /// Whether something lies where steps looked in vain, by the place's kept form; of places where no step makes anything.
    pub(super) present: Mutex<HashMap<String, bool, FixedState>>,
    /// The data of shared libraries, by content.
    pub(super) data: Mutex<HashMap<Digest, Arc<LibraryData>>>,
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
        Judge {
            plan,
            journal,
            store,
            status,
            tokens,
            footings: Footings::default(),
            present: Mutex::default(),
            data: Mutex::default(),
        }
    }
}

impl Judge<'_> {
    /// Judges a step, given what earlier steps will make.
    pub fn judge(&self, step: &Step, ahead: &Ahead) -> Judged {
        let judged = self.judged(step, ahead);
        debug!(step = step.name, verdict = judged.verdict.name(), reasons = ?judged.reasons, "judged");
        judged
    }

    fn judged(&self, step: &Step, ahead: &Ahead) -> Judged {
        let base_key = step.base_key();
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
        if step.has_process()
            && let Some(note) = self.likely_notes(step, &base_key).find(|note| self.stands(step, note, ahead))
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
        let base_key = step.base_key();
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
            match (step.leads_to(), self.status.digest(&path)) {
                (Some(target), _) => {
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
        if step.text().is_some() {
            return vec![Reason::Text];
        }
        let command = step.command();
        let missing = |from: &[String], other: &[String]| -> Vec<String> {
            from.iter().filter(|word| !other.contains(word)).cloned().collect()
        };
        let (added, removed) = (missing(&command, &record.command), missing(&record.command, &command));
        let mut reasons = Vec::new();
        if record.tool != step.tool_identity()
            && let Some(tool) = step.tool()
        {
            reasons.push(Reason::Tool(tool.name.clone()));
        }
        if !added.is_empty() || !removed.is_empty() || reasons.is_empty() {
            reasons.push(Reason::Command { added, removed });
        }
        reasons
    }
}

/// Tells whether a file is one itself, and has these permission bits.
pub(super) fn has_mode(path: &Path, mode: u32) -> bool {
    let status = std::fs::symlink_metadata(path);
    status.is_ok_and(|status| status.is_file() && status.permissions().mode() & 0o777 == mode)
}
