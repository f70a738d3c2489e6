//! What most commands start from: the tree, its board, the profile, the facts, the values.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use boltboard_core::base::Epoch;
use boltboard_core::board::{Board, Interp, Kind, Piece};
use boltboard_core::definitions::{Listing, check_sources, find_root};
use boltboard_core::judge::{Judge, Preview, Touched, Touching, preview};
use boltboard_core::launch::RealLaunch;
use boltboard_core::load::{KeptPlace, LazySearch, Loaded, load};
use boltboard_core::logic::Logic;

use boltboard_core::plan::{Plan, PlanInput, Wanted, lower, lower_some};
use boltboard_core::profile::{Choices, ProfileName, ProfileSource, Shelf};
use boltboard_core::reading::TokenMemo;
use boltboard_core::reason::Explainer;
use boltboard_core::resolve::{Clash, Resolution, resolve};
use boltboard_core::work::{Folders, Stamp, StatusMemo, WorkFolder};

use boltboard_core::journal::Journal;

use boltboard_core::store::Store;

use boltboard_core::judge::Sweep;
use boltboard_core::survey::{CompilerSearch, EPOCH_VARIABLE, Facts, Language, ProbeMemo, Tools, identify};

use crate::args::Global;
use crate::exit::{Diagnostic, Exit, Stop};
use crate::host;
use crate::render::Screen;
use crate::render::clash::clash_diagnostics;

/// The name of the profile that choices go to when none was ever put in use.
const FIRST_PROFILE: &str = "mine";

/// A tree that was read, and where things are kept for it.
pub struct Session {
    /// The time before anything was read.
    pub opened: SystemTime,
    /// The board.
    pub board: &'static Board,
    /// Its rules as clauses.
    pub logic: &'static Logic,
    /// Its search index.
    pub search: LazySearch,
    /// The work folder, whether or not it is there yet.
    pub work: WorkFolder,
    /// Where profiles are kept.
    pub shelf: Shelf,
    /// The profile in use.
    pub profile: ProfileName,
    /// Starts processes.
    pub launch: RealLaunch,
    /// What compilers and programs have answered.
    pub probes: ProbeMemo,
    /// The search path for programs.
    pub search_path: String,
    /// The environment; steps see of it what they declare.
    pub variables: BTreeMap<String, String>,
    /// The time that everything is built as if at.
    pub epoch: Epoch,
    /// The folders of the tree, whose programs are not run before a build.
    pub tree_folders: Vec<PathBuf>,
    /// What was typed for every command.
    pub global: Global,
    /// Where remarks go.
    pub screen: Screen,
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

/// Where a command works, known before the board is read.
pub struct Whereabouts {
    /// The root of the board.
    pub root: PathBuf,
    /// The work folder, whether or not it is there yet.
    pub work: WorkFolder,
    /// The profile in use.
    pub profile: ProfileName,
}

impl Whereabouts {
    /// Finds the tree that the arguments name.
    pub fn find(global: &Global) -> Result<Whereabouts, Stop> {
        let here = std::env::current_dir().map_err(|e| Stop::usage(format!("cannot tell the current folder: {e}")))?;
        let start = global.tree.clone().unwrap_or_else(|| here.clone());
        let root = find_root(&start)?;
        let work = WorkFolder::at(&work_root(global, &here, &root));
        let profile = match &global.profile {
            Some(name) => profile_name(name)?,
            None => {
                let known = work.active()?;
                if known.is_none() && work.has_builds() {
                    let message = "the file that names the profile in use is gone from the work folder";
                    let help = "name one: boltboard --profile NAME profile use NAME";
                    return Err(Stop::new(Exit::Wrong, Diagnostic::new(message).help(help)));
                }
                known.or_else(|| ProfileName::parse(FIRST_PROFILE)).ok_or_else(|| Stop::usage("no profile"))?
            }
        };
        Ok(Whereabouts { root, work, profile })
    }
}

impl Session {
    /// Reads the tree that the arguments name.
    pub fn open(global: &Global, screen: &Screen) -> Result<Session, Stop> {
        let opened = SystemTime::now();
        let Whereabouts { root, work, profile } = Whereabouts::find(global)?;
        // A tree that is only looked at gets no work folder.
        let place =
            work.exists().then(|| KeptPlace { file: work.board(), program: this_program(), work: work.clone() });
        let loaded = load(&root, global.sources.as_deref(), place.as_ref());
        let Loaded { board, logic, search, .. } = loaded.map_err(|reading| Stop::definitions(&reading))?;
        // A command ends soon; the system takes the memory back quicker than item by item.
        let (board, logic): (&'static Board, &'static Logic) = (Box::leak(Box::new(board)), Box::leak(Box::new(logic)));
        work.check(&board.tree.name)?;
        let shelf = work.shelf(root.join("profiles"));
        let variables = variables();
        let search_path = variables.get("PATH").cloned().unwrap_or_default();
        let epoch = epoch(&variables)?;
        let launch = RealLaunch::default();
        let probes = ProbeMemo::load(&work.probes());
        let tree_folders = vec![board.tree.board_root.clone(), board.tree.source_root.clone()];
        Ok(Session {
            opened,
            tree_folders,
            logic,
            search,
            board,
            work,
            shelf,
            profile,
            launch,
            probes,
            search_path,
            variables,
            epoch,
            global: global.clone(),
            screen: *screen,
        })
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
            let read = self.shelf.read(profile, self.board);
            read.map_err(|(problems, files)| Stop::profile(&problems, &files))?
        };
        Ok(choices.with_tried(self.board, &self.global.tried)?)
    }

