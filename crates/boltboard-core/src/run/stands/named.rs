//! Files that the words of a command name: lists of further words, version scripts, profiles. No dependency file and no linker's
//! trace tells of them, yet what comes out follows from them.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// How deep lists of words may name further lists.
const MAX_DEPTH: usize = 8;
/// Words behind which folders or macros are named, no files.
const OTHERS: [&str; 8] = ["-D", "-U", "-I", "-L", "-l", "-iquote", "-isystem", "-idirafter"];

/// Returns the files that are there and that words name: alone, after `=` or `,`, after `@` (then also those that the words in it
/// name), or right behind `-T`. Paths are relative to `folder`, where the command runs.
pub fn named_files<'w>(words: impl IntoIterator<Item = &'w str>, folder: &Path) -> BTreeSet<PathBuf> {
    let mut files = BTreeSet::new();
    words.into_iter().for_each(|word| add(word, folder, MAX_DEPTH, &mut files));
    files
}

/// Returns the lists of further words among these files, with the files that these name: a list may define macros as words do.
pub fn listed_files<'w>(words: impl IntoIterator<Item = &'w str>, folder: &Path) -> BTreeSet<PathBuf> {
    named_files(words.into_iter().filter(|word| word.split([',', '=']).any(|piece| piece.starts_with('@'))), folder)
}

fn add(word: &str, folder: &Path, depth: usize, files: &mut BTreeSet<PathBuf>) {
    if OTHERS.iter().any(|other| word.starts_with(other)) || word.contains("-prefix-map=") {
        return;
    }
    let glued = word.strip_prefix("-T").filter(|name| !name.is_empty());
    for piece in glued.into_iter().chain(word.split([',', '='])) {
        let (list, name) = piece.strip_prefix('@').map_or((false, piece), |name| (true, name));
        let path = folder.join(name);
        if name.is_empty() || name.starts_with('-') || files.contains(&path) || !path.is_file() {
            continue;
        }
        files.insert(path.clone());
        if list
            && depth > 0
            && let Ok(text) = std::fs::read_to_string(&path)
        {
            let further = text.split_whitespace().map(|word| word.trim_matches(['"', '\'']));
            further.for_each(|word| add(word, folder, depth - 1, files));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_named_in_several_ways() {
        let folder = tempfile::tempdir().unwrap();
        let write = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        for name in ["v.map", "script.ld", "x.profdata", "own.specs", "deep.rsp", "1"] {
            write(name, "");
        }
        write("more.rsp", "-O1 \"@deep.rsp\"\n -Wl,--version-script=v.map @more.rsp @gone.rsp");
        for (word, want) in [
            ("v.map", &["v.map"][..]),
            ("-Wl,--version-script=v.map", &["v.map"]),
            ("-Wl,-T,script.ld", &["script.ld"]),
            ("-Tscript.ld", &["script.ld"]),
            ("-fprofile-use=x.profdata", &["x.profdata"]),
            ("-specs=own.specs", &["own.specs"]),
            ("@more.rsp", &["more.rsp", "deep.rsp", "v.map"]),
            ("-Wl,@deep.rsp", &["deep.rsp"]),
            ("-T", &[]),
            ("-DX=1", &[]),
            ("-O1", &[]),
            ("-Wl,--version-script=gone.map", &[]),
            ("-I.", &[]),
        ] {
            let want: BTreeSet<PathBuf> = want.iter().map(|name| folder.path().join(name)).collect();
            assert_eq!(named_files([word], folder.path()), want, "{word}");
            let listed = if word.contains('@') { want } else { BTreeSet::new() };
            assert_eq!(listed_files([word], folder.path()), listed, "{word}");
        }
    }
}
