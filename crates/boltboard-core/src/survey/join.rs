//! Questions joined into few runs of the compiler, and split again where a joint run fails.
//!
//! A run that succeeds answers all its questions with yes. One that fails names the lines, libraries or flags it stumbles over;
//! those questions are answered with no and the others are asked again without them, so that every yes comes from a run without
//! a single error. Where no question can be blamed, the set is cut in halves.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::Duration;

use object::{Object, ObjectSection, ObjectSymbol};
use serde::{Deserialize, Serialize};

use super::compiler::{Compiler, Family};
use super::question::{Body, HEADERS_MARK, Question, RunKey, STUB_WORDS, mark, program, symbol};
use super::{Joining, Language, Prober, search};
use crate::base::parse_dependencies;
use crate::launch::{Exit, Job};

/// A compiler that takes longer over one check is ended.
const LIMIT: Duration = Duration::from_secs(60);
/// How many lines of a compiler's words are kept for a question.
const MAX_WORDS: usize = 12;

/// The answer to one question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Answer {
    /// Whether it is yes.
    pub yes: bool,
    /// The number or text that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// The compiler's own words about it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<String>,
}

/// Answers all questions, from the memo where it knows them. Where there is no compiler, a question gets no answer.
pub(super) fn answer(questions: &BTreeSet<Question>, prober: Prober<'_>) -> BTreeMap<Question, Answer> {
    let mut answers = BTreeMap::new();
    let mut groups: BTreeMap<(RunKey, usize), Vec<&Question>> = BTreeMap::new();
    for (number, question) in questions.iter().enumerate() {
        let Ok(compiler) = prober.tools.compiler(question.setting.language) else { continue };
        let kept = prober.memo.recall(&question.digest(&compiler.identity));
        if let Some(answer) = kept.and_then(|text| serde_json::from_str(&text).ok()) {
            answers.insert(question.clone(), answer);
            continue;
        }
        let apart = if prober.joining == Joining::Alone { number } else { 0 };
        groups.entry((question.run_key(), apart)).or_default().push(question);
    }
    let asker = Asker { prober, runs: AtomicUsize::new(0), answers: Mutex::default() };
    let work: Vec<((RunKey, usize), Vec<&Question>)> = groups.into_iter().collect();
    in_parallel(&work, prober.host.jobs, |((key, _), set)| asker.settle(key, set));
    answers.extend(asker.answers.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
    answers
}

/// Does something with every item, a few at a time.
pub(super) fn in_parallel<T: Sync>(items: &[T], jobs: usize, work: impl Fn(&T) + Sync) {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..jobs.clamp(1, 64).min(items.len()) {
            scope.spawn(|| {
                while let Some(item) = items.get(next.fetch_add(1, Ordering::Relaxed)) {
                    work(item);
                }
            });
        }
    });
}

/// The command that asks one question alone, and the program that it reads, for people to repeat.
pub(super) fn by_hand(question: &Question, compiler: &Compiler, prober: Prober<'_>) -> (String, String) {
    let key = question.run_key();
    let run = Run { key: &key, set: &[question], compiler, folder: Path::new("") };
    let arguments = run.arguments(prober, Extras::Leave);
    (format!("{} {}", compiler.path.display(), arguments.join(" ")), program(&key, &[question]))
}

struct Asker<'a> {
    prober: Prober<'a>,
    runs: AtomicUsize,
    answers: Mutex<BTreeMap<Question, Answer>>,
}

