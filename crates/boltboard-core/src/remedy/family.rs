//! Families of distributions: one table of all in which they differ.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::cost::{Ask, Cost, CostFault, column, sizes, told};
use crate::checks::{Package, ScriptLanguage};

/// Distributions that share package names and commands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Family {
    /// Debian, Ubuntu and what comes from them.
    Debian,
    /// Fedora, RHEL and what comes from them.
    Fedora,
    /// openSUSE and SLE.
    OpenSuse,
    /// Arch Linux and what comes from it.
    Arch,
    /// Alpine Linux.
    Alpine,
}

/// What a family is like.
struct Row {
    family: Family,
    /// Its name in boards, which is a key of the catalogue as well.
    key: &'static str,
    /// The name that people use.
    title: &'static str,
    /// What release files call its members; with a `-` at the end, what that begins with.
    ids: &'static [&'static str],
    /// The command that installs packages, without the packages.
    install: &'static [&'static str],
    /// The packages of modules for interpreters: what comes before and after the module's name, of Python and of Perl.
    modules: [(&'static str, &'static str); 2],
    /// Whether names of Perl packages are in lower case.
    lower_perl: bool,
    /// Whether a package is installed on the host below a root.
    has: fn(&Path, &str) -> bool,
    /// The packages that files belong to, on the host below a root.
    owners: fn(&Path, &BTreeSet<String>) -> BTreeMap<String, Package>,
    /// What packages would take.
    cost: fn(&Ask<'_>, &[Package]) -> Result<Cost, CostFault>,
}

const TABLE: [Row; 5] = [
    Row {
        family: Family::Debian,
        key: "debian",
        title: "Debian",
        ids: &["debian", "ubuntu"],
        install: &["apt", "install"],
        modules: [("python3-", ""), ("lib", "-perl")],
        lower_perl: true,
        has: debian_has,
        owners: debian_owners,
        cost: debian_cost,
    },
    Row {
        family: Family::Fedora,
        key: "fedora",
        title: "Fedora",
        ids: &["fedora", "rhel", "centos"],
        install: &["dnf", "install"],
        modules: [("python3-", ""), ("perl-", "")],
        lower_perl: false,
        // It keeps that in a form of its own.
        has: |_, _| false,
        owners: |_, _| BTreeMap::new(),
        cost: fedora_cost,
    },
    Row {
        family: Family::OpenSuse,
        key: "opensuse",
        title: "openSUSE",
        ids: &["suse", "opensuse", "sles", "opensuse-"],
        install: &["zypper", "install"],
        modules: [("python3-", ""), ("perl-", "")],
        lower_perl: false,
        has: |_, _| false,
        owners: |_, _| BTreeMap::new(),
        cost: opensuse_cost,
    },
    Row {
        family: Family::Arch,
        key: "arch",
        title: "Arch",
        ids: &["arch", "archlinux"],
        install: &["pacman", "-S"],
        modules: [("python-", ""), ("perl-", "")],
        lower_perl: true,
        has: arch_has,
        owners: arch_owners,
        cost: arch_cost,
    },
    Row {
        family: Family::Alpine,
        key: "alpine",
        title: "Alpine",
        ids: &["alpine"],
        install: &["apk", "add"],
        modules: [("py3-", ""), ("perl-", "")],
        lower_perl: true,
        has: alpine_has,
        owners: alpine_owners,
        cost: alpine_cost,
    },
];

impl Family {
    /// All families, in the order of our files.
    pub const ALL: [Family; 5] = [Family::Debian, Family::Fedora, Family::OpenSuse, Family::Arch, Family::Alpine];

    fn row(self) -> &'static Row {
        TABLE.iter().find(|row| row.family == self).expect("every family has a row")
    }

    /// Returns the name that boards use for it.
    pub fn key(self) -> &'static str {
        self.row().key
    }

    /// Returns the name that people use for it.
    pub fn title(self) -> &'static str {
        self.row().title
    }

    /// Returns what release files call its members; with a `-` at the end, what that begins with.
    pub fn ids(self) -> &'static [&'static str] {
        self.row().ids
    }

    /// Returns the command that installs packages, without the packages.
    pub fn install_words(self) -> &'static [&'static str] {
        self.row().install
    }

    pub(super) fn of_id(id: &str) -> Option<Family> {
        let is = |known: &&&str| **known == id || known.ends_with('-') && id.starts_with(**known);
        TABLE.iter().find(|row| row.ids.iter().any(|known| is(&known))).map(|row| row.family)
    }

    /// Tells whether a package is installed below a root, going by the package database's own files.
    pub(super) fn has(self, root: &Path, package: &Package) -> bool {
        (self.row().has)(root, package.as_str())
    }

    /// Returns the packages that files belong to, by the files.
    pub(crate) fn owners(self, root: &Path, files: &BTreeSet<String>) -> BTreeMap<String, Package> {
        (self.row().owners)(root, files)
    }

    /// Asks what packages would take.
    pub(super) fn cost(self, ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
        (self.row().cost)(ask, packages)
    }

    /// Returns the package of a module for an interpreter: they are named by rule.
    pub(super) fn module_package(self, language: ScriptLanguage, module: &str) -> Option<Package> {
        let row = self.row();
        let ((before, after), name) = match language {
            ScriptLanguage::Python => {
                (row.modules[0], module.split('.').next().unwrap_or_default().replace('_', "-").to_lowercase())
            }
            ScriptLanguage::Perl => {
                let name = module.replace("::", "-");
                (row.modules[1], if row.lower_perl { name.to_lowercase() } else { name })
            }
        };
        format!("{before}{name}{after}").parse().ok()
    }
}

