//! What is known of a compile's flags: where it looks for headers, in which dialect it reads, and whether anything among them may make it
//! look at what we do not know of.

use super::location::Location;
use super::search::HeaderSearch;
use super::word::Word;
use crate::reading::{Asks, Dialects, Include, Standard};
use crate::survey::Language;
use crate::work::Folders;

/// What a compile's words say.
#[derive(Debug, Clone)]
pub struct Flags {
    /// Where it looks for headers.
    pub search: HeaderSearch,
    /// Headers that the words ask for, in their order.
    pub includes: Vec<Include>,
    /// Headers that they ask for by their place.
    pub forced: Vec<Location>,
    /// How it reads its text.
    pub dialects: Dialects,
    /// Whether all words are known, so that a compile looks at nothing else than these say.
    pub known: Known,
    /// The words that may decide about which programs and further files it uses; others change only what is made of the text.
    pub of_class: Vec<String>,
    /// Whether it makes files beside its object.
    pub makes_more: bool,
}

/// How much of a compile's words is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Known {
    /// All of them.
    Wholly,
    /// Some may make it look anywhere.
    Partly,
}

/// Flags whose value may stand in the next word.
const WITH_VALUE: [&str; 8] = ["-D", "-U", "-I", "-isystem", "-iquote", "-idirafter", "-include", "-imacros"];

/// Words that are known to let a compile look at nothing more; those that end in `*` stand for all that begin so.
const PLAIN: [&str; 16] = [
    "-pipe",
    "-pthread",
    "-ansi",
    "-pedantic*",
    "-trigraphs",
    "-traditional*",
    "-w",
    "-static",
    "-shared",
    "-nostdlib",
    "-undef",
    "-O*",
    "-g*",
    "-m*",
    "-std=*",
    "--param=*",
];

/// Of those that begin with `-f`, `-g`, `-m` and `-W`: those that name files, programs or other ways to read.
const ODD: [&str; 21] = [
    "-fplugin*",
    "-fmodule*",
    "-fprofile-use*",
    "-fbranch-prob*",
    "-fauto-profile*",
    "-fprofile-list*",
    "-fuse-ld*",
    "-finput-charset*",
    "-fpreprocessed",
    "-fdirectives-only",
    "-fpch*",
    "-fsanitize-*",
    "-fxray*",
    "-fprofile-instr-use*",
    "-fworking-directory",
    "-fintegrated-as",
    "-mllvm*",
    "-Wp,*",
    "-Wa,*",
    "-Xclang*",
    "-frandomize-layout*",
];

/// Words that leave further files.
const MORE: [&str; 14] = [
    "--coverage",
    "-coverage",
    "-ftest-coverage",
    "-fprofile-arcs",
    "-fprofile-generate*",
    "-fprofile-instr-generate*",
    "-gsplit-dwarf*",
    "-fstack-usage",
    "-fcallgraph-info*",
    "-save-temps*",
    "--save-temps*",
    "-fdump-*",
    "-da",
    "-ftime-report*",
];

fn is_one_of(list: &[&str], word: &str) -> bool {
    list.iter().any(|known| match known.strip_suffix('*') {
        Some(beginning) => word.starts_with(beginning),
        None => *known == word,
    })
}

/// Tells whether a word makes a compile leave further files beside its object.
pub(super) fn leaves_more(word: &str) -> bool {
    is_one_of(&MORE, word)
}

