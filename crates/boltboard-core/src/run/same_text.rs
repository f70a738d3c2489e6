//! Is the text that a compile reads after preprocessing the same as before a change? Then its result stands, and the compile
//! can be spared.
//!
//! The preprocessor runs once as things are now and once as they were: in a folder aside that holds the headers with the
//! macros and contents of then. Both texts are compared with the line marks in them.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::Duration;

use super::ended::{Ended, Trouble};
use super::execute::Executor;
use super::stands::{Account, take};
use crate::base::files::{make_folder, write_quickly};
use crate::base::{Digest, DigestOf, FileError};
use crate::launch::{Exit, Job, Outcome};
use crate::step::{Compile, Ends, Form, Location, Look, Process, Setup, Step, TEXT};

use crate::judge::{Alike, Judge, TextChanges};
use crate::reading::Tokens;
use crate::work::{Folders, time_of_files};

use crate::store::Note;

/// So many looks tell whether more of them for the same change pay.
const ENOUGH: u32 = 20;

/// What looks at texts has cost and spared so far, by change.
#[derive(Debug, Default)]
pub(super) struct Experience {
    tallies: Mutex<BTreeMap<TextChanges, Tally>>,
    /// Folders with the option headers as they were, by the macros that have changed since.
    headers: Mutex<BTreeMap<Macros, PathBuf>>,
}

/// Macros with what they stand for, `None` where they are not defined.
type Macros = BTreeMap<String, Option<String>>;

#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    looks: u32,
    same: u32,
    /// Processor time that the looks took.
    cost: Duration,
    /// How long the compiles took that they were to spare.
    compiles: Duration,
}

impl Experience {
    /// Tells whether a look is worth its time: one of twenty must spare a compile, and looks must take less than the compiles that
    /// they are to spare. That is asked of all together, because the time of a single one says as much about what else the machine
    /// did; for the same reason looks count by their processor time.
    pub fn says_look(&self, alike: &Alike) -> bool {
        let tallies = self.tallies.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let Some(tally) = tallies.get(&alike.changes).filter(|tally| tally.looks >= ENOUGH) else { return true };
        tally.same * ENOUGH >= tally.looks && tally.cost < tally.compiles
    }

    /// Returns a folder with the option headers as they were; it is made once for all compiles that see the same change.
    fn past_headers(&self, judge: &Judge<'_>, changed: &Macros) -> Result<PathBuf, FileError> {
        let mut known = self.headers.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(folder) = known.get(changed) {
            return Ok(folder.clone());
        }
        let plan = judge.plan;
        let build = plan.folders.aside().join(format!("past-{}", known.len()));
        let before = Folders { tree: plan.folders.tree.clone(), build: build.clone() };
        for header in &plan.headers {
            let value = |name: &str| match changed.get(name) {
                Some(before) => before.as_deref(),
                None => plan.macros.value(name),
            };
            write_quickly(&header.at.path(&before), header.filled(value).as_bytes())?;
        }
        known.insert(changed.clone(), build.clone());
        Ok(build)
    }

    /// Remembers a look.
    pub fn looked(&self, alike: &Alike, same: bool, cost: Duration) {
        let mut tallies = self.tallies.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let tally = tallies.entry(alike.changes.clone()).or_default();
        tally.looks += 1;
        tally.same += u32::from(same);
        tally.cost += cost;
        tally.compiles += Duration::from_millis(alike.note.work_ms);
    }
}

/// What a look at the text after preprocessing came to.
enum Outlook {
    /// It is the same, so what was made then stands, for these inputs.
    Same(Note),
    /// It is another one, or nothing can be said; its digest if it is known.
    Other(Option<Digest>),
}