impl Asker<'_> {
    fn settle(&self, key: &RunKey, set: &[&Question]) {
        let mut open: Vec<&Question> = set.to_vec();
        while !open.is_empty() {
            let Ok(compiler) = self.prober.tools.compiler(open[0].setting.language) else { return };
            let folder = self.prober.host.scratch.join(format!("ask-{}", self.runs.fetch_add(1, Ordering::Relaxed)));
            let result = Run { key, set: &open, compiler, folder: &folder }.go(self.prober);
            if result.done {
                for (number, question) in open.iter().enumerate() {
                    self.keep(question, compiler, result.yes(question, number), result.files_of(question));
                }
                return;
            }
            let all = || result.words.iter().take(MAX_WORDS).cloned().collect::<Vec<_>>();
            if let [question] = open.as_slice() {
                let no = Answer { yes: false, value: None, words: all() };
                return self.keep(question, compiler, no, result.files_of(question));
            }
            let blamed = result.blame(key, &open);
            if blamed.is_empty() {
                let (left, right) = open.split_at(open.len() / 2);
                self.settle(key, left);
                return self.settle(key, right);
            }
            for (number, words) in &blamed {
                let question = open[*number];
                if matches!(question.body, Body::Readable(_)) {
                    // Another header may have spoilt it, so it is read by itself before it is called unreadable.
                    self.settle(key, &[question]);
                } else {
                    let words = words.iter().take(MAX_WORDS).cloned().collect();
                    self.keep(question, compiler, Answer { yes: false, value: None, words }, result.files_of(question));
                }
            }
            let mut number = 0;
            open.retain(|_| {
                number += 1;
                !blamed.contains_key(&(number - 1))
            });
        }
    }

    fn keep(&self, question: &Question, compiler: &Compiler, answer: Answer, files: BTreeSet<PathBuf>) {
        let text = serde_json::to_string(&answer).unwrap_or_default();
        let scratch = &self.prober.host.scratch;
        let outside = files.into_iter().filter(|file| !file.starts_with(scratch));
        let with_compiler = outside.chain([compiler.real_path.clone()]);
        self.prober.memo.keep(question.digest(&compiler.identity), &text, with_compiler);
        self.answers.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(question.clone(), answer);
    }
}

/// Whether a command asks for more than the answer: which files were read.
#[derive(Clone, Copy, PartialEq)]
enum Extras {
    Ask,
    Leave,
}

struct Run<'a> {
    key: &'a RunKey,
    set: &'a [&'a Question],
    compiler: &'a Compiler,
    folder: &'a Path,
}

impl Run<'_> {
    fn source(&self) -> &'static str {
        match self.set[0].setting.language {
            Language::Cxx => "check.cc",
            Language::C | Language::Asm | Language::AsmWithCpp => "check.c",
        }
    }

    fn arguments(&self, prober: Prober<'_>, extras: Extras) -> Vec<String> {
        let mut words: Vec<String> = prober.host.sysroot_flag().into_iter().collect();
        let extra = |words: &mut Vec<String>, more: &[&str]| {
            if extras == Extras::Ask {
                words.extend(more.iter().map(ToString::to_string));
            }
        };
        let every_error = match self.compiler.family {
            Family::Gcc => "-fmax-errors=0",
            Family::Clang => "-ferror-limit=0",
            Family::Other => "-w",
        };
        match self.key {
            RunKey::Compile(setting) | RunKey::Code(setting, _) => {
                words.extend(setting.flags.iter().cloned());
                extra(&mut words, &["-w", every_error, "-MD", "-MF", "check.d"]);
                if self.set.iter().any(|question| question.needs_object()) {
                    words.extend(["-c", self.source(), "-o", "check.o"].map(String::from));
                } else {
                    words.extend(["-fsyntax-only", self.source()].map(String::from));
                }
            }
            RunKey::Functions(setting, link) => {
                words.extend(setting.flags.iter().cloned());
                extra(&mut words, &["-w", every_error, "-MD", "-MF", "check.d"]);
                words.extend([self.source(), "-o", "check"].map(String::from));
                words.extend(link.iter().cloned());
                extra(&mut words, &["-Wl,-t"]);
            }
            RunKey::Links(_, rest) => {
                words.extend([self.source(), "-o", "check"].map(String::from));
                match self.set {
                    // As it was written, for order can matter.
                    [Question { body: Body::Links(flags), .. }] => words.extend(flags.iter().cloned()),
                    set => {
                        words.extend(rest.iter().cloned());
                        let mut seen = BTreeSet::new();
                        let libraries = set.iter().flat_map(|question| question.libraries());
                        words.extend(libraries.filter(|flag| seen.insert(flag.as_str())).cloned());
                    }
                }
                extra(&mut words, &["-Wl,-t"]);
            }
            RunKey::Flags(_) => {
                if self.compiler.family == Family::Clang {
                    words.extend(["-Werror=unknown-warning-option", "-Werror=unused-command-line-argument"].map(String::from));
                }
                words.extend(self.set.iter().filter_map(|question| flag_as_asked(question)));
                words.extend(["-fsyntax-only", self.source()].map(String::from));
            }
            RunKey::LinkFlags(_) => {
                words.extend(self.set.iter().filter_map(|question| flag_as_asked(question)));
                words.extend([self.source(), "-o", "check"].map(String::from));
            }
        }
        words
    }

    fn go(&self, prober: Prober<'_>) -> Outcome {
        let failed = |words: String| Outcome { done: false, words: vec![words], ..Outcome::default() };
        let source = self.folder.join(self.source());
        let written = std::fs::create_dir_all(self.folder).and_then(|()| std::fs::write(&source, program(self.key, self.set)));
        if let Err(e) = written {
            return failed(format!("cannot write {}: {e}", source.display()));
        }
        let job = Job {
            program: self.compiler.path.clone(),
            arguments: self.arguments(prober, Extras::Ask),
            folder: self.folder.to_path_buf(),
            environment: super::environment(prober.host),
            limit: Some(LIMIT),
        };
        let outcome = match prober.launch.run(&job) {
            Ok(outcome) => outcome,
            Err(e) => return failed(e.source.to_string()),
        };
        let stderr = outcome.stderr_text();
        let mut words: Vec<String> = stderr.lines().map(|line| line.chars().take(300).collect()).collect();
        match outcome.exit {
            Exit::TimedOut => words.push(format!("the compiler did not end within {} s", LIMIT.as_secs())),
            Exit::Signal(signal) => words.push(format!("the compiler was ended by signal {signal}")),
            Exit::Code(_) | Exit::Stopped => {}
        }
        if words.is_empty() && outcome.exit != Exit::Code(0) {
            words.push("failed without a word".into());
        }
        let dependencies = std::fs::read_to_string(self.folder.join("check.d")).unwrap_or_default();
        let mut read: BTreeSet<PathBuf> = parse_dependencies(&dependencies).into_iter().map(PathBuf::from).collect();
        read.retain(|file| file.is_absolute());
        let linked = outcome.stdout_text();
        let linked: BTreeSet<PathBuf> =
            linked.lines().map(|line| PathBuf::from(line.trim())).filter(|path| path.is_absolute()).collect();
        let object = std::fs::read(self.folder.join("check.o")).ok();
        Outcome {
            done: outcome.exit == Exit::Code(0) && !complains(self.key, &words),
            words,
            read,
            linked,
            values: object.map_or_else(BTreeMap::new, |object| values(&object, self.set)),
            library_folders: self.compiler.library_folders.clone(),
            include_folders: self.compiler.include_folders.clone(),
        }
    }
}

