//! Could the system's service manager run what is installed? Looked at without running anything: which unit of a name counts, its
//! user, its folders, the files that it needs, and whether its ports are free.

use std::collections::BTreeSet;
use std::ffi::CString;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use nix::unistd::{Gid, User, getgrouplist};

use super::manifest::Manifest;
use super::ready::same;
use crate::board::{Generator, ServiceFile};
use crate::plan::{PlanInput, Port, Protocol, ServiceNow};

/// Where the manager looks for units of the system, the first that counts first (`systemd.unit(5)`).
const UNIT_FOLDERS: [&str; 5] = [
    "/etc/systemd/system",
    "/run/systemd/system",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
];
/// What is there while the manager runs the machine (`sd_booted(3)`).
const MANAGER_RUNS: &str = "/run/systemd/system";

/// Where this machine's service manager and its network are looked at.
#[derive(Debug, Clone)]
pub struct ServiceHost {
    /// Where units are looked for.
    pub units: Vec<PathBuf>,
    /// Whether a service manager runs this machine.
    pub has_manager: bool,
    /// Where the kernel shows processes and sockets.
    pub processes: PathBuf,
}

impl ServiceHost {
    /// This machine.
    pub fn here() -> ServiceHost {
        ServiceHost {
            units: UNIT_FOLDERS.map(PathBuf::from).to_vec(),
            has_manager: Path::new(MANAGER_RUNS).is_dir(),
            processes: PathBuf::from("/proc"),
        }
    }
}

/// A service that is installed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InstalledService {
    /// What it is with the values of now.
    pub now: ServiceNow,
    /// Its unit.
    pub unit: PathBuf,
    /// The file that declares its user.
    pub user_file: Option<PathBuf>,
    /// The file that declares its folders.
    pub folders_file: Option<PathBuf>,
}

/// Something that stands against a service that is installed.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum UnreadyService {
    /// Another unit of this name comes first.
    OtherUnit {
        /// Ours.
        ours: PathBuf,
        /// The one that counts.
        first: PathBuf,
        /// What that one runs.
        runs: Option<PathBuf>,
    },
    /// The manager does not look for units there.
    UnitNotRead(PathBuf),
    /// A unit of this installation runs a program of another one.
    OtherPrefix {
        /// The unit.
        unit: PathBuf,
        /// What it runs.
        runs: PathBuf,
        /// The program of that name that is installed with it.
        ours: PathBuf,
    },
    /// This machine has no such user.
    NoUser {
        /// The user.
        user: String,
        /// The file that declares it.
        file: Option<PathBuf>,
    },
    /// A folder that it keeps its things in is not there.
    NoFolder {
        /// The folder.
        folder: PathBuf,
        /// The file that declares it.
        file: Option<PathBuf>,
    },
    /// A file that it needs is not there.
    NoFile {
        /// The service.
        service: String,
        /// The file.
        file: PathBuf,
    },
    /// Its user has no right to something.
    NoRight {
        /// The user.
        user: String,
        /// To what.
        path: PathBuf,
        /// What is missing.
        right: Right,
    },
    /// A port that it listens on is taken.
    PortTaken {
        /// The service.
        service: String,
        /// The port.
        port: Port,
        /// The program that has it, where that can be seen.
        by: Option<PathBuf>,
    },
}

/// What a user can be allowed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Right {
    /// To read it.
    Read,
    /// To write to it.
    Write,
    /// To run it.
    Run,
}

impl Right {
    fn bit(self) -> u32 {
        match self {
            Right::Read => 4,
            Right::Write => 2,
            Right::Run => 1,
        }
    }
}

/// The services whose units a record names, with the values of now.
pub fn installed_services(input: &PlanInput<'_>, manifest: &Manifest) -> Vec<InstalledService> {
    let mut services: Vec<InstalledService> = Vec::new();
    for (_, part) in input.board.parts.iter() {
        let Some(Generator::Service { service, file, to }) = part.kind.generator() else { continue };
        let Some(rule) = &part.install else { continue };
        let path = Path::new(&input.text(&rule.to)).join(to.name());
        if manifest.files.iter().all(|file| file.path != path) {
            continue;
        }
        match file {
            // What has no such values has no unit either.
            ServiceFile::Unit => services.extend(input.service(service).ok().map(|now| InstalledService {
                now,
                unit: path,
                user_file: None,
                folders_file: None,
            })),
            ServiceFile::User | ServiceFile::Folders => {
                let Some(of) = services.last_mut().filter(|last| last.now.name == service.name) else { continue };
                let slot = if *file == ServiceFile::User { &mut of.user_file } else { &mut of.folders_file };
                *slot = Some(path);
            }
        }
    }
    services
}

/// Looks at all services that are installed, and at all units among what is installed.
pub fn unready_services(
    manifest: &Manifest,
    services: &[InstalledService],
    machine: &ServiceHost,
) -> Vec<UnreadyService> {
    let mut found = BTreeSet::new();
    for unit in manifest.files.iter().map(|file| &file.path).filter(|path| is_unit(path)) {
        look_at_unit(unit, manifest, machine, &mut found);
    }
    for service in services {
        look_at_needs(service, machine, &mut found);
    }
    found.into_iter().collect()
}

