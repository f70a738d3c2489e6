//! This machine as the survey sees it: where things are looked for, what a person wants instead, and what has changed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::fault::SessionFault;
use super::open::{Resolved, Session};
use super::scope::Surroundings;
use crate::base::Digest;
use crate::board::{EnvironmentDef, Interp, Machine, NeedId, OptionId, Piece, Prebuilt, Toolchain};
use crate::checks::Package;
use crate::definitions::Listing;
use crate::profile::{Choices, ProfileName};
use crate::remedy::{self, Distribution};
use crate::survey::{
    Assumption, CompilerFault, CompilerSearch, Compilers, EnvironmentFault, EnvironmentFrom, Facts, Host,
    HostDifference, HostRecord, HostTraits, Joining, Language, ProbeMemo, Prober, ToolEnvironment, Tools, Wishes,
    changes, identify, kept_facts, survey, survey_some,
};

/// Where the kernel tells about processors.
const PROCESSOR: &str = "/sys/devices/system/cpu";
/// The variable that names another file for that, for tests.
const PROCESSOR_FILE: &str = "BOLTBOARD_PROCESSOR_FILE";
/// The variable with further folders of installed metadata.
const METADATA_PATH: &str = "BOLTBOARD_METADATA_PATH";
/// The variable that names another file for the system's release, for tests.
const RELEASE_FILE: &str = "BOLTBOARD_RELEASE_FILE";
/// The variable that names another folder for `/` where packages are looked up, for tests.
const PACKAGE_ROOT: &str = "BOLTBOARD_PACKAGE_ROOT";
/// Where packages that belong to no distribution are put.
const ASIDE: &str = "/opt";

impl Surroundings {
    /// Returns what stands for the processor: what the kernel calls it, with all that it can do.
    pub fn processor(&self) -> Digest {
        let places = match self.variable(PROCESSOR_FILE) {
            "" => {
                ["modalias", "cpu0/regs/identification/midr_el1"].map(|name| Path::new(PROCESSOR).join(name)).to_vec()
            }
            file => vec![PathBuf::from(file)],
        };
        let texts: Vec<String> = places.iter().filter_map(|place| std::fs::read_to_string(place).ok()).collect();
        Digest::of_parts(texts.iter().map(String::as_str))
    }

    /// Returns the distribution, from the system's own release file.
    pub fn distribution(&self) -> Distribution {
        let places = match self.variable(RELEASE_FILE) {
            "" => ["/etc/os-release", "/usr/lib/os-release"].map(PathBuf::from).to_vec(),
            file => vec![PathBuf::from(file)],
        };
        let text = places.iter().find_map(|place| std::fs::read_to_string(place).ok()).unwrap_or_default();
        let root = match (self.variable(PACKAGE_ROOT), self.variable(RELEASE_FILE)) {
            ("", "") => Some(PathBuf::from("/")),
            ("", _) => None,
            (folder, _) => Some(PathBuf::from(folder)),
        };
        Distribution { root, ..Distribution::of_release_file(&text) }
    }

    /// Returns where this host keeps installed metadata files for itself.
    pub fn own_metadata_folders(&self) -> Vec<PathBuf> {
        self.metadata_folders(None, "")
    }

