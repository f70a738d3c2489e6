//! From processes to deeds: which of them compiled, archived, linked or generated, and who stood above them. No tool that runs builds is
//! known by name: a compiler's driver is known by its children, and what stands above drivers by being above them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::paths::{absolute, base_name, below, stem_and_ending};
use super::watched::{Seen, Watched, What};
use super::words::{self, Action, Run, Word, is_source};
use crate::base::files::read_regular;
use crate::base::{RelPath, shell_words};
use crate::survey::Language;

/// Programs that do the work of a compiler: what started them is its driver.
const PROPER: [&str; 12] =
    ["cc1", "cc1plus", "cc1obj", "f951", "as", "collect2", "ld", "ld.bfd", "ld.gold", "ld.lld", "lto1", "lto-wrapper"];

/// One source that was compiled.
#[derive(Debug, Clone)]
pub(super) struct Compile {
    /// The source.
    pub source: String,
    /// The object; for a source that was compiled within a link, a name that no file has.
    pub object: String,
    /// The compiler, as it was called.
    pub compiler: String,
    /// Where it ran.
    pub folder: String,
    /// Its words.
    pub run: Run,
    /// What it read.
    pub reads: BTreeSet<String>,
    /// When it began.
    pub at: u32,
    /// The command, as it was called.
    pub command: String,
}

impl Compile {
    /// Whether it is one of C++: by the compiler that was called, or by the source.
    pub fn is_cxx(&self) -> bool {
        let own = RelPath::root().child(base_name(&self.source));
        let further = matches!(stem_and_ending(&self.source).1, "C" | "c++");
        self.compiler.contains("++") || further || Language::of(&own) == Some(Language::Cxx)
    }
}

/// What several objects became.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum JoinKind {
    Archive,
    Program,
    Shared,
    Partial,
}

/// A link or an archive.
#[derive(Debug, Clone)]
pub(super) struct Join {
    pub kind: JoinKind,
    pub output: String,
    /// What it is made of, by its words, in their order: files, libraries, flags.
    pub run: Run,
    pub folder: String,
    pub reads: BTreeSet<String>,
    /// Objects of sources that were compiled within it.
    pub own: Vec<String>,
    pub at: u32,
    /// The command, as it was called.
    pub command: String,
}

/// What was not understood, and why that matters.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Doubt {
    /// What it is about.
    pub about: String,
    /// What is not known.
    pub said: String,
}

/// What a watched build did.
pub(super) struct Story<'w> {
    pub watched: &'w Watched,
    pub tree: String,
    pub compiles: Vec<Compile>,
    pub joins: Vec<Join>,
    pub doubts: BTreeSet<Doubt>,
    /// How many tiny compiles asked about the host.
    pub probes: usize,
    /// Links and archives, by their files.
    products: BTreeMap<String, usize>,
    /// Files of the tree that were there before it, below the tree.
    pub before: BTreeSet<String>,
    /// Files that were made and were there at the end.
    pub left: BTreeSet<String>,
    pub(super) children: Vec<Vec<usize>>,
    /// Who wrote each file, and when.
    pub(super) writers: BTreeMap<String, Vec<(u32, usize)>>,
    /// What each file is a copy of, or leads to, since when.
    pub(super) copies: BTreeMap<String, Vec<(u32, String)>>,
    /// Compilers' and archivers' processes.
    pub(super) busy: BTreeSet<usize>,
    /// What stands above them.
    pub(super) above: BTreeSet<usize>,
    /// Files that were compiled and hold their own names.
    named: BTreeSet<String>,
    /// The names in `#include` lines of all texts that compiles read.
    pub included: BTreeSet<String>,
}

