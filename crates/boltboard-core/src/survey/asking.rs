//! One run of a compiler: its command, what it read, and what its object tells.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::Duration;

use object::{Object, ObjectSection, ObjectSymbol};

use super::blame::{flag_as_asked, means_nothing};
use super::compiler::{Compiler, Family};
use super::inclusions::{ByName, Inclusions};
use super::join::Answer;
use super::question::{Body, Question, RunKey, Setting, program, symbol};
use super::{Language, Prober, search};
use crate::base::parse_dependencies;
use crate::launch::{Exit, Job};

/// A compiler that takes longer over one check is ended.
const LIMIT: Duration = Duration::from_secs(60);

/// Whether a command asks for more than the answer: which files were read.
#[derive(Clone, Copy, PartialEq)]
pub(super) enum Extras {
    Ask,
    Leave,
}

pub(super) struct Run<'a> {
    pub key: &'a RunKey,
    pub set: &'a [&'a Question],
    pub compiler: &'a Compiler,
    pub folder: &'a Path,
}

/// One run: what is asked in it, of whom, and where.
impl Run<'_> {
    fn source(&self) -> &'static str {
        match self.set[0].setting.language {
            Language::Cxx => "check.cc",
            Language::Fortran | Language::FortranWithCpp => "check.F90",
            Language::C | Language::Asm | Language::AsmWithCpp | Language::OwnAsm => "check.c",
        }
    }

    pub fn arguments(&self, prober: Prober<'_>, extras: Extras) -> Vec<String> {
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
            RunKey::Compile(setting) | RunKey::Object(setting) | RunKey::Code(setting, _) => {
                words.extend(setting.flags.iter().cloned());
                extra(&mut words, &["-w", every_error, "-MD", "-MF", "check.d"]);
                if matches!(self.key, RunKey::Object(_)) {
                    words.extend(["-c", self.source(), "-o", "check.o"].map(String::from));
                } else {
                    words.extend(["-fsyntax-only", self.source()].map(String::from));
                }
            }
            RunKey::Chain(_, flags) => {
                words.extend(flags.iter().cloned());
                extra(&mut words, &["-w", every_error, "-MD", "-MF", "check.d"]);
                words.extend(["-fsyntax-only", self.source()].map(String::from));
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
                    words.extend(
                        ["-Werror=unknown-warning-option", "-Werror=unused-command-line-argument"].map(String::from),
                    );
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

    /// Asks.
    pub fn go(&self, prober: Prober<'_>) -> Outcome {
        let failed = |words: String| Outcome { done: false, words: vec![words], ..Outcome::default() };
        let source = self.folder.join(self.source());
        let written =
            std::fs::create_dir_all(self.folder).and_then(|()| std::fs::write(&source, program(self.key, self.set)));
        if let Err(e) = written {
            return failed(format!("cannot write {}: {e}", source.display()));
        }
        let job = Job {
            program: self.compiler.path.clone(),
            arguments: self.arguments(prober, Extras::Ask),
            folder: self.folder.to_path_buf(),
            environment: super::environment(prober.host),
            limit: Some(LIMIT),
            ..Job::default()
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
            words.push("failed without a message".into());
        }
        let dependencies = std::fs::read_to_string(self.folder.join("check.d")).unwrap_or_default();
        let mut read: BTreeSet<PathBuf> = parse_dependencies(dependencies.as_bytes()).files.into_iter().collect();
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

/// What one run left behind.
#[derive(Default)]
pub(super) struct Outcome {
    pub done: bool,
    pub words: Vec<String>,
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
    pub fn yes(&self, question: &Question, number: usize) -> Answer {
        let value = self.values.get(&number).cloned();
        let yes = match &question.body {
            Body::Text(name) => value.as_ref().is_some_and(|text| text != name),
            Body::Value(_) => value.is_some(),
            _ => true,
        };
        Answer { yes, value: value.filter(|_| yes), words: Vec::new() }
    }

    /// Returns the files that the run read.
    pub fn read(&self) -> &BTreeSet<PathBuf> {
        &self.read
    }

    /// Leaves of the files that were read those that headers can lead to: the run read more.
    pub fn narrowed_to(&self, setting: &Setting, inclusions: &mut Inclusions, read: &ByName) -> BTreeSet<PathBuf> {
        let headers = setting.headers.iter();
        let places = headers.map(|header| search::header_places(header, &setting.flags, &self.include_folders));
        let places: Vec<Vec<PathBuf>> = places.collect();
        let own: Vec<PathBuf> = places.iter().filter_map(|places| places.last().cloned()).collect();
        inclusions.reachable(&own, read).into_iter().chain(places.into_iter().flatten()).collect()
    }

    /// The files whose change can change the answer, and the places where a new one would.
    pub fn files_of(&self, question: &Question) -> BTreeSet<PathBuf> {
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
            Body::Lines(_)
            | Body::Holds { .. }
            | Body::Declared(_)
            | Body::Value(_)
            | Body::Text(_)
            | Body::Code(_) => {
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
            flags
                .iter()
                .filter_map(|flag| flag.strip_prefix("-l"))
                .any(|library| name.starts_with(&format!("lib{library}.")))
        };
        files.extend(self.linked.iter().filter(named).cloned());
        files
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
            Body::Text(_) => Some(plain_text(&String::from_utf8_lossy(&bytes))),
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
    fn texts_lose_their_quotes() {
        for (text, want) in [("\"1.2.13\"\0", "1.2.13"), ("\"1\" \".\" \"2\"", "1.2"), ("0x12d0\0", "0x12d0"), ("", "")]
        {
            assert_eq!(plain_text(text), want, "{text}");
        }
    }
}