    /// Where installed metadata files are looked for: as told, then where the target keeps them.
    fn metadata_folders(&self, sysroot: Option<&Path>, target: &str) -> Vec<PathBuf> {
        let told = std::env::split_paths(self.variable(METADATA_PATH)).filter(|path| !path.as_os_str().is_empty());
        let arch = std::env::consts::ARCH;
        let triple = if target.is_empty() { format!("{arch}-linux-gnu") } else { target.to_string() };
        let usual: Vec<String> = match (sysroot, is_own_target(target)) {
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
        told.chain(usual.into_iter().map(|folder| Path::new(&folder).join("pkgconfig"))).collect()
    }
}

/// Tells whether programs for a target run on this machine.
pub fn is_own_target(target: &str) -> bool {
    let arch = std::env::consts::ARCH;
    target.is_empty() || target.starts_with(arch) || (arch == "x86" && target.starts_with('i'))
}

/// An environment that sets nothing.
static NOTHING_SET: BTreeMap<String, String> = BTreeMap::new();

/// The languages whose compilers are wanted beside that of C.
#[derive(Debug, Clone, Copy)]
pub(super) struct Wants {
    pub cxx: bool,
    pub fortran: bool,
}

/// What checks are made with.
struct Probed {
    /// What there is of the target and of the machine that builds.
    hosts: [Host; 2],
    tools: Tools,
    /// Removes the check programs in the end.
    scratch: Option<tempfile::TempDir>,
}

impl Probed {
    fn new(session: &Session, choices: &Choices) -> Probed {
        let before = session.before(choices);
        let tools = before.tools();
        let of_machine = |machine: Machine| {
            let sysroot = before.sysroot(machine);
            let compiler = tools.compiler_for(machine, Language::C);
            let target = compiler.map_or(String::new(), |compiler| compiler.target.clone());
            Host {
                search_path: tools.search_path.clone(),
                environment: tools.environment.clone(),
                metadata_folders: session.around.metadata_folders(sysroot.as_deref(), &target),
                sysroot,
                aside: PathBuf::from(ASIDE),
                never_below: session.tree_folders.clone(),
                scratch: PathBuf::new(),
                jobs: session.around.cores,
            }
        };
        let hosts = Machine::ALL.map(of_machine);
        Probed { hosts, tools, scratch: None }
    }

    /// Makes the folder for check programs, which is needed only when something has to be asked.
    fn make_scratch(&mut self, session: &Session) -> Result<(), SessionFault> {
        let scratch = session.work.scratch()?;
        self.hosts.iter_mut().for_each(|host| host.scratch = scratch.path().to_path_buf());
        self.scratch = Some(scratch);
        Ok(())
    }

    fn prober<'a>(&'a self, session: &'a Session, joining: Joining) -> Prober<'a> {
        let [host, own] = &self.hosts;
        Prober {
            host,
            own_host: own,
            machine: Machine::Target,
            tools: &self.tools,
            launch: &session.launch,
            memo: &session.probes,
            joining,
        }
    }
}

impl Session {
    /// Finds out about all needs, or takes the facts of another host where a person says so.
    ///
    /// # Errors
    /// The facts cannot be read, a need is not known, or there is no place for check programs.
    pub fn facts(&self, choices: &Choices) -> Result<Facts, SessionFault> {
        if self.board.needs.is_empty() {
            return Ok(Facts::default());
        }
        let wishes = self.wishes(choices)?;
        if let Some(file) = &self.scope.facts {
            return Ok(HostRecord::load(file, &self.board.tree.name)?.facts(&self.board));
        }
        let mut probed = Probed::new(self, choices);
        let kept = kept_facts(&self.board, &wishes, probed.prober(self, Joining::Together));
        let facts = match kept {
            Some(kept) => kept,
            None => {
                probed.make_scratch(self)?;
                survey(&self.board, &wishes, probed.prober(self, Joining::Together))
            }
        };
        self.keep_probes();
        Ok(facts)
    }

    /// Looks for one need by itself, so that the compiler's words are about it alone.
    ///
    /// # Errors
    /// As for [`Session::facts`].
    pub fn facts_of_one(&self, choices: &Choices, need: NeedId) -> Result<Facts, SessionFault> {
        let wishes = self.wishes(choices)?;
        let mut probed = Probed::new(self, choices);
        probed.make_scratch(self)?;
        // Nothing is recalled: the words shown are those of now.
        let fresh = ProbeMemo::default();
        let prober = Prober { memo: &fresh, ..probed.prober(self, Joining::Alone) };
        Ok(survey_some(&self.board, &[need].into(), &wishes, prober))
    }

    fn wishes(&self, choices: &Choices) -> Result<Wishes, SessionFault> {
        let providers = choices.providers.iter().map(|(need, chosen)| (*need, chosen.provider.clone())).collect();
        let mut wishes = Wishes { providers, ..Wishes::default() };
        for text in &self.scope.assume {
            let (name, version) =
                text.split_once('=').map_or((text.as_str(), None), |(name, version)| (name, Some(version)));
            let need = self.board.find_need(name.trim())?;
            let version = version.map(|version| version.trim().to_string()).filter(|version| !version.is_empty());
            wishes.assumed.insert(need, Assumption::There(version));
        }
        for name in &self.scope.forbid {
            wishes.assumed.insert(self.board.find_need(name)?, Assumption::NotThere);
        }
        Ok(wishes)
    }