impl Executor<'_> {
    /// Runs a compile, unless a look at its text after preprocessing shows that an earlier result stands.
    pub(super) fn compile(
        &self,
        step: &Step,
        compile: &Compile,
        aside: &Path,
        alike: Option<Alike>,
        passed: &dyn Fn(),
    ) -> Result<Ended, Trouble> {
        // What only preprocesses would be spared nothing by that.
        let looks = |alike: &Alike| compile.form != Form::Text && self.experience.says_look(alike);
        let Some(alike) = alike.filter(looks) else {
            return self.process(step, aside, None, passed);
        };
        let mut cost = Duration::ZERO;
        let look = self.look(step, compile, aside, &alike, &mut cost)?;
        self.experience.looked(&alike, matches!(look, Outlook::Same(_)), cost);
        let _ = std::fs::remove_dir_all(aside.join("past"));
        match look {
            Outlook::Same(note) => Ok(Ended::Spared { note, in_place: alike.in_place }),
            Outlook::Other(text) => self.process(step, aside, text, passed),
        }
    }

    /// Looks at the texts of now and of then. `cost` grows by the processor time that it takes.
    fn look(
        &self,
        step: &Step,
        compile: &Compile,
        aside: &Path,
        alike: &Alike,
        cost: &mut Duration,
    ) -> Result<Outlook, Trouble> {
        let unknown = Ok(Outlook::Other(None));
        let started = time_of_files();
        let setup = Setup { ends: Ends::Preprocessed, ..self.setup(aside, None) };
        let Process { job, lists, .. } = self.process_of(step, &setup)?;
        let Some(text) = self.preprocessed(&job, &setup, cost) else { return unknown };
        let Ok(Some(reckoned)) = self.reckoned(step, compile, &lists, started) else { return unknown };
        // An edited file that the preprocessor does not read is one that the assembler takes in as it is.
        let read: BTreeSet<Location> = reckoned.inputs.iter().cloned().collect();
        if !alike.changes.files.is_subset(&read) {
            return unknown;
        }
        let before = match alike.note.text {
            Some(text) => Some(text),
            None => match self.past(step, compile, alike, &aside.join("past"))? {
                None => None,
                Some(past) => {
                    let setup = Setup { folders: &past.folders, defines: Some(&past.defines), ..setup };
                    let Process { job, .. } = self.process_of(step, &setup)?;
                    self.preprocessed(&job, &setup, cost)
                }
            },
        };
        if before != Some(text) {
            return Ok(Outlook::Other(Some(text)));
        }
        if reckoned.found.unclear {
            return unknown;
        }
        let old = &alike.note;
        let (outputs, said, work) = (old.outputs.clone(), old.said.clone(), Duration::from_millis(old.work_ms));
        let (stands, _) = self.stands_by_rules(step, reckoned, None, false);
        let Some(note) = self.observed(step, Account { stands, started, outputs, said, work }) else { return unknown };
        let note = Note { text: Some(text), memory: old.memory, ..note };
        self.store.add_note(&step.base_key(), &note, None)?;
        Ok(Outlook::Same(note))
    }

    /// Runs a preprocessor; `None` when it fails, which the compile then tells better.
    fn preprocessed(&self, job: &Job, setup: &Setup<'_>, cost: &mut Duration) -> Option<Digest> {
        let outcome = self.launch.run(job).ok()?;
        *cost += outcome.used.cpu;
        if outcome.exit != Exit::Code(0) {
            return None;
        }
        let text = take(&setup.aside.join(TEXT), |file| std::fs::read(file).ok())?;
        Some(text_digest(&outcome, &text, setup.folders))
    }
}

/// A compile's files as they were, in a folder aside.
struct Past {
    /// The folders to run in.
    folders: Folders,
    /// The macros that are given as flags.
    defines: Macros,
}

impl Executor<'_> {
    /// Puts the files of an earlier compile together. `None` when some content is no longer kept, or when an edit moved text
    /// within a line, which may count even where the text is the same.
    ///
    /// # Errors
    /// The folder aside cannot be written.
    fn past(&self, step: &Step, compile: &Compile, alike: &Alike, aside: &Path) -> Result<Option<Past>, FileError> {
        let (judge, defines) = (self.judge, &compile.setting.defines);
        let (plan, changes) = (judge.plan, &alike.changes);
        let now = &plan.folders;
        let of_tree = |location: &Location| matches!(location, Location::Tree(_));
        let tree = if changes.files.iter().any(of_tree) { aside.join("tree") } else { now.tree.clone() };
        let before = Folders { tree: tree.clone(), build: aside.to_path_buf() };
        make_folder(&before.made())?;
        for (text, digest) in &alike.note.inputs {
            let location = match text.parse::<Look>() {
                Ok(Look::Content(location)) => location,
                Ok(_) => continue,
                Err(_) => return Ok(None),
            };
            let wanted = match &location {
                Location::Tree(_) => tree != now.tree,
                Location::Made(_) => true,
                Location::Object(_) | Location::Output(_) | Location::System(_) => false,
            };
            if !wanted {
                continue;
            }
            let (from, to) = (location.path(now), location.path(&before));
            make_folder(to.parent().unwrap_or(aside))?;
            if !changes.files.contains(&location) {
                symlink(&from, &to).map_err(FileError::on("make the link", &to))?;
                continue;
            }
            let (Some(then), Ok(now)) = (judge.store.read(digest), std::fs::read(&from)) else { return Ok(None) };
            if !Tokens::stand_alike(&then, &now, step.dialects()) {
                return Ok(None);
            }
            std::fs::write(&to, then).map_err(FileError::on("write", &to))?;
        }
        let kept = self.experience.past_headers(judge, &changes.macros)?;
        let kept = Folders { tree: now.tree.clone(), build: kept };
        for header in &plan.headers {
            let to = header.at.path(&before);
            make_folder(to.parent().unwrap_or(aside))?;
            symlink(header.at.path(&kept), &to).map_err(FileError::on("make the link", &to))?;
        }
        let mut then = defines.clone();
        for (name, value) in &changes.macros {
            let of_header = plan.macros.entries.contains_key(name) && !defines.contains_key(name);
            match value {
                _ if of_header => {}
                Some(value) => {
                    then.insert(name.clone(), Some(value.clone()));
                }
                None => {
                    then.remove(name);
                }
            }
        }
        Ok(Some(Past { folders: before, defines: then }))
    }
}