/// A compiler can warn of a flag that means nothing to it, and go on.
fn complains(key: &RunKey, words: &[String]) -> bool {
    matches!(key, RunKey::Flags(_) | RunKey::LinkFlags(_)) && words.iter().any(|line| means_nothing(line))
}

fn means_nothing(line: &str) -> bool {
    ["is valid for", "unknown option", "not supported", "unsupported", "ignored"].iter().any(|words| line.contains(words))
}

/// A warning that is switched off is not looked at by some compilers, so it is asked for switched on.
fn flag_as_asked(question: &Question) -> Option<String> {
    match &question.body {
        Body::Flag(flag) => Some(match flag.strip_prefix("-Wno-") {
            Some(rest) if !rest.contains('=') => format!("-W{rest}"),
            _ => flag.clone(),
        }),
        Body::LinkFlag(flag) => Some(flag.clone()),
        _ => None,
    }
}

/// What one run left behind.
#[derive(Default)]
struct Outcome {
    done: bool,
    words: Vec<String>,
    /// Files that the compile read.
    read: BTreeSet<PathBuf>,
    /// Files that the link read.
    linked: BTreeSet<PathBuf>,
    /// What the object holds, by question.
    values: BTreeMap<usize, String>,
    library_folders: Vec<PathBuf>,
    include_folders: Vec<PathBuf>,
}

impl Outcome {
    fn yes(&self, question: &Question, number: usize) -> Answer {
        let value = self.values.get(&number).cloned();
        let yes = match &question.body {
            Body::Macro(_) => value.as_deref() == Some("1"),
            Body::Text(name) => value.as_ref().is_some_and(|text| text != name),
            Body::Value(_) | Body::ByteOrder => value.is_some(),
            _ => true,
        };
        Answer { yes, value: value.filter(|_| yes && !matches!(question.body, Body::Macro(_))), words: Vec::new() }
    }

