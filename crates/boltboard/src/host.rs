//! This machine as the survey sees it: where things are looked for, what a person wants instead, and what has changed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use boltboard_core::base::Digest;
use boltboard_core::board::{Board, CheckLanguage, NeedCheck, NeedId};
use boltboard_core::profile::{Choices, ProfileName};
use boltboard_core::remedy::{self, Distribution};
use boltboard_core::survey::{
    Assumption, Facts, Host, HostDifference, HostRecord, HostTraits, Joining, Language, Prober, Tools, Wishes, changes,
    identify, kept_facts, survey, survey_some,
};

use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::survey::changed_host;
use crate::session::Session;

/// Finds out about all needs, or takes the facts of another host where a person says so.
pub fn facts(session: &Session, choices: &Choices) -> Result<Facts, Stop> {
    let wishes = wishes(session, choices)?;
    if let Some(file) = &session.global.facts {
        let record = HostRecord::load(file, &session.board.tree.name)?;
        return Ok(record.facts(session.board));
    }
    let mut probed = Probed::new(session, choices);
    if let Some(kept) = kept_facts(session.board, &wishes, probed.prober(session, Joining::Together)) {
        return Ok(kept);
    }
    probed.make_scratch(session)?;
    Ok(survey(session.board, &wishes, probed.prober(session, Joining::Together)))
}

/// Looks for one need by itself, so that the compiler's words are about it alone.
pub fn facts_of_one(session: &Session, choices: &Choices, need: NeedId) -> Result<Facts, Stop> {
    let wishes = wishes(session, choices)?;
    let mut probed = Probed::new(session, choices);
    probed.make_scratch(session)?;
    // Nothing is recalled: the words shown are those of now.
    let fresh = boltboard_core::survey::ProbeMemo::default();
    let prober = Prober { memo: &fresh, ..probed.prober(session, Joining::Alone) };
    Ok(survey_some(session.board, &[need].into(), &wishes, prober))
}

fn wishes(session: &Session, choices: &Choices) -> Result<Wishes, Stop> {
    let providers = choices.providers.iter().map(|(need, chosen)| (*need, chosen.provider.clone())).collect();
    let mut wishes = Wishes { providers, ..Wishes::default() };
    for text in &session.global.assume {
        let (name, version) =
            text.split_once('=').map_or((text.as_str(), None), |(name, version)| (name, Some(version)));
        let need = session.board.find_need(name.trim())?;
        let version = version.map(|version| version.trim().to_string()).filter(|version| !version.is_empty());
        wishes.assumed.insert(need, Assumption::There(version));
    }
    for name in &session.global.forbid {
        wishes.assumed.insert(session.board.find_need(name)?, Assumption::NotThere);
    }
    Ok(wishes)
}

/// What checks are made with.
struct Probed {
    host: Host,
    tools: Tools,
    /// Removes the check programs in the end.
    scratch: Option<tempfile::TempDir>,
}

impl Probed {
    fn new(session: &Session, choices: &Choices) -> Probed {
        let tools = tools(session, choices);
        let sysroot = sysroot(session, choices);
        let target = tools.c.as_ref().map_or(String::new(), |compiler| compiler.target.clone());
        let host = Host {
            search_path: session.search_path.clone(),
            metadata_folders: metadata_folders(sysroot.as_deref(), &target),
            sysroot,
            aside: PathBuf::from("/opt"),
            never_below: session.tree_folders.clone(),
            scratch: PathBuf::new(),
            jobs: std::thread::available_parallelism().map_or(1, usize::from),
        };
        Probed { host, tools, scratch: None }
    }

    /// Makes the folder for check programs, which is needed only when something has to be asked.
    fn make_scratch(&mut self, session: &Session) -> Result<(), Stop> {
        let scratch = session.work.scratch()?;
        self.host.scratch = scratch.path().to_path_buf();
        self.scratch = Some(scratch);
        Ok(())
    }

    fn prober<'a>(&'a self, session: &'a Session, joining: Joining) -> Prober<'a> {
        Prober { host: &self.host, tools: &self.tools, launch: &session.launch, memo: &session.probes, joining }
    }
}