fn is_unit(path: &Path) -> bool {
    path.extension().is_some_and(|ending| ending == "service")
        && path.parent().is_some_and(|at| at.ends_with("systemd/system"))
}

fn look_at_unit(unit: &Path, manifest: &Manifest, machine: &ServiceHost, found: &mut BTreeSet<UnreadyService>) {
    if let Some(runs) = runs(unit)
        && manifest.files.iter().all(|file| file.path != runs)
        && let Some(ours) =
            manifest.files.iter().find(|file| file.path.file_name() == runs.file_name() && file.path.as_path() != unit)
    {
        found.insert(UnreadyService::OtherPrefix { unit: unit.to_path_buf(), runs, ours: ours.path.clone() });
    }
    let Some(name) = unit.file_name() else { return };
    // The same folder can have two names, as where `/lib` is a link.
    let first = machine.units.iter().map(|folder| folder.join(name)).find(|path| path.exists());
    match first {
        Some(first) if !same(&first, unit) => {
            let runs = runs(&first);
            found.insert(UnreadyService::OtherUnit { ours: unit.to_path_buf(), first, runs });
        }
        None if machine.has_manager => {
            found.insert(UnreadyService::UnitNotRead(unit.to_path_buf()));
        }
        Some(_) | None => {}
    }
}

/// The program that a unit runs: the first word of its last `ExecStart`, without the signs that can stand before it.
fn runs(unit: &Path) -> Option<PathBuf> {
    let text = std::fs::read_to_string(unit).ok()?;
    let line = text.lines().filter_map(|line| line.trim().strip_prefix("ExecStart=")).rfind(|rest| !rest.is_empty())?;
    let line = line.trim_start_matches(['@', '-', ':', '+', '!']).trim_start();
    let word = match line.strip_prefix('"') {
        Some(rest) => rest.split('"').next(),
        None => line.split_whitespace().next(),
    };
    word.map(|word| PathBuf::from(word.replace("%%", "%")))
}

fn look_at_needs(service: &InstalledService, machine: &ServiceHost, found: &mut BTreeSet<UnreadyService>) {
    let now = &service.now;
    let user = now.user.as_deref().unwrap_or("root");
    let account = User::from_name(user).ok().flatten();
    if account.is_none() {
        found.insert(UnreadyService::NoUser { user: user.to_string(), file: service.user_file.clone() });
    }
    let account = account.map(Account::of);
    let mut right = |path: &Path, right: Right| {
        if let Some(path) = account.as_ref().and_then(|account| account.bars(path, right)) {
            let user = user.to_string();
            found.insert(UnreadyService::NoRight { user, path, right });
        }
    };
    right(&now.program, Right::Run);
    now.files.iter().filter(|file| file.exists()).for_each(|file| right(file, Right::Read));
    now.folders.iter().filter(|(folder, _)| folder.is_dir()).for_each(|(folder, _)| right(folder, Right::Write));
    for file in now.files.iter().filter(|file| !file.exists()) {
        found.insert(UnreadyService::NoFile { service: now.name.clone(), file: file.clone() });
    }
    for (folder, _) in now.folders.iter().filter(|(folder, _)| !folder.is_dir()) {
        found.insert(UnreadyService::NoFolder { folder: folder.clone(), file: service.folders_file.clone() });
    }
    for port in &now.ports {
        let Some(socket) = listener(&machine.processes, *port) else { continue };
        let by = holder(&machine.processes, socket);
        // The service itself may be running.
        if by.as_ref().is_none_or(|by| !same(by, &now.program)) {
            found.insert(UnreadyService::PortTaken { service: now.name.clone(), port: *port, by });
        }
    }
}

/// A user with all of its groups.
struct Account {
    user: u32,
    groups: Vec<u32>,
}

impl Account {
    fn of(user: User) -> Account {
        let all = CString::new(user.name).ok().and_then(|name| getgrouplist(&name, user.gid).ok());
        let groups = all.unwrap_or_else(|| vec![user.gid]).into_iter().map(Gid::as_raw).collect();
        Account { user: user.uid.as_raw(), groups }
    }

    /// What keeps the user from a file: itself, or a folder on the way; by permission bits only.
    fn bars(&self, path: &Path, right: Right) -> Option<PathBuf> {
        if self.user == 0 {
            return None;
        }
        let path = path.canonicalize().ok()?;
        let may = |path: &Path, right: Right| {
            let Ok(status) = std::fs::metadata(path) else { return true };
            let bits = if status.uid() == self.user {
                status.mode() >> 6
            } else if self.groups.contains(&status.gid()) {
                status.mode() >> 3
            } else {
                status.mode()
            };
            bits & right.bit() != 0
        };
        let mut folders: Vec<&Path> = path.ancestors().skip(1).collect();
        folders.reverse();
        let barred = folders.into_iter().find(|folder| !may(folder, Right::Run));
        barred.map(Path::to_path_buf).or_else(|| (!may(&path, right)).then(|| path.clone()))
    }
}

