//! Which headers lead to which others, by what stands in them.

use std::collections::{BTreeSet, HashMap};
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::rc::Rc;

/// What headers include, each read once.
#[derive(Default)]
pub(super) struct Inclusions {
    named: HashMap<PathBuf, Rc<Names>>,
}

enum Names {
    /// The names, as they are written.
    Written(Vec<String>),
    /// One is made by a macro, so that it could be any.
    Any,
}

impl Inclusions {
    /// Returns those of the files `read` that can be reached from `start`. Conditions are not looked at, so it may be more than
    /// what a compiler would read, and never less.
    pub fn reachable(&mut self, start: &[PathBuf], read: &ByName) -> BTreeSet<PathBuf> {
        let mut reached: BTreeSet<PathBuf> = BTreeSet::new();
        let mut open: Vec<PathBuf> = start.to_vec();
        while let Some(file) = open.pop() {
            if !reached.insert(file.clone()) {
                continue;
            }
            match &*self.names(&file) {
                Names::Any => return read.all().cloned().chain(reached).collect(),
                Names::Written(names) => {
                    let meant = names.iter().flat_map(|name| read.ending_in(Path::new(name)));
                    open.extend(meant.filter(|other| !reached.contains(*other)).cloned());
                }
            }
        }
        reached
    }

    /// Returns how many files headers lead to, found in these folders; many headers count as very many.
    pub fn weight(&mut self, headers: &[String], folders: &[PathBuf]) -> usize {
        const MANY: usize = 300;
        let find = |name: &str| folders.iter().map(|folder| folder.join(name)).find(|file| file.is_file());
        let mut reached: BTreeSet<PathBuf> = BTreeSet::new();
        let mut open: Vec<PathBuf> = headers.iter().filter_map(|header| find(header)).collect();
        while let Some(file) = open.pop() {
            if reached.len() > MANY || !reached.insert(file.clone()) {
                continue;
            }
            if let Names::Written(names) = &*self.names(&file) {
                let beside = |name: &str| file.parent().map(|folder| folder.join(name)).filter(|file| file.is_file());
                open.extend(names.iter().filter_map(|name| find(name).or_else(|| beside(name))));
            }
        }
        reached.len()
    }

    fn names(&mut self, file: &Path) -> Rc<Names> {
        if let Some(known) = self.named.get(file) {
            return Rc::clone(known);
        }
        let text = std::fs::read(file).map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default();
        let names = Rc::new(names_in(&text));
        self.named.insert(file.to_path_buf(), Rc::clone(&names));
        names
    }
}

/// Files by the last part of their paths.
#[derive(Default)]
pub(super) struct ByName {
    files: HashMap<OsString, Vec<PathBuf>>,
}

impl ByName {
    /// Takes in files.
    pub fn of(files: &BTreeSet<PathBuf>) -> ByName {
        let mut by_name = ByName::default();
        for file in files {
            let name = file.file_name().unwrap_or_default().to_os_string();
            by_name.files.entry(name).or_default().push(file.clone());
        }
        by_name
    }

    fn all(&self) -> impl Iterator<Item = &PathBuf> {
        self.files.values().flatten()
    }

    fn ending_in(&self, tail: &Path) -> impl Iterator<Item = &PathBuf> {
        let same_name = self.files.get(tail.file_name().unwrap_or_default());
        same_name.into_iter().flatten().filter(move |file| file.ends_with(tail))
    }
}

fn names_in(text: &str) -> Names {
    let mut names = Vec::new();
    for line in text.lines() {
        let Some(rest) = line.trim_start().strip_prefix('#').map(str::trim_start) else { continue };
        let Some(rest) = rest.strip_prefix("include_next").or_else(|| rest.strip_prefix("include")) else { continue };
        let rest = rest.trim_start();
        let close = match rest.chars().next() {
            Some('<') => '>',
            Some('"') => '"',
            _ => return Names::Any,
        };
        // `../` leads out of a folder; the rest of the path tells the file.
        let name = rest[1..].split(close).next().unwrap_or_default();
        names.push(name.rsplit("../").next().unwrap_or(name).trim_start_matches("./").to_string());
    }
    Names::Written(names)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_reached_through_what_they_name() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        for (name, text) in [
            ("top.h", "# include <bits/a.h>\n#ifdef NEVER\n#include \"../b.h\"\n#endif\n"),
            ("bits/a.h", "#include_next <c.h>\n"),
            ("b.h", ""),
            ("c.h", "#include <top.h>\n"),
            ("other.h", "#include MADE_UP\n"),
        ] {
            std::fs::create_dir_all(at(name).parent().unwrap()).unwrap();
            std::fs::write(at(name), text).unwrap();
        }
        let read: BTreeSet<PathBuf> = ["top.h", "bits/a.h", "b.h", "c.h", "other.h"].map(at).into();
        let reach = |name: &str| Inclusions::default().reachable(&[at(name)], &ByName::of(&read));
        assert_eq!(reach("top.h"), ["top.h", "bits/a.h", "b.h", "c.h"].map(at).into());
        assert_eq!(reach("b.h"), [at("b.h")].into());
        assert_eq!(reach("other.h"), read, "a name that a macro makes can be any");
    }
}