    /// Where compilers are looked for.
    pub fn compiler_search<'a>(&'a self, sysroot: Option<&'a Path>) -> CompilerSearch<'a> {
        CompilerSearch {
            search_path: self.around.search_path(),
            sysroot,
            never_below: &self.tree_folders,
            environment: &NOTHING_SET,
            launch: &self.launch,
            memo: &self.probes,
        }
    }

    /// Finds the compilers that the toolchain names, for the languages that there are.
    pub(super) fn tools(&self, listing: &Listing, resolved: &Resolved) -> Tools {
        let any = |wanted: &dyn Fn(Language) -> bool| listing.files().iter().filter_map(Language::of).any(wanted);
        let built = |has: &dyn Fn(&Prebuilt) -> bool| {
            self.board.kit.is_some() && self.board.parts.iter().any(|(_, part)| part.prebuilt().is_some_and(has))
        };
        let wants = Wants {
            cxx: any(&|language| language == Language::Cxx) || built(&|part| part.has_cxx),
            fortran: any(&Language::is_fortran) || built(&|part| part.has_fortran),
        };
        self.tools_by(&|option| resolved.resolution.value(option).to_string(), wants)
    }

    pub(super) fn tools_by(&self, value: &dyn Fn(OptionId) -> String, wants: Wants) -> Tools {
        let (environment, fault) = match self.tool_environment(value) {
            Ok(environment) => (environment, None),
            Err(fault) => (ToolEnvironment::default(), Some(CompilerFault::Environment(fault))),
        };
        let search_path = environment.search_path().unwrap_or(self.around.search_path()).to_string();
        let mut variables = environment.variables;
        variables.remove("PATH");
        let of_machine = |machine: Machine| {
            if let (Machine::Target, Some(fault)) = (machine, &fault) {
                let fault = || Err(fault.clone());
                return Compilers { c: fault(), cxx: fault(), fortran: fault() };
            }
            let chain = self.board.toolchains.of(machine);
            let sysroot = sysroot_of(chain, value);
            let search = CompilerSearch {
                search_path: &search_path,
                environment: &variables,
                ..self.compiler_search(sysroot.as_deref())
            };
            let cxx = filled(&chain.cxx_compiler, value);
            let fortran = filled(&chain.fortran_compiler, value);
            Compilers {
                c: identify(&filled(&chain.c_compiler, value), Language::C, search),
                cxx: if wants.cxx {
                    identify(&cxx, Language::Cxx, search)
                } else {
                    Err(CompilerFault::Absent { name: cxx })
                },
                fortran: if wants.fortran {
                    identify(&fortran, Language::Fortran, search)
                } else {
                    Err(CompilerFault::Absent { name: fortran })
                },
            }
        };
        let target = of_machine(Machine::Target);
        let host = self.board.builds_for_host.then(|| of_machine(Machine::Host));
        Tools {
            target,
            host,
            search_path,
            environment: variables,
            variables: self.around.variables.clone(),
            epoch: self.epoch,
            processor: self.around.processor(),
        }
    }

    /// Finds out what the toolchain's environment sets; nothing where it has none.
    ///
    /// # Errors
    /// It cannot be had.
    pub(super) fn tool_environment(
        &self,
        value: &dyn Fn(OptionId) -> String,
    ) -> Result<ToolEnvironment, EnvironmentFault> {
        let from = match &self.board.toolchains.target.environment {
            None => return Ok(ToolEnvironment::default()),
            Some(EnvironmentDef::Script(file)) => EnvironmentFrom::Script(filled(file, value)),
            Some(EnvironmentDef::Modules(names)) => {
                EnvironmentFrom::Modules(names.iter().map(|name| filled(name, value)).collect())
            }
        };
        // Only so is it known what its script reads.
        self.watch();
        from.ask(&self.launch, &self.probes)
    }

