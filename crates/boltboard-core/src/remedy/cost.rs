//! What installing packages would bring along and take, asked of the distribution's package manager in its dry mode.

use std::collections::BTreeMap;
use std::path::Path;
use std::time::Duration;

use super::family::Family;
use crate::checks::Package;
use crate::launch::{Exit, Job, Launch, find_program};

/// A package manager that takes longer is ended.
const LIMIT: Duration = Duration::from_secs(60);

/// What packages would take.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Cost {
    /// All packages that would be installed, those asked for among them, in the package manager's order.
    pub packages: Vec<Package>,
    /// Bytes to fetch, where the package manager tells.
    pub download_bytes: Option<u64>,
    /// Bytes on disk, where the package manager tells.
    pub disk_bytes: Option<u64>,
}

/// Why there is no cost.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CostFault {
    /// The package manager is not there.
    #[error("there is no `{0}` in the search path")]
    NoManager(String),
    /// It did not answer as it should.
    #[error("`{command}` does not answer: {words}")]
    Silent {
        /// What was run.
        command: String,
        /// What it said.
        words: String,
    },
}

/// Asks what installing these packages would take. Nothing is installed or fetched.
///
/// # Errors
/// See [`CostFault`].
pub fn cost(family: Family, packages: &[Package], search_path: &str, launch: &dyn Launch) -> Result<Cost, CostFault> {
    family.cost(&Ask { search_path, launch }, packages)
}

/// Where package managers are asked.
pub(super) struct Ask<'a> {
    search_path: &'a str,
    launch: &'a dyn Launch,
}

impl Ask<'_> {
    /// Runs a package manager, and returns what it wrote.
    pub fn of(&self, program: &str, words: &[&str], more: &[Package]) -> Result<String, CostFault> {
        ask(program, words, more, self.search_path, self.launch)
    }
}

fn ask(
    program: &str,
    words: &[&str],
    more: &[Package],
    search_path: &str,
    launch: &dyn Launch,
) -> Result<String, CostFault> {
    let path =
        find_program(program, search_path, Path::new("/")).ok_or_else(|| CostFault::NoManager(program.into()))?;
    let arguments: Vec<String> =
        words.iter().map(ToString::to_string).chain(more.iter().map(Package::to_string)).collect();
    let command = format!("{program} {}", arguments.join(" "));
    let silent = |words: String| CostFault::Silent { command: command.clone(), words };
    let job = Job {
        program: path,
        arguments,
        folder: "/".into(),
        environment: [("PATH".to_string(), search_path.to_string()), ("LC_ALL".into(), "C".into())].into(),
        limit: Some(LIMIT),
        ..Job::default()
    };
    let outcome = launch.run(&job).map_err(|e| silent(e.source.to_string()))?;
    let text = outcome.stdout_text();
    match outcome.exit {
        Exit::Code(0) => Ok(text),
        // Some end with 1 after they were told to go no further.
        Exit::Code(1) if text.to_lowercase().contains("install") && !outcome.stderr_text().contains("rror") => Ok(text),
        Exit::TimedOut => Err(silent(format!("it did not end within {} s", LIMIT.as_secs()))),
        Exit::Code(_) | Exit::Signal(_) | Exit::Stopped => {
            let said = outcome.stderr_text();
            Err(silent(
                said.lines()
                    .find(|line| !line.trim().is_empty())
                    .unwrap_or("it failed without a message")
                    .trim()
                    .into(),
            ))
        }
    }
}

/// Reads download and disk size of each package from what `apt-cache show` tells.
pub(super) fn sizes(text: &str) -> BTreeMap<String, (u64, u64)> {
    let mut sizes: BTreeMap<String, (u64, u64)> = BTreeMap::new();
    let mut name = String::new();
    for line in text.lines() {
        if let Some(package) = line.strip_prefix("Package: ") {
            name = package.trim().to_string();
            sizes.entry(name.clone()).or_default();
        } else if let (Some(size), Some(entry)) = (line.strip_prefix("Size: "), sizes.get_mut(&name)) {
            entry.0 = size.trim().parse().unwrap_or(0);
        } else if let (Some(size), Some(entry)) = (line.strip_prefix("Installed-Size: "), sizes.get_mut(&name)) {
            entry.1 = size.trim().parse().unwrap_or(0);
        }
    }
    sizes
}

/// The words of one column below a title, up to an empty line.
pub(super) fn column(text: &str, title: &str, number: usize) -> Vec<String> {
    let mut names = Vec::new();
    let mut inside = false;
    for line in text.lines() {
        if line.starts_with(title) {
            inside = true;
        } else if line.trim().is_empty() || line.starts_with("Transaction") {
            inside = false;
        } else if inside && line.starts_with(' ') {
            names.extend(line.split_whitespace().nth(number).map(str::to_string));
        }
    }
    names
}

