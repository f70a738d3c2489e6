//! The words of compilers: which belong together, and what each is about. Words that are in no table are flags, and stay as they are.

use super::paths::{base_name, stem_and_ending};
use crate::base::{self, RelPath, shell_words};

/// Words that are followed by another one, as a word of its own or joined to them.
const WITH_VALUE: [(&str, About); 22] = [
    ("-isystem", About::Include),
    ("-iquote", About::Include),
    ("-idirafter", About::Include),
    ("-imacros", About::ReadFirst),
    ("-include", About::ReadFirst),
    ("-isysroot", About::FlagWithPlace),
    ("--sysroot", About::FlagWithPlace),
    ("-Xlinker", About::Link),
    ("-Xassembler", About::Flag),
    ("-Xpreprocessor", About::Flag),
    ("--param", About::Flag),
    ("-MF", About::Lists),
    ("-MT", About::Lists),
    ("-MQ", About::Lists),
    ("-I", About::Include),
    ("-D", About::Define),
    ("-U", About::Undefine),
    ("-L", About::LibraryFolder),
    ("-l", About::Library),
    ("-T", About::LinkWithPlace),
    ("-o", About::Output),
    ("-x", About::Language),
];

/// Words of links that are followed by another one, always as a word of its own.
const LINK_WITH_VALUE: [&str; 4] = ["-u", "-z", "-e", "-arch"];

/// Words that say what is to come of it.
const ACTIONS: [(&str, Action); 5] = [
    ("-c", Action::Compile),
    ("-S", Action::Assembly),
    ("-E", Action::Preprocess),
    ("-M", Action::Question),
    ("-MM", Action::Question),
];

/// Words with which a compiler only answers.
const QUESTIONS: [&str; 8] =
    ["--version", "-v", "-dumpversion", "-dumpmachine", "-dumpfullversion", "-dumpspecs", "--help", "-print"];

/// Words that change nothing of a result.
const WITHOUT_EFFECT: [&str; 8] =
    ["-pipe", "-MD", "-MMD", "-MP", "-MG", "-Winvalid-pch", "-fdiagnostics-color", "-fcolor-diagnostics"];

/// Words that are only for links, beside those that begin with `-Wl,`.
const OF_LINK: [&str; 12] = [
    "-shared",
    "-rdynamic",
    "-static",
    "-pie",
    "-no-pie",
    "-static-pie",
    "-nostdlib",
    "-nostartfiles",
    "-nodefaultlibs",
    "-s",
    "-r",
    "-static-libgcc",
];

/// What a word is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum About {
    Include,
    ReadFirst,
    FlagWithPlace,
    Flag,
    Define,
    Undefine,
    Link,
    LinkWithPlace,
    LibraryFolder,
    Library,
    Output,
    Language,
    Lists,
}

/// What is to come of a compiler's run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Action {
    Compile,
    Assembly,
    Preprocess,
    Link,
    Question,
}

/// One word, or two that belong together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Word {
    /// A folder for headers, after the flag that opens it.
    Include(String, String),
    /// A file that is read before the source, after its flag.
    ReadFirst(String, String),
    /// A macro, with its value.
    Define(String),
    /// A macro that is taken away.
    Undefine(String),
    /// The language of the inputs that follow.
    Language(String),
    /// Any other flag of compiles.
    Flag(Vec<String>),
    /// Words for the linker.
    Link(Vec<String>),
    /// A folder for libraries.
    LibraryFolder(String),
    /// A library by name.
    Library(String),
    /// A file.
    Input(String),
    /// A word that changes nothing of the result.
    WithoutEffect(String),
}

/// A compiler's run, by its words.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Run {
    pub action: Action,
    pub output: Option<String>,
    pub words: Vec<Word>,
}

/// Reads the words of a compiler, without its name. `response` gives the text behind a word that begins with `@`.
pub(super) fn read(words: &[String], response: &dyn Fn(&str) -> Option<String>) -> Run {
    let mut all: std::collections::VecDeque<String> = words.iter().cloned().collect();
    let mut run = Run { action: Action::Link, output: None, words: Vec::new() };
    // A file of arguments can name another one; a ring of them would not have been run.
    let mut responses = 0;
    while let Some(word) = all.pop_front() {
        if let Some(text) = word.starts_with('@').then(|| response(&word)).flatten().filter(|_| responses < 1000) {
            responses += 1;
            shell_words(&text).into_iter().rev().for_each(|word| all.push_front(word));
            continue;
        }
        if let Some((_, action)) = ACTIONS.iter().find(|(known, _)| *known == word) {
            run.action = *action;
            continue;
        }
        if QUESTIONS.contains(&word.as_str()) || word.starts_with("-print-") {
            if run.action == Action::Link && word != "-v" {
                run.action = Action::Question;
            }
            continue;
        }
        let begins = |known: &&(&str, About)| word.starts_with(known.0) && !is_another(&word, known.0);
        if let Some((flag, about)) = WITH_VALUE.iter().find(begins) {
            let joined = word[flag.len()..].to_string();
            let joined = if flag.starts_with("--") { joined.trim_start_matches('=').to_string() } else { joined };
            let value = if joined.is_empty() { all.pop_front().unwrap_or_default() } else { joined };
            run.add(flag, *about, value);
        } else if LINK_WITH_VALUE.contains(&word.as_str()) {
            let value = all.pop_front().unwrap_or_default();
            run.words.push(Word::Link(vec![word, value]));
        } else {
            run.words.push(sort(word));
        }
    }
    run
}