/// Returns the digest of a preprocessor's text and of what it said, byte for byte, but for the folders of this build where marks of lines
/// name them: the compiler maps these itself.
fn text_digest(outcome: &Outcome, text: &[u8], ran_in: &Folders) -> Digest {
    let named = [(folder_name(&ran_in.made()), &b"made"[..]), (folder_name(&ran_in.tree), &b"."[..])];
    let mut digest = DigestOf::default();
    for line in text.split_inclusive(|c| *c == b'\n').chain(outcome.stderr.split_inclusive(|c| *c == b'\n')) {
        digest.add(&mapped(line, &named));
    }
    digest.add(b"said");
    digest.end()
}

/// A line with its folder mapped, if it is a mark: `# 12 "folder/file" 1`.
fn mapped<'l>(line: &'l [u8], named: &[(Vec<u8>, &[u8])]) -> Cow<'l, [u8]> {
    let Some(quote) = line.strip_prefix(b"# ").and_then(|_| line.iter().position(|c| *c == b'"')) else {
        return Cow::Borrowed(line);
    };
    let numbered = line[2..quote].iter().all(|c| c.is_ascii_digit() || *c == b' ');
    let rest = &line[quote + 1..];
    let known = named.iter().find(|(folder, _)| {
        rest.strip_prefix(&folder[..]).is_some_and(|rest| matches!(rest.first(), Some(b'/' | b'"')))
    });
    match known.filter(|_| numbered) {
        Some((folder, name)) => Cow::Owned([&line[..=quote], name, &rest[folder.len()..]].concat()),
        None => Cow::Borrowed(line),
    }
}

/// A folder as a mark spells it.
fn folder_name(folder: &Path) -> Vec<u8> {
    folder.as_os_str().as_encoded_bytes().to_vec()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn change(name: &str) -> TextChanges {
        TextChanges { macros: [(name.to_string(), None)].into(), ..TextChanges::default() }
    }

    #[test]
    fn folders_are_mapped_in_marks_of_lines_alone() {
        let named = [(b"/t/work/made".to_vec(), &b"made"[..]), (b"/t".to_vec(), &b"."[..])];
        for (case, line, want) in [
            ("a mark", "# 1 \"/t/a.h\" 1\n", "# 1 \"./a.h\" 1\n"),
            ("of a made header", "# 12 \"/t/work/made/b.h\"\n", "# 12 \"made/b.h\"\n"),
            ("of another folder", "# 1 \"/tree/a.h\"\n", "# 1 \"/tree/a.h\"\n"),
            ("code", "const char *d = \"/t/a.h\";\n", "const char *d = \"/t/a.h\";\n"),
            ("a pragma", "# pragma x \"/t/a.h\"\n", "# pragma x \"/t/a.h\"\n"),
        ] {
            assert_eq!(String::from_utf8_lossy(&mapped(line.as_bytes(), &named)), want, "{case}");
        }
    }

    #[test]
    fn looks_go_on_as_long_as_they_spare_more_than_they_take() {
        let times = |ms: u64| Duration::from_millis(ms);
        for (case, looks, same, cost_ms, compile_ms, want) in [
            ("too few to tell", 19, 0, 500, 1, true),
            ("all the same, and cheap", 40, 40, 10, 30, true),
            ("one of twenty the same", 40, 2, 10, 30, true),
            ("fewer", 40, 1, 10, 30, false),
            ("as dear as compiles", 40, 40, 30, 30, false),
        ] {
            let experience = Experience::default();
            let alike =
                |work_ms| Alike { note: Note { work_ms, ..Note::default() }, changes: change("FOG"), in_place: true };
            (0..looks).for_each(|n| experience.looked(&alike(compile_ms), n < same, times(cost_ms)));
            assert_eq!(experience.says_look(&alike(compile_ms)), want, "{case}");
            assert_eq!(experience.says_look(&alike(1)), want, "{case}: all together count, not this one");
            let other = Alike { changes: change("LAMP"), ..alike(compile_ms) };
            assert!(experience.says_look(&other), "{case}: of another change nothing is known");
        }
    }
}
