//! The programs that stand behind a compiler: it hands its work to them, so another assembler makes other objects although the
//! compiler's own file is the same.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::Language;

/// What each line about a program begins with.
const MARK: &str = "program: ";

/// The programs behind a compiler.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Behind {
    /// A line for each: where it lies, how large it is, when it was last changed.
    pub lines: String,
    /// Where they lie, and the places where they would have been found before.
    pub places: Vec<PathBuf>,
}

impl Behind {
    /// Looks for the programs where the compiler does: in the folders that it names on a line `programs:`, then in the search path.
    pub fn of(folders: &str, language: Language, search_path: &str) -> Behind {
        let line = folders.lines().find_map(|line| line.strip_prefix("programs:")).unwrap_or_default();
        let own = line.trim().trim_start_matches('=').split(':');
        let mut places: Vec<PathBuf> = Vec::new();
        let mut there: Vec<PathBuf> = Vec::new();
        for folder in own.chain(search_path.split(':')).map(Path::new).filter(|folder| folder.is_absolute()) {
            let (list, folder) = match folder.canonicalize() {
                Ok(folder) => (&mut there, folder),
                // Paths that lead up again from what is not there lead nowhere.
                Err(_) if folder.components().any(|part| part == std::path::Component::ParentDir) => continue,
                Err(_) => (&mut places, folder.to_path_buf()),
            };
            if !list.contains(&folder) {
                list.push(folder);
            }
        }
        let proper = match language {
            Language::Cxx => "cc1plus",
            Language::Fortran | Language::FortranWithCpp => "f951",
            Language::C | Language::Asm | Language::AsmWithCpp | Language::OwnAsm => "cc1",
        };
        let mut lines = String::new();
        for name in [proper, "lto1", "collect2", "as", "ld"] {
            let found = there.iter().position(|folder| folder.join(name).is_file());
            let before = found.unwrap_or(there.len());
            places.extend(there[..before].iter().map(|folder| folder.join(name)));
            let Some(program) = found.map(|at| there[at].join(name)) else { continue };
            let real = program.canonicalize().unwrap_or_else(|_| program.clone());
            if let Ok(status) = std::fs::metadata(&real) {
                let (length, seconds, rest) = (status.len(), status.mtime(), status.mtime_nsec());
                lines.push_str(&format!("{MARK}{name}:{}:{length}:{seconds}:{rest}\n", real.display()));
            }
            places.extend([program, real]);
        }
        places.sort();
        places.dedup();
        Behind { lines, places }
    }

    /// The lines among others.
    pub fn lines_in(text: &str) -> impl Iterator<Item = &str> {
        text.lines().filter(|line| line.starts_with(MARK))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn programs_are_found_where_the_compiler_looks_and_places_before_them_count() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let write = |path: &str, text: &str| {
            std::fs::create_dir_all(root.join(path).parent().unwrap()).unwrap();
            std::fs::write(root.join(path), text).unwrap();
        };
        write("lib/cc1", "the compiler proper");
        write("first/x", "");
        write("usual/as", "an assembler");
        std::os::unix::fs::symlink(root.join("usual/as"), root.join("usual/ld")).unwrap();
        let shown = root.display().to_string();
        let told =
            format!("install: /x\nprograms: ={shown}/lib/:{shown}/lib/../lib/:{shown}/none/../bin:{shown}/gone/\n");
        let path = format!("{shown}/first:relative:{shown}/usual");
        let behind = Behind::of(&told, Language::C, &path);
        let names: Vec<&str> = Behind::lines_in(&behind.lines).filter_map(|line| line.split(':').nth(1)).collect();
        assert_eq!(names, [" cc1", " as", " ld"]);
        assert!(behind.lines.contains(&format!("ld:{shown}/usual/as:12:")), "{}", behind.lines);
        for place in ["gone", "lib/as", "first/as", "usual/as", "usual/ld", "first/ld", "usual/collect2", "lib/cc1"] {
            assert!(behind.places.contains(&root.join(place)), "{place} in {:?}", behind.places);
        }
        assert!(!behind.places.contains(&root.join("first/cc1")), "it was found before");
        write("usual/as", "another assembler");
        assert_ne!(Behind::of(&told, Language::C, &path).lines, behind.lines);
        assert!(!Behind::of(&told, Language::Cxx, &path).lines.contains("cc1"), "C++ has another one");
    }
}
