//! How one source is compiled, by what counts: of flags that contradict each other the last one, of macros what is left after all of them.

use std::collections::{BTreeMap, BTreeSet};

use super::paths::{absolute, below};
use super::story::{Compile, Story};
use super::words::Word;

/// Flags that our builder gives itself where they are needed, or that would tell where the tree lies.
const OUR_OWN: [&str; 4] = ["-ffile-prefix-map=", "-fdebug-prefix-map=", "-fmacro-prefix-map=", "-frandom-seed="];
/// Flags for code that can lie anywhere.
const ANYWHERE: [&str; 2] = ["-fPIC", "-fpic"];

/// How a source is compiled.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Ways {
    /// Flags, each with the words that belong to it.
    pub flags: Vec<Vec<String>>,
    /// Folders for headers, with the flag that opens each.
    pub includes: Vec<(String, String)>,
    /// Macros that are defined, by name, with their whole text.
    pub defines: BTreeMap<String, String>,
    /// Macros that are taken away.
    pub undefined: BTreeSet<String>,
    /// Whether the code can lie anywhere.
    pub anywhere: bool,
    /// Words that were left out, because they change nothing or are ours.
    pub left_out: BTreeSet<String>,
}

impl Ways {
    pub fn of(compile: &Compile, story: &Story<'_>) -> Ways {
        let mut ways = Ways::default();
        let mut flags: Vec<(String, Vec<String>)> = Vec::new();
        for word in &compile.run.words {
            match word {
                Word::Include(flag, folder) => {
                    let place = (flag.clone(), absolute(&compile.folder, folder));
                    if !ways.includes.contains(&place) {
                        ways.includes.push(place);
                    }
                }
                Word::ReadFirst(flag, file) => {
                    let beside = absolute(&compile.folder, file);
                    let file = if story.in_tree(&beside).is_some() { beside } else { file.clone() };
                    flags.push((format!("{flag} {file}"), vec![flag.clone(), file]));
                }
                Word::Define(text) => {
                    let name = text.split('=').next().unwrap_or_default().to_string();
                    ways.undefined.remove(&name);
                    ways.defines.insert(name, text.clone());
                }
                Word::Undefine(name) => {
                    if ways.defines.remove(name).is_none() {
                        ways.undefined.insert(name.clone());
                    }
                }
                Word::Flag(words) if ANYWHERE.contains(&words[0].as_str()) => ways.anywhere = true,
                Word::Flag(words) if matches!(words[0].as_str(), "-fno-PIC" | "-fno-pic") => ways.anywhere = false,
                Word::Flag(words) if OUR_OWN.iter().any(|own| words[0].starts_with(own)) => {
                    ways.left_out.insert(words[0].split('=').next().unwrap_or_default().to_string());
                }
                Word::Flag(words) => flags.push((family_of(&words[0]), words.clone())),
                Word::Language(language) => flags.push(("-x".into(), vec!["-x".into(), language.clone()])),
                Word::WithoutEffect(word) => {
                    ways.left_out.insert(word.clone());
                }
                Word::Link(_) | Word::LibraryFolder(_) | Word::Library(_) | Word::Input(_) => {}
            }
        }
        ways.as_it_was_called(compile, story);
        // The last of a family counts.
        for (at, (family, words)) in flags.iter().enumerate() {
            if !flags[at + 1..].iter().any(|(later, _)| later == family) {
                ways.flags.push(words.clone());
            }
        }
        ways
    }
}

impl Ways {
    /// A text can hold the name of its file. Where the compiler was told other names than ours will be, these are told to it again.
    fn as_it_was_called(&mut self, compile: &Compile, story: &Story<'_>) {
        let spelt = compile.run.inputs().find(|word| absolute(&compile.folder, word) == compile.source);
        let own = story.in_tree(&compile.source).filter(|_| !story.is_made(&compile.source));
        let (Some(spelt), Some(own)) = (spelt, own) else { return };
        let mut maps: BTreeSet<(String, String)> = BTreeSet::new();
        if compile.reads.iter().chain([&compile.source]).any(|path| story.names_itself(path)) {
            maps.extend(renamed(own, spelt));
        }
        for word in &compile.run.words {
            let Word::Include(_, folder) = word else { continue };
            let place = absolute(&compile.folder, folder);
            let names_itself = |path: &String| below(path, &place).is_some() && story.names_itself(path);
            if let Some(own) = story.in_tree(&place)
                && compile.reads.iter().any(names_itself)
            {
                maps.extend(renamed(&format!("{own}/"), &format!("{}/", folder.trim_end_matches('/'))));
            }
        }
        let flag = |(ours, theirs)| vec![format!("-fmacro-prefix-map={ours}={theirs}")];
        self.flags.extend(maps.into_iter().map(flag));
    }
}

