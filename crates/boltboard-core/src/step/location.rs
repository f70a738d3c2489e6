//! Where files of a build lie, independent of where tree and build are on this machine.

use std::fmt;
use std::path::{Path, PathBuf};
use std::str::FromStr;

use crate::base::RelPath;
use crate::work::Folders;

/// A file that a step reads or writes.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Location {
    /// A source, below the tree's root.
    Tree(RelPath),
    /// A generated file.
    Made(RelPath),
    /// An object.
    Object(RelPath),
    /// A finished part.
    Output(RelPath),
    /// A file of the host.
    System(PathBuf),
}

impl Location {
    /// Returns the file on this machine.
    pub fn path(&self, folders: &Folders) -> PathBuf {
        match self {
            Location::Tree(path) => path.below(&folders.tree),
            Location::Made(path) => path.below(&folders.made()),
            Location::Object(path) => path.below(&folders.objects()),
            Location::Output(path) => path.below(&folders.parts()),
            Location::System(path) => path.clone(),
        }
    }

    /// Returns the file that people get: of a finished part the one with its record.
    pub fn handed_path(&self, folders: &Folders) -> PathBuf {
        match self {
            Location::Output(path) => path.below(&folders.outputs()),
            _ => self.path(folders),
        }
    }

    /// Returns its path below the folder of generated files, if it lies there.
    pub fn made(&self) -> Option<&RelPath> {
        match self {
            Location::Made(path) => Some(path),
            Location::Tree(_) | Location::Object(_) | Location::Output(_) | Location::System(_) => None,
        }
    }

    /// Returns its path from a folder on, if it is that folder or lies beneath it.
    pub fn beneath(&self, folder: &Location) -> Option<String> {
        match (self, folder) {
            (Location::Tree(path), Location::Tree(folder))
            | (Location::Made(path), Location::Made(folder))
            | (Location::Object(path), Location::Object(folder))
            | (Location::Output(path), Location::Output(folder)) => {
                path.beneath(folder).map(|rest| rest.as_str().to_string())
            }
            (Location::System(path), Location::System(folder)) => {
                path.strip_prefix(folder).ok().and_then(|rest| rest.to_str()).map(str::to_string)
            }
            _ => None,
        }
    }

    /// Returns the last name of its path; a file of the host has none here.
    pub fn name(&self) -> &str {
        match self {
            Location::Tree(path) | Location::Made(path) | Location::Object(path) | Location::Output(path) => {
                path.name()
            }
            Location::System(_) => "",
        }
    }

    /// Returns the location of another file in its folder; `None` for a name that cannot be.
    pub fn beside(&self, name: &str) -> Option<Location> {
        let sibling = |path: &RelPath| path.parent().join(name).ok();
        match self {
            Location::Tree(path) => sibling(path).map(Location::Tree),
            Location::Made(path) => sibling(path).map(Location::Made),
            Location::Object(path) => sibling(path).map(Location::Object),
            Location::Output(path) => sibling(path).map(Location::Output),
            Location::System(path) => Some(Location::System(path.with_file_name(name))),
        }
    }

    /// Returns the location of a file on this machine; `path` is absolute or relative to the tree.
    pub fn of(path: &Path, folders: &Folders) -> Location {
        let absolute = if path.is_absolute() { path.to_path_buf() } else { folders.tree.join(path) };
        let dotted = absolute.components().any(|c| c.as_os_str() == "..");
        let absolute = if dotted { without_dots(absolute) } else { absolute };
        let below = |root: &Path| RelPath::of(&absolute, root);
        let of_build = || {
            None.or_else(|| below(&folders.made()).map(Location::Made))
                .or_else(|| below(&folders.objects()).map(Location::Object))
                .or_else(|| below(&folders.parts()).map(Location::Output))
                // What people get is the same part.
                .or_else(|| below(&folders.outputs()).map(Location::Output))
        };
        // The build may lie within the tree, so it comes first.
        let found = if absolute.starts_with(&folders.build) { of_build() } else { None };
        found.or_else(|| below(&folders.tree).map(Location::Tree)).unwrap_or(Location::System(absolute))
    }
}

/// Spells a path with `..` without them. Links stay in it where that leads to the same file, because they may come to lead
/// elsewhere; else it goes by what it leads to, as the compiler opens it.
fn without_dots(path: PathBuf) -> PathBuf {
    let mut plain = PathBuf::new();
    for part in path.components() {
        if part.as_os_str() == ".." {
            plain.pop();
        } else {
            plain.push(part);
        }
    }
    match path.canonicalize() {
        Ok(real) if plain.canonicalize().is_ok_and(|same| same == real) => plain,
        Ok(real) => real,
        Err(_) => path,
    }
}

impl fmt::Display for Location {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Location::Tree(path) => write!(f, "{path}"),
            Location::Made(path) => write!(f, "made/{path}"),
            Location::Object(path) => write!(f, "objects/{path}"),
            Location::Output(path) => write!(f, "out/{path}"),
            Location::System(path) => write!(f, "{}", path.display()),
        }
    }
}

/// The form in which locations are kept on disk: a root's name, a colon, the path.
impl Location {
    /// Returns the form that is kept on disk.
    pub fn kept(&self) -> String {
        match self {
            Location::Tree(path) => format!("tree:{path}"),
            Location::Made(path) => format!("made:{path}"),
            Location::Object(path) => format!("object:{path}"),
            Location::Output(path) => format!("out:{path}"),
            Location::System(path) => format!("system:{}", path.display()),
        }
    }
}

/// A text is no kept location.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no location")]
pub struct LocationFault(String);

impl LocationFault {
    pub(super) fn of(text: &str) -> LocationFault {
        LocationFault(text.to_string())
    }
}

impl FromStr for Location {
    type Err = LocationFault;
    fn from_str(text: &str) -> Result<Location, LocationFault> {
        let fault = || LocationFault(text.to_string());
        let (root, path) = text.split_once(':').ok_or_else(fault)?;
        let below = || RelPath::of_file(path).map_err(|_| fault());
        Ok(match root {
            "tree" => Location::Tree(below()?),
            "made" => Location::Made(below()?),
            "object" => Location::Object(below()?),
            "out" => Location::Output(below()?),
            "system" => Location::System(path.into()),
            _ => return Err(fault()),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::tree;

    #[test]
    fn locations_are_kept_and_read_back() {
        let tree = tree();
        let folders = tree.folders();
        for (path, kept, shown) in [
            (folders.tree.join("a/b.c"), "tree:a/b.c", "a/b.c"),
            (folders.made().join("x.h"), "made:x.h", "made/x.h"),
            (folders.objects().join("p/x.o"), "object:p/x.o", "objects/p/x.o"),
            (folders.parts().join("bin/p"), "out:bin/p", "out/bin/p"),
            ("/usr/include/stdio.h".into(), "system:/usr/include/stdio.h", "/usr/include/stdio.h"),
        ] {
            let location = Location::of(&path, &folders);
            assert_eq!((location.kept().as_str(), location.to_string().as_str()), (kept, shown));
            assert_eq!(kept.parse::<Location>(), Ok(location.clone()));
            assert_eq!(location.path(&folders), path);
        }
        assert!("nowhere:x".parse::<Location>().is_err() && "tree:../x".parse::<Location>().is_err());
    }
}
