//! What most commands start from: the tree, its board, the profile, the facts, the values.

use std::path::{Path, PathBuf};

use boltboard_core::board::{Board, Interp, Piece};
use boltboard_core::definitions::{Listing, check_sources, find_root, read_tree};
use boltboard_core::launch::RealLaunch;
use boltboard_core::plan::{Plan, PlanInput, lower};
use boltboard_core::profile::{Choices, ProfileName, ProfileSource, Shelf};
use boltboard_core::reason::Explainer;
use boltboard_core::resolve::{Clash, Resolution, resolve};
use boltboard_core::store::{Folders, WorkFolder};
use boltboard_core::survey::{Facts, Host, Language, ProbeMemo, Prober, Tools, identify, survey};

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::render::clash::clash_diagnostics;
use crate::render::survey::install_command;

/// The name of the profile that choices go to when none was ever put in use.
const FIRST_PROFILE: &str = "mine";

/// A tree that was read, and where things are kept for it.
pub struct Session {
    /// The board.
    pub board: Board,
    /// The work folder, whether or not it is there yet.
    pub work: WorkFolder,
    /// Where profiles are kept.
    pub shelf: Shelf,
    /// The profile in use.
    pub profile: ProfileName,
    /// Starts processes.
    pub launch: RealLaunch,
    probes: ProbeMemo,
    tried: Vec<String>,
    search_path: String,
}

/// Choices with facts and the values that follow.
pub struct Resolved {
    /// The choices.
    pub choices: Choices,
    /// The facts.
    pub facts: Facts,
    /// The values.
    pub resolution: Resolution,
}

/// A plan with what it was made of.
pub struct Planned {
    /// The tree's files.
    pub listing: Listing,
    /// The compilers and other tools.
    pub tools: Tools,
    /// Where everything lies.
    pub folders: Folders,
    /// The plan.
    pub plan: Plan,
}

impl Session {
    /// Reads the tree that the arguments name.
    pub fn open(global: &Global) -> Result<Session, Stop> {
        let here = std::env::current_dir().map_err(|e| Stop::usage(format!("cannot tell the current folder: {e}")))?;
        let start = global.tree.clone().unwrap_or_else(|| here.clone());
        let root = find_root(&start)?;
        let reading = read_tree(&root, global.sources.as_deref());
        let Some(board) = reading.board else { return Err(Stop::definitions(&reading)) };
        let work = WorkFolder::at(&work_root(global, &here, &root));
        work.check(&board.tree.name)?;
        let shelf = work.shelf(root.join("profiles"));
        let profile = match &global.profile {
            Some(name) => profile_name(name)?,
            None => {
                work.active()?.or_else(|| ProfileName::parse(FIRST_PROFILE)).ok_or_else(|| Stop::usage("no profile"))?
            }
        };
        let search_path = std::env::var("PATH").unwrap_or_default();
        let launch = RealLaunch::default();
        let probes = ProbeMemo::load(&work.probes());
        Ok(Session { board, work, shelf, profile, launch, probes, tried: global.tried.clone(), search_path })
    }

    /// Returns whether a profile exists, and where it comes from.
    pub fn source_of(&self, profile: &ProfileName) -> Result<Option<ProfileSource>, Stop> {
        Ok(self.shelf.list()?.get(profile).copied())
    }

    /// Reads a profile's choices, with those of `--try` on top. The first profile need not be there yet.
    pub fn choices_of(&self, profile: &ProfileName) -> Result<Choices, Stop> {
        let fresh = profile.as_str() == FIRST_PROFILE && self.source_of(profile)?.is_none();
        let choices = if fresh {
            Choices::default()
        } else {
            let read = self.shelf.read(profile, &self.board);
            read.map_err(|(problems, files)| Stop::profile(&problems, &files))?
        };
        Ok(choices.with_tried(&self.board, &self.tried)?)
    }

    /// Resolves the profile in use as if its file held `text`.
    pub fn resolve_as(&self, text: &str) -> Result<Resolved, Stop> {
        let read = self.shelf.read_as(&self.profile, Some(text), &self.board);
        let choices = read.map_err(|(problems, files)| Stop::profile(&problems, &files))?;
        let facts = self.facts(&choices)?;
        self.resolve_choices(choices, facts)
    }