/// The beginnings by which two relative names of a file differ: ours, and the one that was spelt.
fn renamed(own: &str, spelt: &str) -> Option<(String, String)> {
    let spelt = spelt.trim_start_matches("./");
    let same = own.split('/').rev().zip(spelt.split('/').rev()).take_while(|(a, b)| a == b);
    let length: usize = same.map(|(part, _)| part.len() + 1).sum::<usize>();
    let begin = |name: &str| name[..(name.len() + 1).saturating_sub(length).min(name.len())].to_string();
    let (mut ours, mut theirs) = (begin(own), begin(spelt));
    if ours.is_empty()
        && let Some((first, _)) = own.split_once('/')
    {
        // Nothing can be put before every name, but before those of a folder.
        ours = format!("{first}/");
        theirs.push_str(&ours);
    }
    (!ours.is_empty() && ours != theirs && !spelt.starts_with('/')).then_some((ours, theirs))
}

/// What a flag decides: of flags with one family the last counts.
fn family_of(flag: &str) -> String {
    let name = flag.split('=').next().unwrap_or_default();
    if name.starts_with("-O") {
        return "-O".into();
    }
    // `-g`, `-g3`, `-ggdb`; but not `-gsplit-dwarf`, which says something else.
    if name == "-g" || name.starts_with("-ggdb") || name.len() == 3 && name.starts_with("-g") {
        return "-g".into();
    }
    for letter in ["-f", "-W", "-m"] {
        if let Some(rest) = name.strip_prefix(letter).filter(|_| !flag.starts_with("-Wa,") && !flag.starts_with("-Wp,"))
        {
            // What is given a value can be given several.
            let plain = rest.strip_prefix("no-").unwrap_or(rest);
            return if name == flag { format!("{letter}{plain}") } else { flag.to_string() };
        }
    }
    if matches!(name, "-std" | "--std" | "-ansi") { "-std".into() } else { flag.to_string() }
}

/// Returns what all lists hold, in the order of the first.
pub(super) fn common<'a, T: PartialEq + Clone + 'a>(mut lists: impl Iterator<Item = &'a Vec<T>>) -> Vec<T> {
    let Some(first) = lists.next() else { return Vec::new() };
    let mut all = first.clone();
    for list in lists {
        all.retain(|item| list.contains(item));
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_differ_by_their_beginnings() {
        for (own, spelt, wanted) in [
            ("src/a.c", "a.c", Some(("src/", ""))),
            ("src/a.c", "../src/a.c", Some(("src/", "../src/"))),
            ("src/a.c", "./src/a.c", None),
            ("deps/x/", "../deps/x/", Some(("deps/", "../deps/"))),
            ("lib/sub/a.c", "sub/a.c", Some(("lib/", ""))),
            ("a.c", "../a.c", None),
            ("src/a.c", "/tree/src/a.c", None),
        ] {
            let told = renamed(own, spelt);
            let told = told.as_ref().map(|(ours, theirs)| (ours.as_str(), theirs.as_str()));
            assert_eq!(told, wanted, "{own} {spelt}");
            if let Some((ours, theirs)) = told {
                assert_eq!(own.replacen(ours, theirs, 1), spelt.trim_start_matches("./"), "{told:?}");
            }
        }
    }

    #[test]
    fn of_flags_that_contradict_each_other_the_last_counts() {
        for (one, other) in [
            ("-O2", "-Os"),
            ("-g", "-g3"),
            ("-Wall", "-Wno-all"),
            ("-fno-common", "-fcommon"),
            ("-std=c99", "-ansi"),
            ("-mavx", "-mno-avx"),
        ] {
            assert_eq!(family_of(one), family_of(other), "{one} and {other}");
        }
        for (one, other) in [("-Wall", "-Wextra"), ("-g", "-gsplit-dwarf"), ("-fA=1", "-fA=2"), ("-O2", "-openmp")] {
            assert_ne!(family_of(one), family_of(other), "{one} and {other}");
        }
    }
}