/// The number of the socket that listens on a port, from the kernel's tables (`proc_net(5)`).
fn listener(processes: &Path, port: Port) -> Option<u64> {
    /// The state of a socket that waits for connections, and of one that is bound.
    const WAITS: [&str; 2] = ["0A", "07"];
    let (tables, state) = match port.protocol {
        Protocol::Tcp => (["net/tcp", "net/tcp6"], WAITS[0]),
        Protocol::Udp => (["net/udp", "net/udp6"], WAITS[1]),
    };
    tables.into_iter().find_map(|table| {
        let text = std::fs::read_to_string(processes.join(table)).ok()?;
        text.lines().skip(1).find_map(|line| {
            let fields: Vec<&str> = line.split_whitespace().collect();
            let [_, local, _, its_state, ..] = fields[..] else { return None };
            let number = u16::from_str_radix(local.rsplit_once(':')?.1, 16).ok()?;
            (number == port.number && its_state == state).then(|| fields.get(9)?.parse().ok())?
        })
    })
}

/// The program that holds a socket, where we may look at its process.
fn holder(processes: &Path, socket: u64) -> Option<PathBuf> {
    let wanted = format!("socket:[{socket}]");
    let numbered = |path: &PathBuf| path.file_name().and_then(|name| name.to_str()?.parse::<u32>().ok()).is_some();
    let entries = std::fs::read_dir(processes).ok()?.filter_map(Result::ok).map(|entry| entry.path());
    entries.filter(numbered).find_map(|process| {
        let mut open = std::fs::read_dir(process.join("fd")).ok()?.filter_map(Result::ok);
        let holds =
            open.any(|entry| std::fs::read_link(entry.path()).is_ok_and(|at| at.as_os_str() == wanted.as_str()));
        holds.then(|| std::fs::read_link(process.join("exe")).ok())?
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kernels_tables_tell_who_listens() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::create_dir_all(at("net")).unwrap();
        std::fs::create_dir_all(at("77/fd")).unwrap();
        let head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n";
        let line = |port: u16, state: &str, inode: u64| {
            format!(
                "   0: 0100007F:{port:04X} 00000000:0000 {state} 00000000:00000000 00:00000000 00000000     0        0 {inode} 1\n"
            )
        };
        std::fs::write(at("net/tcp"), format!("{head}{}{}", line(8080, "01", 5), line(8080, "0A", 6))).unwrap();
        std::fs::write(at("net/udp6"), format!("{head}{}", line(53, "07", 7))).unwrap();
        std::os::unix::fs::symlink("socket:[6]", at("77/fd/3")).unwrap();
        std::os::unix::fs::symlink("/opt/bin/other", at("77/exe")).unwrap();
        let port = |protocol, number| Port { protocol, number };
        assert_eq!(listener(folder.path(), port(Protocol::Tcp, 8080)), Some(6));
        assert_eq!(listener(folder.path(), port(Protocol::Tcp, 53)), None);
        assert_eq!(listener(folder.path(), port(Protocol::Udp, 53)), Some(7));
        assert_eq!(holder(folder.path(), 6), Some(PathBuf::from("/opt/bin/other")));
        assert_eq!(holder(folder.path(), 7), None);
    }

    #[test]
    fn what_a_unit_runs_is_read_as_the_manager_reads_it() {
        let folder = tempfile::tempdir().unwrap();
        let unit = folder.path().join("x.service");
        for (text, wanted) in [
            ("[Service]\nExecStart=/opt/x/bin/x --a b\n", Some("/opt/x/bin/x")),
            ("ExecStart=-\"/opt/with room/x\" a\n", Some("/opt/with room/x")),
            ("ExecStart=/one\nExecStart=\nExecStart=@/two 2\n", Some("/two")),
            ("[Unit]\n", None),
        ] {
            std::fs::write(&unit, text).unwrap();
            assert_eq!(runs(&unit), wanted.map(PathBuf::from), "{text}");
        }
    }

    #[test]
    fn a_folder_on_the_way_bars_as_well() {
        let folder = tempfile::tempdir().unwrap();
        let (inner, file) = (folder.path().join("inner"), folder.path().join("inner/file"));
        std::fs::create_dir(&inner).unwrap();
        std::fs::write(&file, "").unwrap();
        let mode = |path: &Path, mode| {
            std::fs::set_permissions(path, std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap()
        };
        mode(folder.path(), 0o755);
        mode(&file, 0o644);
        let nobody = Account { user: u32::MAX - 7, groups: vec![] };
        mode(&inner, 0o750);
        let real = |path: &Path| path.canonicalize().unwrap();
        assert_eq!(nobody.bars(&file, Right::Read), Some(real(&inner)));
        mode(&inner, 0o755);
        assert_eq!(nobody.bars(&file, Right::Read), None);
        assert_eq!(nobody.bars(&file, Right::Write), Some(real(&file)));
        assert_eq!(Account { user: 0, groups: vec![] }.bars(&file, Right::Write), None);
    }
}
