//! Which distribution a host runs, how packages are installed there, and which are.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use super::family::Family;
use crate::checks::Package;

/// A distribution.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Distribution {
    /// What it calls itself, such as `Debian GNU/Linux 12 (bookworm)`; empty when it does not say.
    pub title: String,
    /// The family whose package names and commands it shares, if it is one that we know.
    pub family: Option<Family>,
    /// The folder below which its package database lies; none where it is not this host's own.
    pub root: Option<PathBuf>,
}

impl Distribution {
    /// Reads the system's own release file (`/etc/os-release`): what it is, else what it is like.
    pub fn of_release_file(text: &str) -> Distribution {
        let field = |key: &str| {
            let line = text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('='));
            line.map(|value| value.trim().trim_matches(['"', '\'']).to_string()).unwrap_or_default()
        };
        let ids = format!("{} {}", field("ID"), field("ID_LIKE")).to_lowercase();
        let family = ids.split_whitespace().find_map(Family::of_id);
        let pretty = field("PRETTY_NAME");
        let title = if pretty.is_empty() { field("NAME") } else { pretty };
        Distribution { title, family, root: None }
    }

    /// Returns the packages that some files belong to, by the files, going by the package database's own files. What cannot be told so is left
    /// out.
    pub fn owners(&self, files: &BTreeSet<String>) -> BTreeMap<String, Package> {
        match (&self.root, self.family) {
            (Some(root), Some(family)) if !files.is_empty() => family.owners(root, files),
            _ => BTreeMap::new(),
        }
    }

    /// Tells whether a package is installed, going by the package database's own files. What cannot be told so is taken as not installed.
    pub fn has(&self, package: &Package) -> bool {
        let (Some(root), Some(family)) = (&self.root, self.family) else { return false };
        family.has(root, package)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn families_are_told_by_the_release_file() {
        for (text, family, title) in [
            ("PRETTY_NAME=\"Debian GNU/Linux 12\"\nID=debian\n", Some(Family::Debian), "Debian GNU/Linux 12"),
            ("NAME=Harbour\nID=harbour\nID_LIKE=\"ubuntu debian\"\n", Some(Family::Debian), "Harbour"),
            ("ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\n", Some(Family::Fedora), ""),
            ("ID=\"opensuse-tumbleweed\"\nID_LIKE=\"opensuse suse\"\n", Some(Family::OpenSuse), ""),
            ("ID=manjaro\nID_LIKE=arch\n", Some(Family::Arch), ""),
            ("ID=alpine\nVERSION_ID=3.20\n", Some(Family::Alpine), ""),
            ("ID=reef\nID_LIKE=\nNAME='Reef OS'\n", None, "Reef OS"),
            ("", None, ""),
        ] {
            let want = Distribution { title: title.into(), family, root: None };
            assert_eq!(Distribution::of_release_file(text), want, "{text}");
        }
    }

    #[test]
    fn installed_packages_are_told_by_the_database() {
        let has = |here: &Distribution, name: &str| here.has(&name.parse().expect("a name"));
        let folder = tempfile::tempdir().unwrap();
        let at = |path: &str, text: &str| {
            let path = folder.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, text).unwrap();
        };
        at("var/lib/dpkg/info/lamp-dev.list", "");
        at("var/lib/dpkg/info/libfog1:amd64.list", "");
        at("var/lib/pacman/local/lamp-dev-1.2-3/desc", "");
        at("lib/apk/db/installed", "C:Q1\nP:lamp-dev\nV:1\n");
        let root = Some(folder.path().to_path_buf());
        for family in [Family::Debian, Family::Arch, Family::Alpine] {
            let here = Distribution { title: String::new(), family: Some(family), root: root.clone() };
            assert!(has(&here, "lamp-dev") && !has(&here, "lamp") && !has(&here, "libfog"), "{family:?}");
            assert_eq!(has(&here, "libfog1"), family == Family::Debian);
        }
        let aside = Distribution { title: String::new(), family: Some(Family::Debian), root: None };
        assert!(!has(&aside, "lamp-dev"));
    }
}