    /// Returns the command that installs what these needs ask for, where their packages are known.
    pub fn install_command(&self, facts: &Facts, needs: &[String]) -> Option<String> {
        let here = self.around.distribution();
        let ids = needs.iter().filter_map(|name| self.board.need(name));
        let packages = ids.flat_map(|need| remedy::helpful_packages(&self.board, facts, need, &here));
        let packages: Vec<Package> = packages.collect();
        remedy::install_command(&here, &packages, as_root())
    }

    /// Takes down the facts.
    pub fn host_record(&self, choices: &Choices, facts: &Facts) -> HostRecord {
        let before = self.before(choices);
        let compiler = before.tools().target.c.ok();
        let root =
            before.sysroot(Machine::Target).map_or(String::new(), |folder| format!(" --sysroot={}", folder.display()));
        let called = before.text(&self.board.toolchains.target.c_compiler);
        let traits = HostTraits {
            called: format!("{called}{root}"),
            distribution: self.around.distribution().title,
            compiler: compiler.as_ref().map_or(String::new(), |compiler| compiler.in_words()),
            target: compiler.map_or(String::new(), |compiler| compiler.target),
            environment: before.environment().map_or_else(BTreeMap::new, |environment| environment.variables),
        };
        HostRecord::of(&self.board, facts, traits)
    }

    /// Returns in what this host differs from the one that a profile was last built on, if that is known; nothing where facts are about
    /// something that is only supposed.
    pub fn changes_since_built(&self, profile: &ProfileName, choices: &Choices, facts: &Facts) -> Vec<HostDifference> {
        let asks = !self.board.needs.is_empty() || self.board.toolchains.target.environment.is_some();
        if !asks || facts.any_not_looked_for() || !self.scope.tried.is_empty() {
            return Vec::new();
        }
        let places = [self.shelf.host_path(profile), self.shelf.shipped_host_path(profile)];
        let before = places.iter().find_map(|place| HostRecord::load(place, &self.board.tree.name).ok());
        before.map_or(Vec::new(), |before| changes(&before, &self.host_record(choices, facts)))
    }

    /// Takes the host as it is now for the one that the profile is built on.
    ///
    /// # Errors
    /// It cannot be written.
    pub fn accept_host(&self, choices: &Choices, facts: &Facts) -> Result<(), SessionFault> {
        let only_tried = !self.scope.tried.is_empty();
        let asks = !self.board.needs.is_empty() || self.board.toolchains.target.environment.is_some();
        if !asks || facts.any_not_looked_for() || only_tried {
            return Ok(());
        }
        let path = self.shelf.host_path(&self.profile);
        let now = self.host_record(choices, facts);
        if HostRecord::load(&path, &self.board.tree.name).is_ok_and(|before| before == now) {
            return Ok(());
        }
        Ok(now.save(&path)?)
    }

    /// Refuses what would be built, chosen or kept by a host that is only supposed.
    ///
    /// # Errors
    /// The answers are about another host.
    pub fn only_real(&self) -> Result<(), SessionFault> {
        let given = [
            ("--assume", !self.scope.assume.is_empty()),
            ("--facts", self.scope.facts.is_some()),
            ("--forbid", !self.scope.forbid.is_empty()),
        ];
        let names: Vec<&str> = given.into_iter().filter(|(_, given)| *given).map(|(name, _)| name).collect();
        if names.is_empty() { Ok(()) } else { Err(SessionFault::Supposed(names)) }
    }
}

/// Tells whether packages can be installed without asking for more rights.
pub fn as_root() -> bool {
    rustix::process::geteuid().is_root()
}

/// The folder that stands for `/` of a toolchain's target, if there is one.
fn sysroot_of(chain: &Toolchain, value: &dyn Fn(OptionId) -> String) -> Option<PathBuf> {
    let folder = chain.sysroot.as_ref().map(|interp| filled(interp, value));
    folder.filter(|folder| !folder.is_empty()).map(PathBuf::from)
}

/// Fills in a text of the toolchain.
pub(super) fn filled(interp: &Interp, value: &dyn Fn(OptionId) -> String) -> String {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => text.clone(),
        Piece::Option(option) => value(*option),
        _ => String::new(),
    };
    interp.pieces.iter().map(piece).collect()
}
