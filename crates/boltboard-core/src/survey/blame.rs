//! Which questions of a failed run its words are about.

use std::collections::BTreeMap;

use super::question::{Body, HEADERS_MARK, Question, RunKey, STUB_WORDS, mark, mark_before};

/// The words of a failed run, with what was asked in it.
pub(super) struct Blame<'a> {
    pub words: &'a [String],
    pub set: &'a [&'a Question],
}

impl Blame<'_> {
    /// Which questions the words are about, by number. Words about several at once blame none.
    pub(super) fn by_number(&self, key: &RunKey) -> BTreeMap<usize, Vec<String>> {
        let set = self.set;
        let mut blamed: BTreeMap<usize, Vec<String>> = BTreeMap::new();
        match key {
            RunKey::Compile(_) | RunKey::Object(_) | RunKey::Code(..) | RunKey::Chain(..) => {
                self.blame_lines(set, &mut blamed);
            }
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

    /// Tells whether every complaint of the run is about a question that it can be answered for, so that the others are
    /// answered, too. Some compilers and linkers stop at the first complaint of a sort, so this holds only of runs whose
    /// complaints are all told.
    pub(super) fn tells_all(&self, key: &RunKey) -> bool {
        let complaints = || self.words.iter().filter(|line| is_complaint(line));
        let ours = |line: &&String| (0..self.set.len()).any(|n| line.starts_with(&format!("{}:", mark(n))));
        let undefined = |line: &&String| {
            let names = |question: &&Question| match &question.body {
                Body::Function { name, .. } => has_word(line, name),
                _ => false,
            };
            line.contains("undefined") && self.set.iter().any(names)
        };
        match key {
            RunKey::Compile(_) => {
                complaints().all(|line| ours(&line)) && !self.set.iter().any(|q| matches!(q.body, Body::Readable(_)))
            }
            RunKey::Functions(..) => complaints().all(|line| undefined(&line) || line.contains("ld returned")),
            RunKey::Chain(..) => complaints().all(|line| ours(&line) || line.starts_with("before-")),
            RunKey::Object(_) | RunKey::Code(..) | RunKey::Links(..) | RunKey::Flags(_) | RunKey::LinkFlags(_) => false,
        }
    }

    /// Tells of each question of a chain whether it was answered with no before its headers were read.
    pub(super) fn unknown_before(&self) -> Vec<bool> {
        let told = |n: usize| {
            let start = format!("{}:", mark_before(n));
            self.words.iter().any(|line| line.starts_with(&start) && line.contains("error"))
        };
        (0..self.set.len()).map(told).collect()
    }

    /// Errors in lines that belong to a question.
    fn blame_lines(&self, set: &[&Question], blamed: &mut BTreeMap<usize, Vec<String>>) {
        let mut within: Option<usize> = None;
        for line in self.words {
            let inclusion =
                line.trim_start().trim_start_matches("In file included").trim_start_matches("from").trim_start();
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
        for line in self.words {
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

/// Whether a line tells of an error, rather than explaining one.
fn is_complaint(line: &str) -> bool {
    let quoted_code = line.starts_with(' ') || line.starts_with('\t');
    !quoted_code && (line.contains("error") || line.contains("undefined") || line.contains("cannot"))
}

pub(super) fn means_nothing(line: &str) -> bool {
    ["is valid for", "unknown option", "not supported", "unsupported", "ignored"]
        .iter()
        .any(|words| line.contains(words))
}

/// A warning that is switched off is not looked at by some compilers, so it is asked for switched on.
pub(super) fn flag_as_asked(question: &Question) -> Option<String> {
    match &question.body {
        Body::Flag(flag) => Some(match flag.strip_prefix("-Wno-") {
            Some(rest) if !rest.contains('=') => format!("-W{rest}"),
            _ => flag.clone(),
        }),
        Body::LinkFlag(flag) => Some(flag.clone()),
        _ => None,
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
}