fn debian_has(root: &Path, package: &str) -> bool {
    let info = root.join("var/lib/dpkg/info");
    let of_any_architecture = || begins_in(&info, &format!("{package}:"), ".list");
    info.join(format!("{package}.list")).is_file() || of_any_architecture()
}

fn debian_owners(root: &Path, files: &BTreeSet<String>) -> BTreeMap<String, Package> {
    let mut wanted: BTreeMap<String, &String> = BTreeMap::new();
    for file in files {
        wanted.insert(file.clone(), file);
        // Where the root's folders are links into `usr`, packages name either.
        let other = file.strip_prefix("/usr").map_or_else(|| format!("/usr{file}"), str::to_string);
        wanted.insert(other, file);
    }
    let mut owners = BTreeMap::new();
    let Ok(entries) = std::fs::read_dir(root.join("var/lib/dpkg/info")) else { return owners };
    let mut lists: Vec<_> = entries.filter_map(|entry| Some(entry.ok()?.path())).collect();
    lists.sort();
    for list in lists.iter().filter(|list| list.extension().is_some_and(|ending| ending == "list")) {
        let Ok(text) = std::fs::read_to_string(list) else { continue };
        let name = list.file_stem().map_or(String::new(), |stem| stem.to_string_lossy().into_owned());
        let Ok(package) = name.split(':').next().unwrap_or_default().parse::<Package>() else { continue };
        for file in text.lines().filter_map(|line| wanted.get(line)) {
            owners.entry((*file).clone()).or_insert_with(|| package.clone());
        }
    }
    owners
}

fn arch_owners(root: &Path, files: &BTreeSet<String>) -> BTreeMap<String, Package> {
    let mut owners = BTreeMap::new();
    let Ok(entries) = std::fs::read_dir(root.join("var/lib/pacman/local")) else { return owners };
    let mut folders: Vec<_> = entries.filter_map(|entry| Some(entry.ok()?.path())).collect();
    folders.sort();
    for folder in folders {
        let Ok(text) = std::fs::read_to_string(folder.join("files")) else { continue };
        let name = folder.file_name().map_or(String::new(), |name| name.to_string_lossy().into_owned());
        let Some(package) = name.rsplitn(3, '-').nth(2).and_then(|name| name.parse::<Package>().ok()) else { continue };
        for file in text.lines().map(|line| format!("/{line}")).filter(|file| files.contains(file)) {
            owners.entry(file).or_insert_with(|| package.clone());
        }
    }
    owners
}

fn alpine_owners(root: &Path, files: &BTreeSet<String>) -> BTreeMap<String, Package> {
    let text = std::fs::read_to_string(root.join("lib/apk/db/installed")).unwrap_or_default();
    let mut owners = BTreeMap::new();
    let (mut package, mut folder): (Option<Package>, &str) = (None, "");
    for line in text.lines() {
        match line.split_once(':') {
            Some(("P", name)) => package = name.parse().ok(),
            Some(("F", name)) => folder = name,
            Some(("R", name)) => {
                let file = format!("/{folder}/{name}");
                if let Some(package) = package.as_ref().filter(|_| files.contains(&file)) {
                    owners.entry(file).or_insert_with(|| package.clone());
                }
            }
            _ => {}
        }
    }
    owners
}

fn arch_has(root: &Path, package: &str) -> bool {
    // Its folder is called `NAME-VERSION-RELEASE`, and names have dashes as well.
    std::fs::read_dir(root.join("var/lib/pacman/local")).is_ok_and(|entries| {
        let names = entries.filter_map(|entry| entry.ok()?.file_name().into_string().ok());
        names.into_iter().any(|name| name.rsplitn(3, '-').nth(2) == Some(package))
    })
}

fn alpine_has(root: &Path, package: &str) -> bool {
    let line = format!("P:{package}");
    std::fs::read_to_string(root.join("lib/apk/db/installed")).is_ok_and(|text| text.lines().any(|one| one == line))
}

