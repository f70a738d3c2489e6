//! Paths that cannot leave the folder that they are relative to.

use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use serde::{Deserialize, Serialize};

/// A path below some root: `/`-separated, without `.`, `..`, empty components or a leading `/`.
/// The empty path is the root itself. Copies share the text.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RelPath(Arc<str>);

/// Why a text is not a [`RelPath`].
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RelPathFault {
    /// The path starts at the file system's root.
    #[error("`{0}` is an absolute path; write it relative to this folder")]
    Absolute(String),
    /// Its `..` components lead above the root.
    #[error("`{0}` leaves the tree")]
    Leaves(String),
    /// It holds a control character.
    #[error("`{0}` holds a control character")]
    Control(String),
    /// It is longer than a file system takes.
    #[error("the path is longer than 4096 bytes")]
    TooLong,
}

/// What the names of files end in that a compiler takes.
pub const SOURCE_ENDINGS: [&str; 24] = [
    "c", "cc", "cpp", "cxx", "s", "S", "asm", "nasm", "f", "for", "ftn", "f90", "f95", "f03", "f08", "F", "FOR", "FTN",
    "fpp", "FPP", "F90", "F95", "F03", "F08",
];

/// Tells whether a file is one that a compiler takes, by the ending of its name.
pub fn is_source(path: &RelPath) -> bool {
    SOURCE_ENDINGS.contains(&path.extension())
}

/// Tells whether others include a file of this name.
pub fn is_header(path: &RelPath) -> bool {
    ["h", "hh", "hpp", "hxx", "h++", "inc", "ipp", "tpp", "def"].contains(&path.extension())
}

impl RelPath {
    /// Returns the root itself.
    pub fn root() -> RelPath {
        RelPath(Arc::default())
    }

    /// Reads a path that is relative to the root.
    ///
    /// # Errors
    /// See [`RelPathFault`].
    pub fn parse(text: &str) -> Result<RelPath, RelPathFault> {
        RelPath::root().join(text)
    }

    /// Reads a path relative to this folder; `..` may lead up, but not above the root.
    ///
    /// # Errors
    /// See [`RelPathFault`].
    pub fn join(&self, text: &str) -> Result<RelPath, RelPathFault> {
        if text.chars().any(char::is_control) {
            return Err(RelPathFault::Control(text.escape_debug().to_string()));
        }
        self.join_any(text)
    }

    /// Reads a path below the root that a file really has, whatever characters are in its name.
    ///
    /// # Errors
    /// See [`RelPathFault`].
    pub fn of_file(text: &str) -> Result<RelPath, RelPathFault> {
        RelPath::root().join_any(text)
    }

    fn join_any(&self, text: &str) -> Result<RelPath, RelPathFault> {
        if text.len() > 4096 {
            return Err(RelPathFault::TooLong);
        }
        if text.starts_with('/') {
            return Err(RelPathFault::Absolute(text.to_string()));
        }
        if text.split('/').all(|part| !matches!(part, "" | "." | "..")) {
            return Ok(self.child(text));
        }
        let mut parts: Vec<&str> = self.0.split('/').filter(|p| !p.is_empty()).collect();
        for part in text.split('/') {
            match part {
                "" | "." => {}
                ".." => {
                    if parts.pop().is_none() {
                        return Err(RelPathFault::Leaves(text.to_string()));
                    }
                }
                name => parts.push(name),
            }
        }
        Ok(RelPath(parts.join("/").into()))
    }

    /// Appends components that are known to be plain names.
    pub fn child(&self, name: &str) -> RelPath {
        if self.0.is_empty() { RelPath(name.into()) } else { RelPath(format!("{}/{name}", self.0).into()) }
    }

    /// Returns the path as text; empty for the root.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the folder that holds this path; the root's is the root.
    pub fn parent(&self) -> RelPath {
        RelPath(self.0.rsplit_once('/').map_or("", |(folder, _)| folder).into())
    }

    /// Returns the last component; empty for the root.
    pub fn name(&self) -> &str {
        self.0.rsplit_once('/').map_or(&*self.0, |(_, name)| name)
    }

    /// Returns the file name's ending without the dot, empty if there is none.
    pub fn extension(&self) -> &str {
        self.name().rsplit_once('.').map_or("", |(_, ending)| ending)
    }

    /// Returns this path below a real folder.
    pub fn below(&self, folder: &Path) -> PathBuf {
        if self.0.is_empty() { folder.to_path_buf() } else { folder.join(&*self.0) }
    }

    /// Returns what is left of this path beneath a folder, if it is that folder or lies beneath it.
    pub fn beneath(&self, folder: &RelPath) -> Option<RelPath> {
        if folder.0.is_empty() {
            return Some(self.clone());
        }
        let rest = self.0.strip_prefix(&*folder.0)?;
        if rest.is_empty() { Some(RelPath::root()) } else { rest.strip_prefix('/').map(|rest| RelPath(rest.into())) }
    }

    /// Returns what is left of `path` below `root`, if it is below it and valid UTF-8.
    pub fn of(path: &Path, root: &Path) -> Option<RelPath> {
        let rest = path.strip_prefix(root).ok()?;
        RelPath::of_file(rest.to_str()?).ok()
    }
}

impl fmt::Display for RelPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.0.is_empty() { "." } else { &self.0 })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stays_below_the_root() {
        let folder = RelPath::parse("src/net").unwrap();
        for (case, text, want) in [
            ("plain", "a.c", Some("src/net/a.c")),
            ("up and down", "../../include/x.h", Some("include/x.h")),
            ("dots and doubled slashes", "./x//y/.", Some("src/net/x/y")),
            ("the root itself", "../..", Some("")),
            ("above the root", "../../../etc", None),
            ("absolute", "/etc/passwd", None),
            ("a line break", "a\nb", None),
        ] {
            assert_eq!(folder.join(text).ok().as_ref().map(RelPath::as_str), want, "{case}");
        }
    }
}