impl<'w> Story<'w> {
    /// Reads what a build did.
    pub fn of(watched: &'w Watched) -> Story<'w> {
        let mut children = vec![Vec::new(); watched.processes.len()];
        for (at, process) in watched.processes.iter().enumerate() {
            if let Some(parent) = process.parent {
                children[parent].push(at);
            }
        }
        let tree = watched.tree.to_string_lossy().into_owned();
        let mut story = Story {
            watched,
            tree: tree.clone(),
            compiles: Vec::new(),
            joins: Vec::new(),
            doubts: BTreeSet::new(),
            probes: 0,
            products: BTreeMap::new(),
            left: watched.left.keys().map(|id| watched.text(*id).to_string()).collect(),
            before: watched
                .before
                .iter()
                .filter_map(|id| below(watched.text(*id), &tree))
                .map(str::to_string)
                .collect(),
            children,
            writers: BTreeMap::new(),
            copies: BTreeMap::new(),
            busy: BTreeSet::new(),
            above: BTreeSet::new(),
            named: BTreeSet::new(),
            included: BTreeSet::new(),
        };
        story.note_writers();
        story.note_runs();
        story.note_copies();
        story.leave_probes_out();
        // Which of those that ran side by side came first says nothing.
        story.joins.sort_by(|a, b| a.output.cmp(&b.output));
        story.compiles.sort_by(|a, b| (&a.source, &a.object, a.at).cmp(&(&b.source, &b.object, b.at)));
        story.note_texts();
        story.products = story.joins.iter().enumerate().map(|(at, join)| (join.output.clone(), at)).collect();
        story
    }

    pub(super) fn process(&self, at: usize) -> &'w Seen {
        &self.watched.processes[at]
    }

    /// Reads each text of the tree that compiles read, or that was made for them, once.
    fn note_texts(&mut self) {
        let reads = self.compiles.iter().flat_map(|compile| compile.reads.iter().chain([&compile.source]));
        let all: BTreeSet<&String> = reads.filter(|path| self.in_tree(path).is_some() || self.is_made(path)).collect();
        let (mut named, mut included) = (BTreeSet::new(), BTreeSet::new());
        for path in all {
            let Ok(bytes) = read_regular(Path::new(path)) else { continue };
            let text = String::from_utf8_lossy(&bytes);
            if self.in_tree(path).is_some() && ["__FILE__", "__BASE_FILE__"].iter().any(|name| text.contains(name)) {
                named.insert(path.clone());
            }
            included.extend(text.lines().filter_map(included_word).map(str::to_string));
        }
        (self.named, self.included) = (named, included);
    }

    /// Whether what reads a file can come to hold the name of the file that is compiled, or of this one.
    pub fn names_itself(&self, path: &str) -> bool {
        self.named.contains(path) || self.in_tree(path).is_none() && base_name(path) == "assert.h"
    }

