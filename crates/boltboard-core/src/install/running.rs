//! What runs now, so that it is not taken away: programs and what they have loaded, and the kernel of this machine.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use crate::base::mapped_files;

/// Where a host tells of its processes.
const PROCESSES: &str = "/proc";

/// What runs on a machine; looked at when it is first asked.
#[derive(Debug)]
pub struct Running {
    root: PathBuf,
    mapped: OnceLock<BTreeMap<PathBuf, u32>>,
    kernel: OnceLock<Kernel>,
}

/// The kernel that runs.
#[derive(Debug, Default)]
struct Kernel {
    /// Its release, as in `6.1.0-18-amd64`; empty where nobody tells.
    release: String,
    /// Its image, as the boot loader names it.
    image: Option<PathBuf>,
}

/// Who uses a file now.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum InUse {
    /// A process of this number runs it, or has it loaded.
    Process(u32),
    /// It belongs to the kernel that runs.
    Kernel,
}

impl Running {
    /// What runs on this machine. What this person may not look at is not seen.
    pub fn here() -> Running {
        Running::of(Path::new(PROCESSES))
    }

    /// What runs by what such a folder tells.
    pub fn of(root: &Path) -> Running {
        Running { root: root.to_path_buf(), mapped: OnceLock::new(), kernel: OnceLock::new() }
    }

    /// Tells who uses a file now, if anybody does.
    pub fn uses(&self, path: &Path) -> Option<InUse> {
        if self.is_of_kernel(path) {
            return Some(InUse::Kernel);
        }
        self.mapped.get_or_init(|| self.look()).get(path).map(|process| InUse::Process(*process))
    }

    /// Tells whether a file belongs to the kernel that runs: by its release in the path, or as the image that was booted.
    pub fn is_of_kernel(&self, path: &Path) -> bool {
        let Kernel { release, .. } = self.kernel();
        let is_named =
            |name: &str| name == release || name.strip_suffix(release.as_str()).is_some_and(|n| n.ends_with('-'));
        let named = || path.iter().filter_map(|part| part.to_str()).any(is_named);
        !release.is_empty() && named() || self.is_booted(path)
    }

    /// Tells whether a file is the image that was booted.
    pub fn is_booted(&self, path: &Path) -> bool {
        // A boot loader names it as it lies on the file system that it read.
        self.kernel().image.as_ref().is_some_and(|image| path.ends_with(image))
    }

    fn kernel(&self) -> &Kernel {
        self.kernel.get_or_init(|| {
            let read = |name: &str| std::fs::read_to_string(self.root.join(name)).unwrap_or_default();
            let line = read("cmdline");
            let image = line.split_whitespace().find_map(|word| word.strip_prefix("BOOT_IMAGE="));
            let image =
                image.map(|image| image.rsplit_once(')').map_or(image, |(_, path)| path).trim_start_matches('/'));
            let image = image.filter(|image| !image.is_empty()).map(PathBuf::from);
            Kernel { release: read("sys/kernel/osrelease").trim().to_string(), image }
        })
    }

    /// The files that processes have mapped, their own programs among them.
    fn look(&self) -> BTreeMap<PathBuf, u32> {
        let mut all = BTreeMap::new();
        for entry in std::fs::read_dir(&self.root).into_iter().flatten().filter_map(Result::ok) {
            let Some(process) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else { continue };
            let Ok(maps) = std::fs::read(entry.path().join("maps")) else { continue };
            for file in mapped_files(&String::from_utf8_lossy(&maps)).filter(|file| !file.is_gone) {
                all.entry(PathBuf::from(file.path)).or_insert(process);
            }
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_processes_have_loaded_and_what_the_kernel_is_made_of_is_in_use() {
        let folder = tempfile::tempdir().expect("a folder");
        let write = |path: &str, text: &str| {
            let file = folder.path().join(path);
            std::fs::create_dir_all(file.parent().expect("a folder")).expect("made");
            std::fs::write(file, text).expect("written");
        };
        write("sys/kernel/osrelease", "6.1.0-18-amd64\n");
        write("cmdline", "BOOT_IMAGE=(hd0,msdos1)/station-2.4 root=/dev/sda1 ro quiet\n");
        write(
            "41/maps",
            "55d0-55d1 r-xp 00000000 08:01 131 /opt/bin/station daemon\n7f00-7f01 r-xp 0 08:01 9 /opt/lib/libsea.so.2\n8f00-8f01 r-xp 0 08:01 8 /opt/lib/libsea.so.1 (deleted)\n",
        );
        write("41/comm", "station\n");
        write("self/maps", "55d0-55d1 r-xp 00000000 08:01 131 /opt/bin/nobody\n");
        let running = Running::of(folder.path());
        for (path, want) in [
            ("/opt/bin/station daemon", Some(InUse::Process(41))),
            ("/opt/lib/libsea.so.2", Some(InUse::Process(41))),
            ("/opt/lib/libsea.so", None),
            ("/opt/lib/libsea.so.1", None),
            ("/opt/bin/nobody", None),
            ("/boot/vmlinuz-6.1.0-18-amd64", Some(InUse::Kernel)),
            ("/lib/modules/6.1.0-18-amd64/kernel/fs/sea.ko", Some(InUse::Kernel)),
            ("/lib/modules/6.1.0-18/kernel/fs/sea.ko", None),
            ("/boot/vmlinuz6.1.0-18-amd64", None),
            ("/boot/station-2.4", Some(InUse::Kernel)),
            ("/boot/station-3.0", None),
        ] {
            assert_eq!(running.uses(Path::new(path)), want, "{path}");
        }
        assert!(running.is_booted(Path::new("/boot/station-2.4")) && !running.is_booted(Path::new("/boot/x")));
        // Where nobody tells, nothing is.
        assert_eq!(Running::of(Path::new("/not/there")).uses(Path::new("/boot/vmlinuz")), None);
    }
}
