//! Where profiles lie.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::choices::ProfileSource;
use super::file::{ProfileFile, ProfileName};
use crate::base::FileError;

/// What the names of facts kept beside a profile end in.
const HOST_ENDING: &str = ".host";

/// Where profiles are kept.
#[derive(Debug, Clone)]
pub struct Shelf {
    /// The folder of the person's own.
    pub own: PathBuf,
    /// The folder of those that the tree ships.
    pub shipped: PathBuf,
    /// A profile that lies elsewhere, and hides others of its name.
    pub aside: Option<(ProfileName, PathBuf)>,
}

impl Shelf {
    /// Returns where a person's own profile lies, whether or not it is there.
    pub fn own_path(&self, name: &ProfileName) -> PathBuf {
        match &self.aside {
            Some((aside, path)) if aside == name => path.clone(),
            _ => self.own.join(format!("{name}.toml")),
        }
    }

    /// Returns where the facts of the host that a profile was last built on are kept, beside a profile of one's own.
    pub fn host_path(&self, name: &ProfileName) -> PathBuf {
        self.own.join(format!("{name}{HOST_ENDING}.toml"))
    }

    /// Returns the same beside a shipped profile.
    pub fn shipped_host_path(&self, name: &ProfileName) -> PathBuf {
        self.shipped.join(format!("{name}{HOST_ENDING}.toml"))
    }

    /// Returns all profiles by name; one's own hides a shipped one of the same name.
    ///
    /// # Errors
    /// A folder is there and cannot be listed.
    pub fn list(&self) -> Result<BTreeMap<ProfileName, ProfileSource>, FileError> {
        let mut found = BTreeMap::new();
        for (folder, source) in [(&self.shipped, ProfileSource::Shipped), (&self.own, ProfileSource::Own)] {
            let entries = match std::fs::read_dir(folder) {
                Ok(entries) => entries,
                Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => {
                    continue;
                }
                Err(e) => return Err(FileError::on("list", folder)(e)),
            };
            for entry in entries.filter_map(Result::ok) {
                let name = entry.file_name().to_string_lossy().into_owned();
                let name =
                    name.strip_suffix(".toml").filter(|name| !name.ends_with(HOST_ENDING)).and_then(ProfileName::parse);
                found.extend(name.map(|name| (name, source)));
            }
        }
        found.extend(self.aside.iter().map(|(name, _)| (name.clone(), ProfileSource::Own)));
        Ok(found)
    }

    /// Returns where a profile is looked for, first to last.
    pub fn places(&self, name: &ProfileName) -> [PathBuf; 2] {
        [self.own_path(name), self.shipped.join(format!("{name}.toml"))]
    }

    pub(super) fn find(&self, name: &ProfileName) -> Option<(PathBuf, ProfileSource)> {
        let sources = [ProfileSource::Own, ProfileSource::Shipped];
        if let Some((_, path)) = self.aside.as_ref().filter(|(aside, _)| aside == name) {
            return Some((path.clone(), ProfileSource::Own));
        }
        self.places(name).into_iter().zip(sources).find(|(path, _)| path.exists())
    }
}

/// Returns the profiles that a profile's text says it is based on; none where it is no profile.
pub fn bases_of(text: &str) -> Vec<ProfileName> {
    ProfileFile::of_text(Path::new(""), text).map_or(Vec::new(), |file| file.base())
}