    /// The files whose change can change the answer, and the places where a new one would.
    fn files_of(&self, question: &Question) -> BTreeSet<PathBuf> {
        let mut files = BTreeSet::new();
        match &question.body {
            Body::Readable(header) => {
                files.extend(search::header_places(header, &question.setting.flags, &self.include_folders));
            }
            Body::Links(flags) => files.extend(self.libraries_of(flags)),
            Body::Function { link, .. } => {
                files.extend(self.libraries_of(link));
                files.extend(self.linked.iter().cloned());
                files.extend(self.read.iter().cloned());
            }
            Body::Flag(_) | Body::LinkFlag(_) => {}
            Body::Type(_) | Body::Member { .. } | Body::Macro(_) | Body::Value(_) | Body::Text(_) | Body::Code(_) | Body::ByteOrder => {
                files.extend(self.read.iter().cloned());
            }
        }
        for header in &question.setting.headers {
            files.extend(search::header_places(header, &question.setting.flags, &self.include_folders));
        }
        files
    }

    /// The libraries that flags name: where they were found, and the places before.
    fn libraries_of(&self, flags: &[String]) -> BTreeSet<PathBuf> {
        let own = flags.iter().filter_map(|flag| flag.strip_prefix("-L")).map(PathBuf::from);
        let folders: Vec<PathBuf> = own.chain(self.library_folders.iter().cloned()).collect();
        let names = flags.iter().filter_map(|flag| flag.strip_prefix("-l"));
        let mut files: BTreeSet<PathBuf> = names.flat_map(|name| search::library_places(name, &folders)).collect();
        let named = |file: &&PathBuf| {
            let name = file.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            flags.iter().filter_map(|flag| flag.strip_prefix("-l")).any(|library| name.starts_with(&format!("lib{library}.")))
        };
        files.extend(self.linked.iter().filter(named).cloned());
        files
    }

    /// Which questions the words are about, by number. Words about several at once blame none.
    fn blame(&self, key: &RunKey, set: &[&Question]) -> BTreeMap<usize, Vec<String>> {
        let mut blamed: BTreeMap<usize, Vec<String>> = BTreeMap::new();
        match key {
            RunKey::Compile(_) | RunKey::Code(..) => self.blame_lines(set, &mut blamed),
            RunKey::Functions(..) => {
                self.blame_lines(set, &mut blamed);
                self.blame_words(set, &mut blamed, |line, question| match &question.body {
                    Body::Function { name, .. } => line.contains("undefined") && has_word(line, name),
                    _ => false,
                });
            }
            RunKey::Links(..) => self.blame_words(set, &mut blamed, |line, question| {
                let names = |flag: &&String| {
                    has_word(line, flag) || line.contains(&format!("lib{}.", flag.trim_start_matches("-l")))
                };
                !line.contains("warning") && question.libraries().iter().any(names)
            }),
            RunKey::Flags(_) | RunKey::LinkFlags(_) => self.blame_words(set, &mut blamed, |line, question| {
                let error = line.contains("error") || line.contains("unrecognized") || means_nothing(line);
                error && flag_as_asked(question).is_some_and(|flag| names_flag(line, &flag))
            }),
        }
        blamed
    }

    /// Errors in lines that belong to a question.
    fn blame_lines(&self, set: &[&Question], blamed: &mut BTreeMap<usize, Vec<String>>) {
        let mut within: Option<usize> = None;
        for line in &self.words {
            let inclusion = line.trim_start().trim_start_matches("In file included").trim_start_matches("from").trim_start();
            let inclusion = inclusion.strip_prefix("from ").unwrap_or(inclusion);
            let place = (0..set.len()).find(|number| inclusion.starts_with(&format!("{}:", mark(*number))));
            if line.trim_start().starts_with("In file included") || line.trim_start().starts_with("from ") {
                within = place.or(within.filter(|_| line.trim_start().starts_with("from ")));
                continue;
            }
            let error = line.contains("error");
            if let Some(number) = place.or(within).filter(|_| error) {
                blamed.entry(number).or_default().push(line.clone());
            } else if error && line.starts_with(HEADERS_MARK) {
                for number in 0..set.len() {
                    blamed.entry(number).or_default().push(line.clone());
                }
            }
        }
        for words in blamed.values_mut() {
            if words.iter().any(|line| line.contains(STUB_WORDS)) {
                words.truncate(1);
            }
        }
    }

    fn blame_words(
        &self,
        set: &[&Question],
        blamed: &mut BTreeMap<usize, Vec<String>>,
        about: impl Fn(&str, &Question) -> bool,
    ) {
        for line in &self.words {
            let meant: Vec<usize> = (0..set.len()).filter(|number| about(line, set[*number])).collect();
            // Two questions may ask for one library, and then both are meant; two flags that do not go together are another matter.
            let shared = meant.iter().all(|n| matches!(set[*n].body, Body::Links(_)));
            if meant.len() == 1 || shared {
                for number in meant {
                    blamed.entry(number).or_default().push(line.clone());
                }
            }
        }
    }
}