/// Whether a word only begins like a flag with a value, and is another one.
fn is_another(word: &str, flag: &str) -> bool {
    match flag {
        "-include" => word.starts_with("-include-"),
        // Where sections lie.
        "-T" => ["-Tbss", "-Tdata", "-Ttext"].iter().any(|section| word.starts_with(section)),
        _ => false,
    }
}

fn sort(word: String) -> Word {
    let first = word.split('=').next().unwrap_or_default();
    if !word.starts_with('-') || word == "-" {
        Word::Input(word)
    } else if WITHOUT_EFFECT.contains(&first) {
        Word::WithoutEffect(word)
    } else if word.starts_with("-Wl,") || OF_LINK.contains(&word.as_str()) {
        Word::Link(vec![word])
    } else {
        Word::Flag(vec![word])
    }
}

impl Run {
    fn add(&mut self, flag: &str, about: About, value: String) {
        let both = || vec![flag.to_string(), value.clone()];
        let word = match about {
            About::Output => {
                self.output = Some(value);
                return;
            }
            About::Lists => return,
            About::Include => Word::Include(flag.to_string(), value),
            About::ReadFirst => Word::ReadFirst(flag.to_string(), value),
            About::Define => Word::Define(value),
            About::Undefine => Word::Undefine(value),
            About::Language => Word::Language(value),
            About::LibraryFolder => Word::LibraryFolder(value),
            About::Library => Word::Library(value),
            About::Link | About::LinkWithPlace => Word::Link(both()),
            About::Flag if flag == "--param" => Word::Flag(vec![format!("--param={value}")]),
            About::FlagWithPlace if flag == "--sysroot" => Word::Flag(vec![format!("--sysroot={value}")]),
            About::Flag | About::FlagWithPlace => Word::Flag(both()),
        };
        self.words.push(word);
    }

    /// Returns the files that it names, in order.
    pub fn inputs(&self) -> impl Iterator<Item = &str> {
        self.words.iter().filter_map(|word| match word {
            Word::Input(file) => Some(file.as_str()),
            _ => None,
        })
    }
}

/// Endings that compilers take for sources beyond those that our own builder compiles.
const FURTHER_SOURCES: [&str; 5] = ["c++", "C", "sx", "i", "ii"];

/// Tells whether a compiler takes a file for a source, by its name.
pub(super) fn is_source(path: &str) -> bool {
    let own = RelPath::root().child(base_name(path));
    base::is_source(&own) || FURTHER_SOURCES.contains(&stem_and_ending(path).1)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(text: &str) -> Run {
        let response = |word: &str| (word == "@more").then(|| "-DB='x y' \"c d.c\"\n-la\\ b".to_string());
        read(&shell_words(text), &response)
    }

    #[test]
    fn words_are_read_joined_and_apart_and_none_is_lost() {
        let run =
            run("-c -I inc -Isrc -DA=1 -UB -include pre.h -O2 --param x=1 -MMD -MF d -o a.o a.c -Wl,-s -z now @more");
        assert_eq!((run.action, run.output.as_deref()), (Action::Compile, Some("a.o")));
        let flag = |words: &[&str]| Word::Flag(words.iter().map(ToString::to_string).collect());
        let link = |words: &[&str]| Word::Link(words.iter().map(ToString::to_string).collect());
        let expected = [
            Word::Include("-I".into(), "inc".into()),
            Word::Include("-I".into(), "src".into()),
            Word::Define("A=1".into()),
            Word::Undefine("B".into()),
            Word::ReadFirst("-include".into(), "pre.h".into()),
            flag(&["-O2"]),
            flag(&["--param=x=1"]),
            Word::WithoutEffect("-MMD".into()),
            Word::Input("a.c".into()),
            link(&["-Wl,-s"]),
            link(&["-z", "now"]),
            Word::Define("B=x y".into()),
            Word::Input("c d.c".into()),
            Word::Library("a b".into()),
        ];
        assert_eq!(run.words, expected);
    }

    #[test]
    fn what_only_asks_is_told_apart() {
        for (text, action) in [
            ("--version", Action::Question),
            ("-print-file-name=x", Action::Question),
            ("-E a.c", Action::Preprocess),
            ("-S a.c", Action::Assembly),
            ("-v -c a.c", Action::Compile),
            ("a.o -o a", Action::Link),
            ("-M a.c", Action::Question),
        ] {
            assert_eq!(run(text).action, action, "{text}");
        }
    }
}