/// Reads a size such as `1.2 MiB` or `340 k` from the line that speaks of it.
pub(super) fn told(text: &str, about: &str) -> Option<u64> {
    let line = text.lines().find(|line| line.contains(about))?;
    let (_, rest) = line.split_once(about)?;
    let mut words = rest.split(|c: char| c.is_whitespace() || c == ':').filter(|word| !word.is_empty());
    let number: f64 = words.next()?.trim_end_matches(',').parse().ok()?;
    let unit = match words.next().and_then(|unit| unit.chars().next()).map(|c| c.to_ascii_lowercase()) {
        Some('k') => 1024.0,
        Some('m') => 1024.0 * 1024.0,
        Some('g') => 1024.0 * 1024.0 * 1024.0,
        _ => 1.0,
    };
    Some((number * unit) as u64)
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;
    use crate::launch::RealLaunch;

    fn costed(family: Family, programs: &[(&str, &str)]) -> Result<Cost, CostFault> {
        let folder = tempfile::tempdir().expect("a folder");
        for (name, script) in programs {
            let path = folder.path().join(name);
            std::fs::write(&path, format!("#!/bin/sh\n{script}\n")).expect("written");
            std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).expect("permissions");
        }
        let search = format!("{}:/bin:/usr/bin", folder.path().display());
        let search = if programs.is_empty() { folder.path().display().to_string() } else { search };
        cost(family, &Package::all_of("buoy-dev"), &search, &RealLaunch::default())
    }

    #[test]
    fn package_managers_are_asked_in_their_dry_mode() {
        let apt = "case \"$*\" in *--simulate*install*buoy-dev) echo 'Inst chain (1.0 somewhere)'; echo 'Inst buoy-dev (2)'; echo 'Conf chain (1.0)';; *) exit 9;; esac";
        let cache = "printf 'Package: chain\\nInstalled-Size: 10\\nSize: 2000\\n\\nPackage: buoy-dev\\nSize: 500\\nInstalled-Size: 3\\n'";
        let cost = costed(Family::Debian, &[("apt-get", apt), ("apt-cache", cache)]).expect("a cost");
        let names = |list: &[&str]| Package::all_of(&list.join(" "));
        let want =
            Cost { packages: names(&["chain", "buoy-dev"]), download_bytes: Some(2500), disk_bytes: Some(13 * 1024) };
        assert_eq!(cost, want);
        let dnf = "printf 'Package Arch\\nInstalling:\\n buoy-devel x86_64 2\\nInstalling dependencies:\\n chain x86_64 1\\n\\nTotal download size: 1.5 M\\nInstalled size: 4 k\\n'; exit 1";
        let cost = costed(Family::Fedora, &[("dnf", dnf)]).expect("a cost");
        assert_eq!(cost.packages, names(&["buoy-devel", "chain"]));
        assert_eq!((cost.download_bytes, cost.disk_bytes), (Some(1_572_864), Some(4096)));
        let zypper = "printf 'The following 2 NEW packages are going to be installed:\\n  buoy-devel chain\\n\\nOverall download size: 2.0 KiB. Already cached: 0 B. After the operation, additional 3 KiB will be used.\\n'";
        let cost = costed(Family::OpenSuse, &[("zypper", zypper)]).expect("a cost");
        assert_eq!(cost.packages, names(&["buoy-devel", "chain"]));
        assert_eq!((cost.download_bytes, cost.disk_bytes), (Some(2048), Some(3072)));
        let cost = costed(Family::Arch, &[("pacman", "printf 'chain 100\\nbuoy 30\\n'")]).expect("a cost");
        assert_eq!((cost.packages, cost.download_bytes), (names(&["chain", "buoy"]), Some(130)));
        let apk =
            "printf '(1/2) Installing chain (1.0-r0)\\n(2/2) Installing buoy-dev (2-r1)\\nOK: 9 MiB in 30 packages\\n'";
        assert_eq!(costed(Family::Alpine, &[("apk", apk)]).expect("a cost").packages, names(&["chain", "buoy-dev"]));
    }

    #[test]
    fn what_cannot_be_asked_is_said() {
        assert_eq!(costed(Family::Debian, &[]), Err(CostFault::NoManager("apt-get".into())));
        let fault = costed(Family::Debian, &[("apt-get", "echo 'E: Unable to locate package buoy-dev' >&2; exit 100")]);
        let words = "E: Unable to locate package buoy-dev".to_string();
        assert!(matches!(fault, Err(CostFault::Silent { words: said, .. }) if said == words));
        let nothing = costed(Family::Debian, &[("apt-get", "echo '0 upgraded'")]).expect("a cost");
        assert_eq!((nothing.packages.len(), nothing.disk_bytes), (0, Some(0)));
    }
}