impl Flags {
    /// Reads the words of a compile.
    /// `own` are the standards that the compiler may go by when nothing is said.
    pub fn of(language: Language, own: &[Standard], words: &[Word], folders: &Folders) -> Flags {
        let mut known = Known::Wholly;
        let (mut includes, mut forced, mut of_class) = (Vec::new(), Vec::new(), Vec::new());
        let (mut standard, mut trigraphs, mut traditional, mut makes_more) = (None, false, false, false);
        let all: Vec<String> = words
            .iter()
            .map(|word| word.spelled(|at, _| at.path(folders).display().to_string(), |_| String::new()))
            .collect();
        let mut rest = all.iter().zip(words);
        while let Some((text, word)) = rest.next() {
            let valued = WITH_VALUE.iter().find(|flag| text.starts_with(*flag) && !text.starts_with("-include-"));
            if let Some(flag) = valued {
                let value = match &text[flag.len()..] {
                    "" => rest.next().map(|(value, word)| (value.as_str(), word.is_place(), word.as_place())),
                    own => Some((own, word.as_text().is_none(), None)),
                };
                let Some((value, is_place, place)) = value else {
                    known = Known::Partly;
                    continue;
                };
                match *flag {
                    "-D" | "-U" => {}
                    "-include" | "-imacros" if !is_place => {
                        includes.push(Include { name: value.to_string(), beside: true, asks: Asks::Content });
                    }
                    "-include" | "-imacros" => forced.extend(place),
                    // A folder below another root, or a mark that parts the list in two.
                    _ if value.starts_with('=') || value.starts_with("$SYSROOT") || value == "-" => {
                        known = Known::Partly
                    }
                    _ => {}
                }
                continue;
            }
            makes_more |= is_one_of(&MORE, text);
            let odd = is_one_of(&ODD, text);
            let warning = text.starts_with("-W") && !text.starts_with("-Wl,");
            let plain = is_one_of(&PLAIN, text) || text.starts_with("-f") || warning || text.starts_with("-Wl,");
            // What else a compile writes is not reckoned with, so it is watched.
            if odd || !plain && !is_one_of(&MORE, text) {
                known = Known::Partly;
            }
            if odd || !plain || !(warning || text.starts_with("-O") || text.starts_with("-std")) {
                of_class.push(text.clone());
            }
            match text.strip_prefix("-std=").or_else(|| (text == "-ansi").then_some("ansi")) {
                Some("ansi") if language == Language::Cxx => standard = Some(Standard::Cxx98 { extended: false }),
                Some("ansi") => standard = Some(Standard::C90 { extended: false }),
                Some(name) => {
                    standard = Standard::named(name);
                    if standard.is_none() {
                        known = Known::Partly;
                    }
                }
                None => {}
            }
            trigraphs |= text == "-trigraphs";
            traditional |= text.starts_with("-traditional");
        }
        let standards = match (language, standard) {
            (
                Language::AsmWithCpp | Language::Asm | Language::Fortran | Language::FortranWithCpp | Language::OwnAsm,
                _,
            ) => {
                vec![Standard::Assembly]
            }
            (Language::C | Language::Cxx, None) => own.to_vec(),
            (Language::C | Language::Cxx, Some(standard)) => vec![standard],
        };
        let mut dialects = Dialects::of(&standards);
        if known == Known::Partly {
            dialects = dialects.or_any();
        }
        if trigraphs {
            dialects = dialects.with_trigraphs();
        }
        if traditional {
            dialects = dialects.everywhere();
        }
        let search = HeaderSearch::of(&all, folders);
        Flags { search, includes, forced, dialects, known, of_class, makes_more }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(language: Language, words: &[&str]) -> Flags {
        let folders = Folders { tree: "/tree".into(), build: "/tree/work/build".into() };
        let words: Vec<Word> = words.iter().map(|word| Word::text(*word)).collect();
        Flags::of(language, &[Standard::C99 { extended: true }], &words, &folders)
    }

    #[test]
    fn words_that_may_name_files_or_programs_leave_open_what_is_looked_at() {
        for (case, words, known) in [
            (
                "the usual ones",
                &["-O2", "-g", "-Wall", "-fPIC", "-std=gnu11", "-Iinc", "-DX=1", "-pthread"][..],
                Known::Wholly,
            ),
            (
                "values in the next word",
                &["-I", "inc", "-isystem", "/opt", "-include", "a.h", "-D", "X"],
                Known::Wholly,
            ),
            ("what leaves more files", &["--coverage", "-fstack-usage"], Known::Wholly),
            ("a value that is not there", &["-I"], Known::Partly),
            ("below another root", &["-I=/usr"], Known::Partly),
            ("a list of words", &["@more.rsp"], Known::Partly),
            ("another folder for programs", &["-Bbb/"], Known::Partly),
            ("words for the preprocessor", &["-Wp,-DX"], Known::Partly),
            ("words for the assembler", &["-Wa,-I,i"], Known::Partly),
            ("a plug-in", &["-fplugin=x.so"], Known::Partly),
            ("a profile", &["-fprofile-use=x"], Known::Partly),
            ("a long form", &["--include-directory=j"], Known::Partly),
            ("a standard that we do not know", &["-std=c77"], Known::Partly),
        ] {
            assert_eq!(read(Language::C, words).known, known, "{case}");
        }
    }

    #[test]
    fn words_decide_about_dialects_further_files_and_classes() {
        let plain = Dialects::of(&[Standard::C99 { extended: true }]);
        assert_eq!(read(Language::C, &["-O2"]).dialects, plain);
        assert_eq!(read(Language::C, &["-ansi"]).dialects, Dialects::of(&[Standard::C90 { extended: false }]));
        assert_eq!(read(Language::Cxx, &["-std=c++14"]).dialects, Dialects::of(&[Standard::Cxx14 { extended: false }]));
        assert_eq!(read(Language::C, &["-trigraphs"]).dialects, plain.clone().with_trigraphs());
        assert_eq!(read(Language::C, &["-traditional-cpp"]).dialects, plain.clone().everywhere());
        assert_ne!(read(Language::C, &["@more.rsp"]).dialects, plain, "whatever it says");
        assert!(read(Language::C, &["-gsplit-dwarf"]).makes_more && !read(Language::C, &["-g"]).makes_more);
        let class = |words| read(Language::C, words).of_class;
        assert_eq!(class(&["-O2", "-Wall", "-std=c99", "-DX", "-Iinc"]), Vec::<String>::new());
        assert_eq!(class(&["-O2", "-Bbb/", "-fPIC"]), ["-Bbb/", "-fPIC"]);
    }

    #[test]
    fn headers_that_words_ask_for_are_looked_for_in_their_order() {
        let flags = read(Language::C, &["-include", "a.h", "-imacros", "b.h", "-iquote", "q"]);
        let names: Vec<&str> = flags.includes.iter().map(|include| include.name.as_str()).collect();
        assert_eq!(names, ["a.h", "b.h"]);
        assert!(flags.includes.iter().all(|include| include.beside && include.asks == Asks::Content));
        assert_eq!(flags.search.quoted.len(), 1);
    }
}