fn has_word(line: &str, word: &str) -> bool {
    let inside = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '+');
    line.match_indices(word).any(|(at, _)| {
        let before = line[..at].chars().next_back();
        let after = line[at + word.len()..].chars().next();
        !before.is_some_and(inside) && !after.is_some_and(inside)
    })
}

/// Tells whether a line is about a flag: as a whole, without what is said to the linker only, or as name and value apart.
fn names_flag(line: &str, flag: &str) -> bool {
    let said = flag.strip_prefix("-Wl,").unwrap_or(flag);
    let first = said.split(',').next().unwrap_or(said);
    if has_word(line, said) || has_word(line, first) {
        return true;
    }
    // A linker names an unknown `-z` word alone; a compiler a bad value and its flag.
    match said.split_once(['=', ',']) {
        Some((name, value)) => (line.contains(&format!("{name}=")) || name == "-z") && has_word(line, value),
        None => false,
    }
}

/// Reads the answers that an object holds as constants.
fn values(object: &[u8], set: &[&Question]) -> BTreeMap<usize, String> {
    let Ok(file) = object::File::parse(object) else { return BTreeMap::new() };
    let mut values = BTreeMap::new();
    for (number, question) in set.iter().enumerate().filter(|(_, question)| question.needs_object()) {
        let name = symbol(number);
        let Some(found) = file.symbols().find(|s| s.name() == Ok(name.as_str())) else { continue };
        let section = found.section_index().and_then(|index| file.section_by_index(index).ok());
        let data = section.and_then(|section| section.data().ok()).unwrap_or_default();
        let at = usize::try_from(found.address()).unwrap_or(usize::MAX);
        let size = usize::try_from(found.size()).unwrap_or(0);
        // What lies in no file is zero.
        let bytes = data.get(at..at.saturating_add(size)).map_or_else(|| vec![0; size.min(64)], <[u8]>::to_vec);
        let little = file.is_little_endian();
        let value = match &question.body {
            Body::ByteOrder => Some(if little { "little" } else { "big" }.to_string()),
            Body::Text(_) => Some(plain_text(&String::from_utf8_lossy(&bytes))),
            Body::Macro(_) => bytes.first().map(ToString::to_string),
            Body::Value(_) => <[u8; 8]>::try_from(bytes.as_slice())
                .ok()
                .map(|bytes| if little { i64::from_le_bytes(bytes) } else { i64::from_be_bytes(bytes) }.to_string()),
            _ => None,
        };
        values.extend(value.map(|value| (number, value)));
    }
    values
}

/// What a macro stands for, with the quotes of texts taken off: `"1" "." "2"` is `1.2`.
fn plain_text(text: &str) -> String {
    let text = text.trim_end_matches('\0');
    let pieces: Vec<&str> = text.split('"').collect();
    if pieces.len() >= 3 { pieces.iter().skip(1).step_by(2).copied().collect() } else { text.trim().to_string() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_name_flags_and_libraries_as_whole_words() {
        for (line, flag, want) in [
            ("gcc: error: unrecognized command-line option '-fno-such'", "-fno-such", true),
            ("gcc: error: unrecognized command-line option '-fno-such-thing'", "-fno-such", false),
            ("cc1: error: bad value 'zz' for '-march=' switch", "-march=zz", true),
            ("cc1: error: bad value 'zzz' for '-march=' switch", "-march=zz", false),
            ("/usr/bin/ld: unrecognized option '--what'", "-Wl,--what", true),
            ("/usr/bin/ld: warning: -z nonsense ignored", "-Wl,-z,nonsense", true),
        ] {
            assert_eq!(names_flag(line, flag), want, "{line} / {flag}");
        }
        assert!(has_word("ld: cannot find -lz: No such file", "-lz"));
        assert!(!has_word("ld: cannot find -lzstd: No such file", "-lz"));
    }

    #[test]
    fn texts_lose_their_quotes() {
        for (text, want) in [("\"1.2.13\"\0", "1.2.13"), ("\"1\" \".\" \"2\"", "1.2"), ("0x12d0\0", "0x12d0"), ("", "")] {
            assert_eq!(plain_text(text), want, "{text}");
        }
    }
}