    /// Resolves the profile in use with these choices on top.
    pub fn resolve_with(&self, asked: &[String]) -> Result<Resolved, Stop> {
        let choices = self.choices_of(&self.profile)?.with_tried(&self.board, asked)?;
        let facts = self.facts(&choices)?;
        self.resolve_choices(choices, facts)
    }

    /// Looks for the tree's needs and resolves the profile in use.
    pub fn resolve(&self) -> Result<Resolved, Stop> {
        self.resolve_profile(&self.profile)
    }

    /// The same for a named profile.
    pub fn resolve_profile(&self, profile: &ProfileName) -> Result<Resolved, Stop> {
        let choices = self.choices_of(profile)?;
        let facts = self.facts(&choices)?;
        self.resolve_choices(choices, facts)
    }

    /// Resolves choices that are at hand.
    pub fn resolve_choices(&self, choices: Choices, facts: Facts) -> Result<Resolved, Stop> {
        match resolve(&self.board, &choices, &facts) {
            Ok(resolution) => Ok(Resolved { choices, facts, resolution }),
            Err(clashes) => Err(self.clash_stop(&clashes, &choices)),
        }
    }

    fn clash_stop(&self, clashes: &[Clash], choices: &Choices) -> Stop {
        let lacking = clashes.iter().all(|clash| !clash.lacking.is_empty());
        let diagnostics = clash_diagnostics(&self.board, choices, clashes);
        Stop { diagnostics, exit: if lacking { Exit::HostLacks } else { Exit::Wrong } }
    }

    /// Looks for everything that the tree needs.
    pub fn facts(&self, choices: &Choices) -> Result<Facts, Stop> {
        if self.board.needs.is_empty() {
            return Ok(Facts::default());
        }
        let scratch = self.work.scratch()?;
        let name = self.compiler_before(&self.board.toolchain.c_compiler, choices);
        let compiler = identify(&name, Language::C, &self.search_path, &self.launch, &self.probes).ok();
        let host = Host {
            search_path: self.search_path.clone(),
            metadata_folders: metadata_folders(),
            scratch: scratch.path().to_path_buf(),
        };
        let (launch, memo) = (&self.launch, &self.probes);
        let facts = survey(&self.board, Prober { host: &host, compiler: compiler.as_ref(), launch, memo });
        self.keep_probes();
        Ok(facts)
    }

    /// Keeps what compilers have answered, once there is a place for it.
    pub fn keep_probes(&self) {
        if self.work.exists() {
            // What is not kept is asked again, which is no reason to stop.
            let _ = self.probes.save(&self.work.probes());
        }
    }

    /// The compiler's name before anything is resolved: facts come first, and need one.
    fn compiler_before(&self, interp: &Interp, choices: &Choices) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Option(option) => match choices.get(*option) {
                Some(choice) => choice.value.to_string(),
                None => {
                    let last = self.board.options[*option].defaults.last();
                    match last.map(|rule| &rule.value) {
                        Some(boltboard_core::board::DefaultValue::Fixed(value)) => value.to_string(),
                        _ => String::new(),
                    }
                }
            },
            _ => String::new(),
        };
        interp.pieces.iter().map(piece).collect()
    }

    /// Makes the plan of the profile's build.
    pub fn plan(&self, resolved: &Resolved) -> Result<Planned, Stop> {
        self.plan_of(&self.profile, resolved)
    }

    /// The same for a named profile.
    pub fn plan_of(&self, profile: &ProfileName, resolved: &Resolved) -> Result<Planned, Stop> {
        let listing = Listing::of(&self.board.tree.source_root);
        let problems = check_sources(&self.board, &listing);
        if !problems.is_empty() {
            return Err(Stop::problems(&problems, &self.board));
        }
        let chain = &self.board.toolchain;
        let named = |interp: &Interp| {
            let piece = |piece: &Piece| match piece {
                Piece::Text(text) => text.clone(),
                Piece::Option(option) => resolved.resolution.value(*option).to_string(),
                _ => String::new(),
            };
            interp.pieces.iter().map(piece).collect::<String>()
        };
        let any_cxx = listing.files().iter().any(|file| Language::of(file) == Some(Language::Cxx));
        let c = identify(&named(&chain.c_compiler), Language::C, &self.search_path, &self.launch, &self.probes);
        let cxx_name = named(&chain.cxx_compiler);
        let cxx = if any_cxx {
            identify(&cxx_name, Language::Cxx, &self.search_path, &self.launch, &self.probes)
        } else {
            Err(boltboard_core::survey::CompilerFault::Absent { name: cxx_name })
        };
        let tools = Tools { c, cxx, search_path: self.search_path.clone() };
        let folders = self.work.folders(&self.board.tree.source_root, profile);
        let input = PlanInput {
            board: &self.board,
            resolution: &resolved.resolution,
            facts: &resolved.facts,
            listing: &listing,
            tools: &tools,
            folders: &folders,
        };
        let plan = lower(input);
        let install = |needs: &[String]| install_command(&self.board, needs, &distribution());
        let plan = plan.map_err(|problems| Stop::plan(&problems, &self.board, &install))?;
        Ok(Planned { listing, tools, folders, plan })
    }

    /// Returns what explains values.
    pub fn explainer<'a>(&'a self, resolved: &'a Resolved) -> Explainer<'a> {
        Explainer {
            board: &self.board,
            choices: &resolved.choices,
            facts: &resolved.facts,
            resolution: &resolved.resolution,
        }
    }

    /// Returns the input of a plan, for what looks at it again.
    pub fn plan_input<'a>(&'a self, resolved: &'a Resolved, planned: &'a Planned) -> PlanInput<'a> {
        PlanInput {
            board: &self.board,
            resolution: &resolved.resolution,
            facts: &resolved.facts,
            listing: &planned.listing,
            tools: &planned.tools,
            folders: &planned.folders,
        }
    }
}