    /// The path below the tree, if it lies there.
    pub fn in_tree<'p>(&self, path: &'p str) -> Option<&'p str> {
        below(path, &self.tree)
    }

    /// The link or archive that made a file.
    pub fn product(&self, path: &str) -> Option<usize> {
        self.products.get(path).copied()
    }

    /// The text of a file that was made and is short.
    pub fn text_left(&self, path: &str) -> Option<&'w str> {
        self.watched.texts.iter().find(|(id, _)| self.watched.text(**id) == path).map(|(_, text)| text.as_str())
    }

    /// Links whose file nobody used and that was gone at the end asked about the host.
    fn leave_probes_out(&mut self) {
        let used: BTreeSet<String> = self.joins.iter().flat_map(|join| join.reads.iter().cloned()).collect();
        let ran: BTreeSet<&String> = self.watched.processes.iter().map(|process| &process.program).collect();
        let (stay, asked): (Vec<Join>, Vec<Join>) = std::mem::take(&mut self.joins).into_iter().partition(|join| {
            let is_used = match join.kind {
                JoinKind::Archive => used.contains(&join.output),
                JoinKind::Program | JoinKind::Shared | JoinKind::Partial => {
                    ran.contains(&join.output) && self.in_tree(&join.output).is_some()
                }
            };
            is_used || self.is_left(&self.last_name(&join.output))
        });
        self.joins = stay;
        self.probes += asked.len();
    }

    /// Whether the build wrote a file.
    pub fn is_made(&self, path: &str) -> bool {
        self.writers.contains_key(path) || self.copies.contains_key(path)
    }

    /// A file that a build cannot do without: of the tree, or made.
    pub(super) fn concerns(&self, path: &str) -> bool {
        self.in_tree(path).is_some() || self.is_made(path)
    }

    /// All processes below one, and itself.
    pub fn with_all_below(&self, at: usize) -> Vec<usize> {
        let (mut all, mut waiting) = (Vec::new(), vec![at]);
        while let Some(next) = waiting.pop() {
            all.push(next);
            waiting.extend(&self.children[next]);
        }
        all.sort_unstable();
        all
    }

    /// All files that a process and those below it read.
    pub(super) fn reads_of(&self, at: usize) -> BTreeSet<String> {
        let deeds = self.with_all_below(at).into_iter().flat_map(|at| &self.process(at).deeds);
        let read = deeds.filter(|did| did.what == What::Read);
        read.map(|did| self.watched.text(did.path).to_string()).collect()
    }

    fn began(&self, at: usize) -> u32 {
        self.with_all_below(at).into_iter().flat_map(|at| &self.process(at).deeds).map(|did| did.at).min().unwrap_or(0)
    }

    fn note_runs(&mut self) {
        let mut drivers = BTreeSet::new();
        for (at, process) in self.watched.processes.iter().enumerate() {
            if process.forked || !is_proper(process) {
                continue;
            }
            let mut parent = process.parent;
            while let Some(above) = parent.filter(|p| self.process(*p).forked || is_proper(self.process(*p))) {
                parent = self.process(above).parent;
            }
            // Linkers and assemblers can be called by themselves.
            drivers.insert(parent.filter(|parent| shares_file(self.process(*parent), process)).unwrap_or(at));
        }
        for (at, process) in self.watched.processes.iter().enumerate() {
            if process.forked || self.is_within(at) {
                continue;
            }
            let understood = if drivers.contains(&at) {
                self.driver(at, 0);
                true
            } else if is_archiver(process) {
                self.archive(at)
            } else if let Some((compiler, object)) = self.answered(at, &drivers) {
                self.driver(at, compiler);
                self.doubt(
                    &object,
                    "no compiler ran for it: a cache or another machine answered, so what it reads was not seen",
                );
                true
            } else {
                false
            };
            if understood {
                self.busy.insert(at);
            }
        }
        for at in &self.busy {
            let mut parent = self.process(*at).parent;
            while let Some(above) = parent.filter(|above| self.above.insert(*above)) {
                parent = self.process(above).parent;
            }
        }
    }

    /// Whether a process stands below one that is understood already.
    pub(super) fn is_within(&self, at: usize) -> bool {
        let mut parent = self.process(at).parent;
        while let Some(above) = parent {
            if self.busy.contains(&above) {
                return true;
            }
            parent = self.process(above).parent;
        }
        false
    }

    /// A compile whose object was written without a compiler: which word of the process names that, and the object.
    fn answered(&self, at: usize, drivers: &BTreeSet<usize>) -> Option<(usize, String)> {
        let process = self.process(at);
        let own = self.with_all_below(at);
        if process.exit != Some(0)
            || !process.words.iter().any(|word| word == "-c")
            || own.iter().any(|at| drivers.contains(at))
        {
            return None;
        }
        let compiler = process.words.iter().position(|word| is_compiler_name(base_name(word)))?;
        let response = |word: &str| process.responses.get(word).cloned();
        let run = words::read(&process.words[compiler + 1..], &response);
        let source = run.inputs().find(|file| is_source(file)).filter(|_| run.action == Action::Compile)?;
        let object = run.output.clone().unwrap_or_else(|| object_name(source));
        let object = absolute(&process.folder, &object);
        let deeds = own.into_iter().flat_map(|at| &self.process(at).deeds);
        let made = deeds.filter(|did| matches!(did.what, What::Wrote | What::Named));
        let is_made = made.map(|did| self.watched.text(did.path)).any(|path| path == object);
        is_made.then_some((compiler, object))
    }

    /// Takes the words of a process after the one that names its compiler.
    fn driver(&mut self, at: usize, compiler: usize) {
        let process = self.process(at);
        let response = |word: &str| process.responses.get(word).cloned();
        let run = words::read(process.words.get(compiler + 1..).unwrap_or_default(), &response);
        let files: Vec<String> = run.inputs().map(str::to_string).collect();
        if files.is_empty() || run.action == Action::Question || run.action == Action::Preprocess {
            return;
        }
        if self.is_probe(at, &files) {
            self.probes += 1;
            return;
        }
        if process.exit.is_some_and(|exit| exit != 0) {
            let about = process.words.join(" ");
            self.doubt(&about, "it failed, and is left out");
            return;
        }
        let (folder, command) = (process.folder.clone(), process.words[compiler..].join(" "));
        let compiler = process.words.get(compiler).cloned().unwrap_or_default();
        let (mut reads, began) = (self.reads_of(at), self.began(at));
        // Its own words lie there.
        process.responses.keys().for_each(|word| {
            reads.remove(&absolute(&folder, &word[1..]));
        });
        let source_of = |file: &String| absolute(&folder, file);
        let (sources, others): (Vec<&String>, Vec<&String>) = files.iter().partition(|file| is_source(file));
        let compile = |source: &String, object: String| Compile {
            source: source_of(source),
            object,
            compiler: compiler.clone(),
            folder: folder.clone(),
            run: run.clone(),
            reads: reads.clone(),
            at: began,
            command: command.clone(),
        };
        if run.action == Action::Compile {
            for source in sources {
                let object = run.output.clone().unwrap_or_else(|| object_name(source));
                self.compiles.push(compile(source, absolute(&folder, &object)));
            }
            for other in others {
                self.doubt(other, "it was compiled, and is no source by its name");
            }
            return;
        }
        if run.action == Action::Assembly {
            return;
        }
        let output = absolute(&folder, run.output.as_deref().unwrap_or("a.out"));
        let has = |flag: &str| run.words.iter().any(|word| matches!(word, Word::Link(words) if words[0] == flag));
        let kind = match (has("-shared"), has("-r")) {
            (true, _) => JoinKind::Shared,
            (false, true) => JoinKind::Partial,
            (false, false) => JoinKind::Program,
        };
        let mut own = Vec::new();
        for source in sources {
            let object = format!("{output}::{}", source_of(source));
            own.push(object.clone());
            self.compiles.push(compile(source, object));
        }
        self.joins.push(Join { kind, output, run, folder, reads, own, at: began, command });
    }

    /// A tiny compile of a text outside of the tree, or one that is gone: it asked about the host.
    fn is_probe(&self, at: usize, files: &[String]) -> bool {
        let folder = &self.process(at).folder;
        let gone = |file: &String| {
            let path = absolute(folder, file);
            file == "-" || self.is_made(&path) && is_source(file) && !self.is_left(&path)
        };
        files.iter().any(gone)
    }

    /// Whether a file that was made was there at the end.
    pub fn is_left(&self, path: &str) -> bool {
        self.left.contains(path)
    }

    fn archive(&mut self, at: usize) -> bool {
        let process = self.process(at);
        let response = |word: &str| process.responses.get(word).cloned();
        let mut rest: Vec<String> = Vec::new();
        for word in process.words.iter().skip(1) {
            match response(word) {
                Some(text) => rest.extend(shell_words(&text)),
                None => rest.push(word.clone()),
            }
        }
        // Some write the letters after a hyphen, some beside long flags.
        let mut rest = rest.into_iter().filter(|word| !word.starts_with("--"));
        let letters = rest.next().unwrap_or_default();
        let makes = letters.trim_start_matches('-').contains(['r', 'q']);
        let Some(archive) = rest.next().filter(|_| makes) else { return false };
        if process.exit.is_some_and(|exit| exit != 0) {
            let about = process.words.join(" ");
            self.doubt(&about, "it failed, and is left out");
            return true;
        }
        let folder = process.folder.clone();
        let output = absolute(&folder, &archive);
        let words: Vec<Word> = rest.map(Word::Input).collect();
        let began = self.began(at);
        let run = Run { action: Action::Link, output: Some(archive), words };
        // What is added to an archive comes to what is in it.
        if let Some(known) = self.joins.iter_mut().find(|join| join.output == output && join.kind == JoinKind::Archive)
        {
            let new: Vec<Word> = run.words.into_iter().filter(|word| !known.run.words.contains(word)).collect();
            known.run.words.extend(new);
            known.at = began;
            return true;
        }
        let (reads, command, kind) = (self.reads_of(at), process.words.join(" "), JoinKind::Archive);
        self.joins.push(Join { kind, output, run, folder, reads, own: vec![], at: began, command });
        true
    }

    /// Whether a process is a compiler's, a linker's or an archiver's, or stands below one.
    pub fn is_busy(&self, at: usize) -> bool {
        self.busy.contains(&at) || self.is_within(at)
    }

    /// Notes that something is not known.
    pub fn doubt(&mut self, about: &str, said: &str) {
        let short: String = about.chars().take(200).collect();
        let about = short.replace(&format!("{}/", self.tree), "");
        self.doubts.insert(Doubt { about, said: said.to_string() });
    }
}