fn sysroot(session: &Session, choices: &Choices) -> Option<PathBuf> {
    let text = session.board.toolchain.sysroot.as_ref().map(|interp| session.text_before(interp, choices));
    text.filter(|folder| !folder.is_empty()).map(PathBuf::from)
}

/// Where the kernel tells about processors.
const PROCESSOR: &str = "/sys/devices/system/cpu";

/// The compilers that choices name, before anything is resolved. The C++ one is asked only where a need is about C++.
pub fn tools(session: &Session, choices: &Choices) -> Tools {
    let chain = &session.board.toolchain;
    let sysroot = sysroot(session, choices);
    let ask = |interp, language| {
        let name = session.text_before(interp, choices);
        identify(&name, language, session.compiler_search(sysroot.as_deref()))
    };
    let any_cxx = session.board.needs.iter().any(|(_, need)| match &need.check {
        NeedCheck::Host(check) => check.language == CheckLanguage::Cxx,
        NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => false,
    });
    let absent =
        || boltboard_core::survey::CompilerFault::Absent { name: session.text_before(&chain.cxx_compiler, choices) };
    Tools {
        c: ask(&chain.c_compiler, Language::C),
        cxx: if any_cxx { ask(&chain.cxx_compiler, Language::Cxx) } else { Err(absent()) },
        search_path: session.search_path.clone(),
        variables: session.variables.clone(),
        epoch: session.epoch,
        processor: processor(),
    }
}

/// Stands for the processor: what the kernel calls it, with all that it can do (or what the file says that a test names).
pub fn processor() -> Digest {
    let named = std::env::var_os("BOLTBOARD_PROCESSOR_FILE").map(PathBuf::from);
    let places = match named {
        Some(file) => vec![file],
        None => ["modalias", "cpu0/regs/identification/midr_el1"].map(|name| Path::new(PROCESSOR).join(name)).to_vec(),
    };
    let texts: Vec<String> = places.iter().filter_map(|place| std::fs::read_to_string(place).ok()).collect();
    Digest::of_parts(texts.iter().map(String::as_str))
}

/// Whether programs for a target run on this machine.
pub fn is_own_target(target: &str) -> bool {
    let arch = std::env::consts::ARCH;
    target.is_empty() || target.starts_with(arch) || (arch == "x86" && target.starts_with('i'))
}

/// Where installed metadata files are looked for: as told, then where the target keeps them.
fn metadata_folders(sysroot: Option<&Path>, target: &str) -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = Vec::new();
    if let Ok(path) = std::env::var("BOLTBOARD_METADATA_PATH") {
        folders.extend(std::env::split_paths(&path).filter(|p| !p.as_os_str().is_empty()));
    }
    let arch = std::env::consts::ARCH;
    let own = is_own_target(target);
    let triple = if target.is_empty() { format!("{arch}-linux-gnu") } else { target.to_string() };
    let usual: Vec<String> = match (sysroot, own) {
        (None, true) => vec![
            "/usr/local/lib".into(),
            "/usr/local/share".into(),
            format!("/usr/local/lib/{triple}"),
            format!("/usr/lib/{triple}"),
            "/usr/lib64".into(),
            "/usr/lib".into(),
            "/usr/share".into(),
        ],
        // What this host has for itself is of no use to another target.
        (None, false) => {
            vec![format!("/usr/lib/{triple}"), format!("/usr/{triple}/lib"), format!("/usr/{triple}/usr/lib")]
        }
        (Some(root), _) => {
            let root = root.display();
            let below = ["usr/local/lib", "usr/lib64", "usr/lib", "usr/share", "lib"];
            let triple = format!("{root}/usr/lib/{triple}");
            [triple].into_iter().chain(below.iter().map(|folder| format!("{root}/{folder}"))).collect()
        }
    };
    folders.extend(usual.into_iter().map(|folder| Path::new(&folder).join("pkgconfig")));
    folders
}