/// Tells whether a folder holds a file whose name begins and ends so.
fn begins_in(folder: &Path, start: &str, end: &str) -> bool {
    let fits =
        |name: std::ffi::OsString| name.to_str().is_some_and(|name| name.starts_with(start) && name.ends_with(end));
    std::fs::read_dir(folder).is_ok_and(|entries| entries.filter_map(Result::ok).any(|entry| fits(entry.file_name())))
}

fn debian_cost(ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
    let planned = ask.of("apt-get", &["--simulate", "--no-remove", "-q", "install"], packages)?;
    let chain = planned.lines().filter_map(|line| line.strip_prefix("Inst ")?.split_whitespace().next()?.parse().ok());
    let chain: Vec<Package> = chain.collect();
    if chain.is_empty() {
        return Ok(Cost { download_bytes: Some(0), disk_bytes: Some(0), ..Cost::default() });
    }
    let about = ask.of("apt-cache", &["show", "--no-all-versions"], &chain)?;
    let sizes = sizes(&about);
    let sum = |of: &dyn Fn(&(u64, u64)) -> u64| Some(sizes.values().map(of).sum());
    // Sizes on disk are told in KiB.
    Ok(Cost { packages: chain, download_bytes: sum(&|s| s.0), disk_bytes: sum(&|s| s.1 * 1024) })
}

fn fedora_cost(ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
    let text = ask.of("dnf", &["--assumeno", "--quiet", "install"], packages)?;
    let chain: Vec<Package> = column(&text, "Installing", 0).iter().filter_map(|name| name.parse().ok()).collect();
    Ok(Cost { packages: chain, download_bytes: told(&text, "download size"), disk_bytes: told(&text, "nstalled size") })
}

fn opensuse_cost(ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
    let text = ask.of("zypper", &["--non-interactive", "install", "--dry-run"], packages)?;
    let mut lines = text.lines().skip_while(|line| !line.contains("going to be installed")).skip(1);
    let chain = lines.by_ref().take_while(|line| !line.trim().is_empty());
    let chain = chain.flat_map(Package::all_of).collect();
    Ok(Cost { packages: chain, download_bytes: told(&text, "download size"), disk_bytes: told(&text, "additional") })
}

fn arch_cost(ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
    let text = ask.of("pacman", &["-S", "--print", "--print-format", "%n %s"], packages)?;
    let lines = text.lines().filter_map(|line| line.trim().split_once(' '));
    let sized: Vec<(&str, u64)> = lines.filter_map(|(name, size)| Some((name, size.parse().ok()?))).collect();
    let download = sized.iter().map(|(_, size)| size).sum();
    let packages = sized.into_iter().filter_map(|(name, _)| name.parse().ok()).collect();
    Ok(Cost { packages, download_bytes: Some(download), disk_bytes: None })
}

fn alpine_cost(ask: &Ask<'_>, packages: &[Package]) -> Result<Cost, CostFault> {
    let text = ask.of("apk", &["add", "--simulate"], packages)?;
    let chain = text.lines().filter_map(|line| line.split_once(") Installing ")).map(|(_, rest)| rest);
    let packages = chain.filter_map(|rest| rest.split_whitespace().next()?.parse().ok()).collect();
    Ok(Cost { packages, download_bytes: None, disk_bytes: None })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_told_their_packages_by_the_database() {
        let root = tempfile::tempdir().unwrap();
        let at = |path: &str, text: &str| {
            let file = root.path().join(path);
            std::fs::create_dir_all(file.parent().unwrap()).unwrap();
            std::fs::write(file, text).unwrap();
        };
        at("var/lib/dpkg/info/lamp-dev:amd64.list", "/.\n/lib/liblamp.so\n/usr/include/lamp.h\n");
        at("var/lib/pacman/local/lamp-kit-1.2-3/files", "%FILES%\nusr/include/lamp.h\nusr/lib/liblamp.so\n");
        at(
            "lib/apk/db/installed",
            "P:fog\nF:usr/bin\nR:fog\n\nP:lamp\nF:usr/include\nR:lamp.h\nF:usr/lib\nR:liblamp.so\n",
        );
        let files = ["/usr/include/lamp.h", "/usr/lib/liblamp.so", "/usr/include/other.h"].map(str::to_string).into();
        for (family, package) in [(Family::Debian, "lamp-dev"), (Family::Arch, "lamp-kit"), (Family::Alpine, "lamp")] {
            let owners = family.owners(root.path(), &files);
            assert_eq!(owners.len(), 2, "{family:?}: {owners:?}");
            assert!(owners.values().all(|owner| owner.as_str() == package), "{family:?}: {owners:?}");
        }
        assert!(Family::Fedora.owners(root.path(), &files).is_empty());
    }

    #[test]
    fn every_family_has_a_row_and_a_key_of_our_files() {
        let keys: Vec<&str> = Family::ALL.iter().map(|family| family.key()).collect();
        assert_eq!(keys, crate::definitions::DISTRIBUTIONS);
        assert_eq!(TABLE.len(), Family::ALL.len());
    }
}