    /// Resolves the profile in use as if its file held `text`.
    pub fn resolve_as(&self, text: &str) -> Result<Resolved, Stop> {
        let read = self.shelf.read_as(&self.profile, Some(text), self.board);
        let choices = read.map_err(|(problems, files)| Stop::profile(&problems, &files))?;
        let facts = self.facts(&choices)?;
        self.resolve_choices(choices, facts)
    }

    /// Resolves the profile in use with these choices on top.
    pub fn resolve_with(&self, asked: &[String]) -> Result<Resolved, Stop> {
        let choices = self.choices_of(&self.profile)?.with_tried(self.board, asked)?;
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
        let facts = self.facts_for(profile, &choices)?;
        self.resolve_choices(choices, facts)
    }

    /// Resolves choices that are at hand.
    pub fn resolve_choices(&self, choices: Choices, facts: Facts) -> Result<Resolved, Stop> {
        match resolve(self.board, self.logic, &choices, &facts) {
            Ok(resolution) => Ok(Resolved { choices, facts, resolution }),
            Err(clashes) => Err(self.clash_stop(&clashes, &choices, &facts)),
        }
    }

    fn clash_stop(&self, clashes: &[Clash], choices: &Choices, facts: &Facts) -> Stop {
        let lacking = clashes.iter().all(|clash| !clash.lacking.is_empty());
        let diagnostics = clash_diagnostics(self.board, choices, facts, clashes);
        Stop { diagnostics, exit: if lacking { Exit::HostLacks } else { Exit::Wrong } }
    }

    /// Looks for everything that the tree needs, and names what changed on the host since the profile was built.
    pub fn facts(&self, choices: &Choices) -> Result<Facts, Stop> {
        self.facts_for(&self.profile, choices)
    }

    fn facts_for(&self, profile: &ProfileName, choices: &Choices) -> Result<Facts, Stop> {
        if self.board.needs.is_empty() {
            return Ok(Facts::default());
        }
        let facts = host::facts(self, choices)?;
        self.keep_probes();
        host::tell_changes(self, profile, choices, &facts);
        Ok(facts)
    }

