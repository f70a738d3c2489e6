//! Where a compile looks for headers: the folders that its words name, in the order in which they are searched.

use std::path::Path;

use super::location::Location;
use crate::work::Folders;

/// Folders searched for headers, around the compiler's own.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct HeaderSearch {
    /// Only for headers in quotes, before all others.
    pub quoted: Vec<Location>,
    /// Before the compiler's own, first to last.
    pub before: Vec<Location>,
    /// After them.
    pub after: Vec<Location>,
}

/// The flags that name a folder, in its own word or in the next one, in the order in which their folders are searched.
const FLAGS: [&str; 4] = ["-iquote", "-I", "-isystem", "-idirafter"];

impl HeaderSearch {
    /// Reads the words of a compile.
    pub(super) fn of(words: &[String], folders: &Folders) -> HeaderSearch {
        let mut found: [Vec<Location>; 4] = Default::default();
        let mut words = words.iter();
        while let Some(word) = words.next() {
            let Some(sort) = FLAGS.iter().position(|flag| word.starts_with(flag)) else { continue };
            let folder = match &word[FLAGS[sort].len()..] {
                "" => words.next().map(String::as_str),
                own => Some(own),
            };
            let folder = folder.map(|folder| Location::of(Path::new(folder), folders));
            found[sort].extend(folder);
        }
        let [quoted, plain, system, after] = found;
        HeaderSearch { quoted, before: [plain, system].concat(), after }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_are_searched_by_the_sort_of_their_flag() {
        let folders = Folders { tree: "/tree".into(), build: "/tree/work/build".into() };
        let words = [
            "-I/tree/lamp",
            "-isystem",
            "/opt/a",
            "-O2",
            "-idirafter/opt/z",
            "-I/opt/b",
            "-I",
            "fog",
            "-iquotehere",
            "-include",
            "x.h",
        ]
        .map(String::from);
        let HeaderSearch { quoted, before, after } = HeaderSearch::of(&words, &folders);
        let names =
            |found: &[Location]| found.iter().map(|at| at.path(&folders).display().to_string()).collect::<Vec<_>>();
        assert_eq!(names(&quoted), ["/tree/here"]);
        assert_eq!(names(&before), ["/tree/lamp", "/opt/b", "/tree/fog", "/opt/a"]);
        assert_eq!(names(&after), ["/opt/z"]);
    }
}
