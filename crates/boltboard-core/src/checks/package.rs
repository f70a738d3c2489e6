//! Names of packages: they reach the person's shell in commands that we print, so no other text can be one.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// The name of a package of a distribution: letters, digits and `-.+_:/`, with no `-` before and no `..` within.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Package(String);

/// A text is no name of a package.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not the name of a package")]
pub struct PackageFault(String);

impl FromStr for Package {
    type Err = PackageFault;
    fn from_str(text: &str) -> Result<Self, PackageFault> {
        let sound = |c: char| c.is_ascii_alphanumeric() || "-.+_:/".contains(c);
        let fits = !text.is_empty() && text.len() <= 300 && text.chars().all(sound);
        if fits && !text.starts_with(['-', '/']) && !text.contains("..") {
            Ok(Package(text.to_string()))
        } else {
            Err(PackageFault(text.chars().take(60).collect()))
        }
    }
}

impl Package {
    /// Reads names with blanks between them, and leaves out what is none.
    pub fn all_of(text: &str) -> Vec<Package> {
        text.split_whitespace().filter_map(|name| name.parse().ok()).collect()
    }

    /// Its name.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Writes names with blanks between them.
    pub fn joined(packages: &[Package]) -> String {
        packages.iter().map(Package::as_str).collect::<Vec<_>>().join(" ")
    }
}

impl fmt::Display for Package {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_shell_could_take_for_more_is_no_package() {
        for sound in ["libx-dev", "g++", "dev-libs/x", "a_b.c"] {
            assert_eq!(sound.parse::<Package>().unwrap().as_str(), sound);
        }
        for unsound in ["", "-y", "a b", "a;b", "$(x)", "../x", "/etc/x", "a\nb", "ä"] {
            assert!(unsound.parse::<Package>().is_err(), "{unsound:?}");
        }
    }
}