    /// Where compilers are looked for.
    pub fn compiler_search<'a>(&'a self, sysroot: Option<&'a Path>) -> CompilerSearch<'a> {
        CompilerSearch {
            search_path: &self.search_path,
            sysroot,
            never_below: &self.tree_folders,
            launch: &self.launch,
            memo: &self.probes,
        }
    }

    /// Keeps what compilers have answered, once there is a place for it.
    pub fn keep_probes(&self) {
        if self.work.exists() {
            // What is not kept is asked again, which is no reason to stop.
            let _ = self.probes.save(&self.work.probes());
        }
    }

    /// Fills in a text of the toolchain before anything is resolved: facts come first, and need a compiler.
    pub fn text_before(&self, interp: &Interp, choices: &Choices) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Option(option) => match choices.get(*option) {
                Some(choice) => choice.value.to_string(),
                None => {
                    let definition = &self.board.options[*option];
                    let fixed = definition.defaults.last().map(|rule| &rule.value);
                    match (fixed, &definition.kind) {
                        (Some(boltboard_core::board::DefaultValue::Fixed(value)), _) => value.to_string(),
                        (None, Kind::Pick(values)) => values.first().map_or(String::new(), |first| first.name.clone()),
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
        let problems = check_sources(self.board, &listing);
        if !problems.is_empty() {
            return Err(Stop::problems(&problems, self.board));
        }
        let tools = self.tools(&listing, resolved);
        let folders = self.work.folders(&self.board.tree.source_root, profile);
        let input = self.input_of(resolved, &listing, &tools, &folders);
        let plan = lower(input);
        let install = |needs: &[String]| host::install_command(self.board, &resolved.facts, needs);
        let plan = plan.map_err(|problems| Stop::plan(&problems, self.board, &install))?;
        Ok(Planned { listing, tools, folders, plan })
    }

    /// Makes the plan of what was touched since a sealed build, with what it is judged by, or else that of everything.
    pub fn plan_since(
        &self,
        resolved: &Resolved,
        sweep: Option<&Sweep<'static>>,
    ) -> Result<(Planned, Option<Touched>), Stop> {
        let touched = match sweep {
            Some(sweep) => self.touched(resolved, sweep)?,
            None => None,
        };
        match touched {
            Some((planned, touched)) => Ok((planned, Some(touched))),
            None => Ok((self.plan(resolved)?, None)),
        }
    }

    /// Makes the plan of what was touched since a sealed build, with what it is judged by; `None` where all must be planned.
    fn touched(&self, resolved: &Resolved, sweep: &Sweep<'static>) -> Result<Option<(Planned, Touched)>, Stop> {
        let folders = self.work.folders(&self.board.tree.source_root, &self.profile);
        let touching = Touching {
            board: self.board,
            resolution: &resolved.resolution,
            facts: &resolved.facts,
            folders: &folders,
            store: &Store::at(&self.work.store()),
            sweep,
        };
        let mut looked = None;
        let touched = touching.plan(&mut |parts| {
            let listing = Listing::for_patterns(&self.board.tree.source_root, parts.patterns.into_iter());
            let tools = self.tools(&listing, resolved);
            let input = self.input_of(resolved, &listing, &tools, &folders);
            let plan = lower_some(input, parts.macros, Wanted::Only(parts.wanted)).ok()?;
            looked = Some((listing, tools));
            Some(plan)
        })?;
        Ok(touched
            .zip(looked)
            .map(|((plan, touched), (listing, tools))| (Planned { listing, tools, folders, plan }, touched)))
    }

    /// Finds the compilers that the toolchain names, for the languages that there are.
    fn tools(&self, listing: &Listing, resolved: &Resolved) -> Tools {
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
        let sysroot = chain.sysroot.as_ref().map(named).filter(|folder| !folder.is_empty()).map(PathBuf::from);
        let search = self.compiler_search(sysroot.as_deref());
        let ask = |name: &str, language| identify(name, language, search);
        let c = ask(&named(&chain.c_compiler), Language::C);
        let cxx_name = named(&chain.cxx_compiler);
        let cxx = if any_cxx {
            ask(&cxx_name, Language::Cxx)
        } else {
            Err(boltboard_core::survey::CompilerFault::Absent { name: cxx_name })
        };
        Tools {
            c,
            cxx,
            search_path: self.search_path.clone(),
            variables: self.variables.clone(),
            epoch: self.epoch,
            processor: crate::host::processor(),
        }
    }

    /// Tells what a build by a plan would do; the plan may be one of what was touched.
    pub fn preview(&self, planned: &Planned, touched: Option<&Touched>) -> Result<Preview, Stop> {
        match touched {
            None => self.judged(planned, &mut |_, preview| Ok(preview.clone())),
            Some(Touched { journal, status, .. }) => {
                let (store, tokens) = (Store::at(&self.work.store()), TokenMemo::default());
                Ok(preview(&Judge::new(&planned.plan, journal, &store, status, &tokens)))
            }
        }
    }

    /// Looks at what a build by a plan of everything would do, with all that it is judged by.
    pub fn judged<T>(
        &self,
        planned: &Planned,
        look: &mut dyn FnMut(&Judge<'_>, &Preview) -> Result<T, Stop>,
    ) -> Result<T, Stop> {
        let (journal, store) = (Journal::open(&planned.folders.build)?, Store::at(&self.work.store()));
        let (status, tokens) = (StatusMemo::load(&self.work.status()), TokenMemo::default());
        let judge = Judge::new(&planned.plan, &journal, &store, &status, &tokens);
        look(&judge, &preview(&judge))
    }

    /// Puts the profile in use with which every work folder begins.
    pub fn use_first_profile(&self) -> Result<(), Stop> {
        let first = ProfileName::parse(FIRST_PROFILE).ok_or_else(|| Stop::usage("no profile"))?;
        Ok(self.work.set_active(&first)?)
    }

    /// Returns what explains values.
    pub fn explainer<'a>(&'a self, resolved: &'a Resolved) -> Explainer<'a> {
        Explainer {
            board: self.board,
            choices: &resolved.choices,
            facts: &resolved.facts,
            resolution: &resolved.resolution,
        }
    }

    /// Returns the input of a plan, for what looks at it again.
    pub fn plan_input<'a>(&'a self, resolved: &'a Resolved, planned: &'a Planned) -> PlanInput<'a> {
        self.input_of(resolved, &planned.listing, &planned.tools, &planned.folders)
    }

    fn input_of<'a>(
        &'a self,
        resolved: &'a Resolved,
        listing: &'a Listing,
        tools: &'a Tools,
        folders: &'a Folders,
    ) -> PlanInput<'a> {
        let Resolved { resolution, facts, .. } = resolved;
        PlanInput { board: self.board, resolution, facts, listing, tools, folders }
    }
}

/// What tells this program from other versions of it, also while it is being worked on.
pub fn this_program() -> String {
    let stamp = std::env::current_exe().ok().and_then(|path| Stamp::of(&path));
    format!("{} {stamp:?}", env!("CARGO_PKG_VERSION"))
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

/// Returns the environment of this process; what is no text in it is made one.
pub fn variables() -> BTreeMap<String, String> {
    let text = |text: std::ffi::OsString| text.to_string_lossy().into_owned();
    std::env::vars_os().map(|(name, value)| (text(name), text(value))).collect()
}

fn epoch(variables: &BTreeMap<String, String>) -> Result<Epoch, Stop> {
    let Some(text) = variables.get(EPOCH_VARIABLE).filter(|text| !text.is_empty()) else { return Ok(Epoch::default()) };
    Epoch::parse(text).ok_or_else(|| {
        Stop::usage(format!(
            "{EPOCH_VARIABLE} is `{text}`: wanted is a number of seconds since 1970, or nothing at all"
        ))
    })
}