/// The distribution, from the system's own release file (or the one that a test names).
pub fn distribution() -> Distribution {
    let named = std::env::var_os("BOLTBOARD_RELEASE_FILE").map(PathBuf::from);
    let places = match named {
        Some(file) => vec![file],
        None => vec![PathBuf::from("/etc/os-release"), PathBuf::from("/usr/lib/os-release")],
    };
    let text = places.iter().find_map(|place| std::fs::read_to_string(place).ok()).unwrap_or_default();
    Distribution::of_release_file(&text)
}

/// The command that installs what these needs ask for, where their packages are known.
pub fn install_command(board: &Board, facts: &Facts, needs: &[String]) -> Option<String> {
    let here = distribution();
    let family = here.family?;
    let ids = needs.iter().filter_map(|name| board.need(name));
    let packages: Vec<String> = ids.flat_map(|need| remedy::packages(board, facts, need, family)).collect();
    remedy::install_command(&here, &packages, as_root())
}

/// Whether packages can be installed without asking for more rights.
pub fn as_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// What tells this host from others.
pub fn traits(session: &Session, choices: &Choices) -> HostTraits {
    let compiler = tools(session, choices).c.ok();
    let root = sysroot(session, choices).map_or(String::new(), |folder| format!(" --sysroot={}", folder.display()));
    HostTraits {
        called: format!("{}{root}", session.text_before(&session.board.toolchain.c_compiler, choices)),
        distribution: distribution().title,
        compiler: compiler.as_ref().map_or(String::new(), |compiler| compiler.short_version()),
        target: compiler.map_or(String::new(), |compiler| compiler.target),
    }
}

/// Takes down the facts.
pub fn record(session: &Session, choices: &Choices, facts: &Facts) -> HostRecord {
    HostRecord::of(session.board, facts, traits(session, choices))
}

/// Returns in what this host differs from the one that the profile was last built on, if that is known.
fn changes_since_built(
    session: &Session,
    profile: &ProfileName,
    choices: &Choices,
    facts: &Facts,
) -> Vec<HostDifference> {
    let shelf = &session.shelf;
    let places = [shelf.host_path(profile), shelf.shipped_host_path(profile)];
    let before = places.iter().find_map(|place| HostRecord::load(place, &session.board.tree.name).ok());
    before.map_or(Vec::new(), |before| changes(&before, &record(session, choices, facts)))
}

/// Names what has changed on the host; nothing is swapped without a word.
pub fn tell_changes(session: &Session, profile: &ProfileName, choices: &Choices, facts: &Facts) {
    if facts.any_not_looked_for() || !session.global.tried.is_empty() {
        return;
    }
    let list = changes_since_built(session, profile, choices, facts);
    if !list.is_empty() {
        session.screen.remark(changed_host(&list, profile).trim_end());
    }
}

/// Takes the host as it is now for the one that the profile is built on.
pub fn accept(session: &Session, choices: &Choices, facts: &Facts) -> Result<(), Stop> {
    let only_tried = !session.global.tried.is_empty();
    if session.board.needs.is_empty() || facts.any_not_looked_for() || only_tried {
        return Ok(());
    }
    let path = session.shelf.host_path(&session.profile);
    let now = record(session, choices, facts);
    if HostRecord::load(&path, &session.board.tree.name).is_ok_and(|before| before == now) {
        return Ok(());
    }
    Ok(now.save(&path)?)
}

/// A build of what is only assumed would fail in the middle.
pub fn only_real(session: &Session) -> Result<(), Stop> {
    let global = &session.global;
    let given: BTreeMap<&str, bool> = [
        ("--assume", !global.assume.is_empty()),
        ("--forbid", !global.forbid.is_empty()),
        ("--facts", global.facts.is_some()),
    ]
    .into();
    let names: Vec<&str> = given.into_iter().filter(|(_, given)| *given).map(|(name, _)| name).collect();
    if names.is_empty() {
        return Ok(());
    }
    let what = "is for questions: builds, choices and saved facts take this host as it is";
    let message = format!("{} {what}", names.join(", "));
    let diagnostic = Diagnostic::new(message);
    let help = "to do without a need for good: boltboard set need:NAME=off";
    Err(Stop::new(Exit::WrongUse, diagnostic.help(help)))
}
