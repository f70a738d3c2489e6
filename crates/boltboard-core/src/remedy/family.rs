//! Families of distributions: one table of all in which they differ.

use std::path::Path;

use super::cost::{Ask, Cost, CostFault, column, sizes, told};
use crate::board::ScriptLanguage;

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
    /// What packages would take.
    cost: fn(&Ask<'_>, &[String]) -> Result<Cost, CostFault>,
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

    /// Returns the command that installs packages, without the packages.
    pub fn install_words(self) -> &'static [&'static str] {
        self.row().install
    }

    pub(super) fn of_id(id: &str) -> Option<Family> {
        let is = |known: &&&str| **known == id || known.ends_with('-') && id.starts_with(**known);
        TABLE.iter().find(|row| row.ids.iter().any(|known| is(&known))).map(|row| row.family)
    }

    /// Tells whether a package is installed below a root, going by the package database's own files.
    pub(super) fn has(self, root: &Path, package: &str) -> bool {
        (self.row().has)(root, package)
    }

    /// Asks what packages would take.
    pub(super) fn cost(self, ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
        (self.row().cost)(ask, packages)
    }

    /// Returns the package of a module for an interpreter: they are named by rule.
    pub(super) fn module_package(self, language: ScriptLanguage, module: &str) -> String {
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
        format!("{before}{name}{after}")
    }
}

fn debian_has(root: &Path, package: &str) -> bool {
    let info = root.join("var/lib/dpkg/info");
    let of_any_architecture = || begins_in(&info, &format!("{package}:"), ".list");
    info.join(format!("{package}.list")).is_file() || of_any_architecture()
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

fn debian_cost(ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
    let planned = ask.of("apt-get", &["--simulate", "--no-remove", "-q", "install"], packages)?;
    let chain: Vec<String> = planned
        .lines()
        .filter_map(|line| line.strip_prefix("Inst ")?.split_whitespace().next().map(str::to_string))
        .collect();
    if chain.is_empty() {
        return Ok(Cost { download_bytes: Some(0), disk_bytes: Some(0), ..Cost::default() });
    }
    let about = ask.of("apt-cache", &["show", "--no-all-versions"], &chain)?;
    let sizes = sizes(&about);
    let sum = |of: &dyn Fn(&(u64, u64)) -> u64| Some(sizes.values().map(of).sum());
    // Sizes on disk are told in KiB.
    Ok(Cost { packages: chain, download_bytes: sum(&|s| s.0), disk_bytes: sum(&|s| s.1 * 1024) })
}

fn fedora_cost(ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
    let text = ask.of("dnf", &["--assumeno", "--quiet", "install"], packages)?;
    let chain = column(&text, "Installing", 0);
    Ok(Cost { packages: chain, download_bytes: told(&text, "download size"), disk_bytes: told(&text, "nstalled size") })
}

fn opensuse_cost(ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
    let text = ask.of("zypper", &["--non-interactive", "install", "--dry-run"], packages)?;
    let mut lines = text.lines().skip_while(|line| !line.contains("going to be installed")).skip(1);
    let chain = lines.by_ref().take_while(|line| !line.trim().is_empty());
    let chain = chain.flat_map(str::split_whitespace).map(str::to_string).collect();
    Ok(Cost { packages: chain, download_bytes: told(&text, "download size"), disk_bytes: told(&text, "additional") })
}

fn arch_cost(ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
    let text = ask.of("pacman", &["-S", "--print", "--print-format", "%n %s"], packages)?;
    let lines = text.lines().filter_map(|line| line.trim().split_once(' '));
    let sized: Vec<(&str, u64)> = lines.filter_map(|(name, size)| Some((name, size.parse().ok()?))).collect();
    let download = sized.iter().map(|(_, size)| size).sum();
    let packages = sized.into_iter().map(|(name, _)| name.to_string()).collect();
    Ok(Cost { packages, download_bytes: Some(download), disk_bytes: None })
}

fn alpine_cost(ask: &Ask<'_>, packages: &[String]) -> Result<Cost, CostFault> {
    let text = ask.of("apk", &["add", "--simulate"], packages)?;
    let chain = text.lines().filter_map(|line| line.split_once(") Installing ")).map(|(_, rest)| rest);
    let packages = chain.filter_map(|rest| rest.split_whitespace().next()).map(str::to_string).collect();
    Ok(Cost { packages, download_bytes: None, disk_bytes: None })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_family_has_a_row_and_a_key_of_our_files() {
        let keys: Vec<&str> = Family::ALL.iter().map(|family| family.key()).collect();
        assert_eq!(keys, crate::definitions::DISTRIBUTIONS);
        assert_eq!(TABLE.len(), Family::ALL.len());
    }
}