fn object_name(source: &str) -> String {
    format!("{}.o", stem_and_ending(source).0)
}

/// Whether a process is a part of a compiler. Tools of a cross compiler carry the target before their name.
pub(super) fn is_proper(process: &Seen) -> bool {
    let name = base_name(&process.program);
    PROPER.iter().any(|proper| name == *proper || name.strip_suffix(proper).is_some_and(|rest| rest.ends_with('-')))
}

/// Whether a program hands on to another one a file that it was told.
fn shares_file(driver: &Seen, proper: &Seen) -> bool {
    let told = |words: &[String]| -> BTreeSet<String> {
        words.iter().skip(1).filter(|word| !word.starts_with(['-', '@']) || *word == "-").cloned().collect()
    };
    let mut own = told(&driver.words);
    own.extend(driver.responses.values().flat_map(|text| shell_words(text)));
    // The name of an output can be joined to its flag.
    own.extend(driver.words.iter().filter_map(|word| word.strip_prefix("-o")).map(str::to_string));
    told(&proper.words).iter().any(|word| own.contains(word))
}

fn is_archiver(process: &Seen) -> bool {
    let name = base_name(process.words.first().map_or("", String::as_str));
    let name = name.trim_end_matches(|letter: char| letter.is_ascii_digit() || matches!(letter, '.' | '-'));
    name == "ar" || name.ends_with("-ar")
}

/// Whether a word is the usual name of a compiler, with a target before or a version after it.
fn is_compiler_name(name: &str) -> bool {
    let name = name.trim_end_matches(|letter: char| letter.is_ascii_digit() || matches!(letter, '.' | '-'));
    let own = name.rsplit('-').next().unwrap_or(name);
    matches!(own, "cc" | "c++" | "gcc" | "g++" | "clang" | "clang++")
}

/// The name in an `#include` line.
fn included_word(line: &str) -> Option<&str> {
    let rest = line.trim_start().strip_prefix('#')?.trim_start().strip_prefix("include")?.trim_start();
    let end = match rest.chars().next()? {
        '<' => '>',
        '"' => '"',
        _ => return None,
    };
    rest[1..].split_once(end).map(|(word, _)| word)
}