/// Reads a profile's name as typed.
pub fn profile_name(text: &str) -> Result<ProfileName, Stop> {
    ProfileName::parse(text).ok_or_else(|| {
        let diagnostic = Diagnostic::new(format!("`{text}` cannot be a profile's name"));
        Stop::new(
            Exit::WrongUse,
            diagnostic.help("use letters, digits, `-`, `_` and `.`, starting with a letter or digit"),
        )
    })
}

/// The work folder: as told, else one that is there already between here and the tree's root, else in the root.
fn work_root(global: &Global, here: &Path, root: &Path) -> PathBuf {
    if let Some(work) = &global.work {
        return if work.is_absolute() { work.clone() } else { here.join(work) };
    }
    let here = here.canonicalize().unwrap_or_else(|_| here.to_path_buf());
    let within = here.ancestors().take_while(|folder| folder.starts_with(root));
    let there = within.map(|folder| folder.join("bolt-work")).find(|folder| WorkFolder::at(folder).exists());
    if !here.starts_with(root) && global.tree.is_some() {
        return here.join("bolt-work");
    }
    there.unwrap_or_else(|| root.join("bolt-work"))
}

fn metadata_folders() -> Vec<PathBuf> {
    let mut folders: Vec<PathBuf> = Vec::new();
    if let Ok(path) = std::env::var("BOLTBOARD_METADATA_PATH") {
        folders.extend(std::env::split_paths(&path).filter(|p| !p.as_os_str().is_empty()));
    }
    let arch = std::env::consts::ARCH;
    let usual = [
        "/usr/local/lib",
        "/usr/local/share",
        &format!("/usr/lib/{arch}-linux-gnu"),
        "/usr/lib64",
        "/usr/lib",
        "/usr/share",
    ]
    .map(|folder| Path::new(folder).join("pkgconfig"));
    folders.extend(usual.into_iter().filter(|folder| folder.is_dir()));
    folders
}

/// The distribution's family, from the system's own release file.
pub fn distribution() -> String {
    let text = std::fs::read_to_string("/etc/os-release").unwrap_or_default();
    let field = |key: &str| {
        text.lines().find_map(|l| l.strip_prefix(key)).map(|v| v.trim_matches('"').to_string()).unwrap_or_default()
    };
    let names = format!("{} {}", field("ID="), field("ID_LIKE="));
    let families = [
        ("debian", "debian"),
        ("ubuntu", "debian"),
        ("fedora", "fedora"),
        ("rhel", "fedora"),
        ("suse", "opensuse"),
        ("opensuse", "opensuse"),
        ("arch", "arch"),
        ("alpine", "alpine"),
    ];
    let known = families.iter().find(|(name, _)| names.split_whitespace().any(|n| n.starts_with(name)));
    known.map_or(String::new(), |(_, family)| (*family).to_string())
}
