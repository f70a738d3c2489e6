//! The core's faults, told to people: what happened, where, and what to do next.

use boltboard_core::base::{FileError, shell_word};
use boltboard_core::board::{Board, NeedId, TryFault};
use boltboard_core::definitions::{Problem, Reading, TreeFault};
use boltboard_core::plan::{PlanFault, PlanProblem};
use boltboard_core::profile::{Choices, OnlyWith, Unfit, WrongProfile};
use boltboard_core::run::BuildFault;
use boltboard_core::search::FilterFault;
use boltboard_core::session::{Session, SessionFault};
use boltboard_core::shared::{AddressFault, StockFault};
use boltboard_core::survey::{Facts, RecordFault};
use boltboard_core::work::{LockFault, WorkFault};
use boltboard_core::workers::CrewFault;

use super::wrong::{definition, profile};
use super::{Diagnostic, Exit, FaultKind, Stop, compiler_diagnostic, needed};
use crate::render::clash::clash_diagnostics;
use crate::render::text::bytes;

impl Stop {
    /// Tells what stands against a session's answer. What is about the board needs the session.
    pub fn of(fault: SessionFault, session: Option<&Session>) -> Stop {
        match (fault, session) {
            (SessionFault::Sharing(fault), _) => fault.into(),
            (SessionFault::Crew(fault), _) => fault.into(),
            (SessionFault::Tree(fault), _) => fault.into(),
            (SessionFault::Work(fault), _) => fault.into(),
            (SessionFault::File(error), _) => error.into(),
            (SessionFault::Lock(fault), _) => fault.into(),
            (SessionFault::Record(fault), _) => fault.into(),
            (SessionFault::Try(fault), _) => fault.into(),
            (SessionFault::Build(fault), _) => fault.into(),
            (SessionFault::Definitions(reading), _) => Stop::definitions(&reading),
            (SessionFault::Profile(WrongProfile { problems, files }), _) => {
                let diagnostics = problems.iter().map(|problem| profile(problem, &files)).collect();
                Stop::of_all(FaultKind::Profile, Exit::Wrong, diagnostics)
            }
            (SessionFault::Unfit { unfit, choices }, Some(session)) => {
                let told = unfit.iter().map(|(only, unfit)| unfit_layer(only, unfit, session, &choices));
                Stop::of_all(FaultKind::Profile, Exit::HostLacks, told.collect())
            }
            (SessionFault::Sources(problems), Some(session)) => Stop::problems(&problems, &session.board),
            (SessionFault::Clash { clashes, choices, facts }, Some(session)) => {
                // Where the compiler does not work, nothing could be looked for.
                let unasked = |need: &NeedId| facts.get(*need).is_some_and(|fact| fact.was_not_asked());
                if clashes.iter().flat_map(|clash| &clash.lacking).any(unasked)
                    && let Some(gap) = session.compiler_gap_of(&facts, &choices)
                {
                    return Stop::of(SessionFault::Compiler { gap: Box::new(gap), choices }, Some(session));
                }
                let lacking = clashes.iter().all(|clash| !clash.lacking.is_empty());
                let diagnostics = clash_diagnostics(session, &choices, &facts, &clashes);
                Stop::of_all(FaultKind::Clash, if lacking { Exit::HostLacks } else { Exit::Wrong }, diagnostics)
            }
            (SessionFault::Plan { problems, choices, facts }, Some(session)) => {
                plan(&problems, session, &choices, &facts)
            }
            (SessionFault::NotFetched(fetches), Some(session)) => {
                let defs = || fetches.iter().map(|fetch| &session.board.fetches[*fetch]);
                let names: Vec<String> = defs().map(|def| format!("{} ({})", def.name, bytes(def.size))).collect();
                let (what, them) = if names.len() == 1 { ("one file", "it") } else { ("files", "them") };
                let told = Diagnostic::new(format!(
                    "{what} that these values want must be fetched first: {}",
                    names.join(", ")
                ));
                let told = told.note("Nothing was started.").next("boltboard fetch", format!("get {them}"));
                let told = told.next("boltboard fetch --preview", "what there is to fetch, and what for");
                Stop::new(Exit::HostLacks, told)
            }
            (SessionFault::Compiler { gap, choices }, Some(session)) => {
                Stop::new(Exit::HostLacks, compiler_diagnostic(session, &choices, &gap))
            }
            (fault @ SessionFault::ProfileName(_), _) => {
                let help = "use letters, digits, `-`, `_` and `.`, starting with a letter or digit";
                Stop::new(Exit::WrongUse, Diagnostic::new(fault.to_string()).help(help))
            }
            (SessionFault::NoProfileInUse { built }, _) => {
                let name = built.first().map_or("mine", String::as_str);
                let diagnostic = Diagnostic::new("the file that names the profile in use is gone from the work folder");
                let diagnostic = diagnostic.note(format!("profiles that were built here: {}", built.join(", ")));
                let command = format!("boltboard --profile {name} profile use {name}");
                Stop::new(Exit::Wrong, diagnostic.next(command, "use this one")).kind(FaultKind::WorkFolder)
            }
            (fault @ SessionFault::Revision { .. }, _) => {
                let told = Diagnostic::new(fault.to_string());
                Stop::new(Exit::WrongUse, told.help("name a commit, tag or branch that has this tree's boltboard.toml"))
            }
            (fault @ SessionFault::Supposed(_), _) => {
                let what = "only answers questions. A build, a choice or saved facts are about this host as it is";
                Stop::new(Exit::WrongUse, Diagnostic::new(format!("{fault} {what}")))
            }
            (fault @ SessionFault::Epoch { .. }, _) => Stop::usage(fault.to_string()),
            (fault @ (SessionFault::Change { .. } | SessionFault::Patch(_)), Some(_)) => {
                let told = Diagnostic::new(fault.to_string());
                let told = told.next("boltboard patch list", "what the profile carries");
                Stop::new(Exit::Wrong, told.help("make it fit these sources, or `boltboard patch remove` it"))
            }
            (fault, None) => Stop::new(Exit::Wrong, Diagnostic::new(fault.to_string())),
        }
    }

    /// All problems of a reading.
    pub fn definitions(reading: &Reading) -> Stop {
        let diagnostics = reading.problems.iter().map(|p| definition(p, &reading.files)).collect();
        Stop::of_all(FaultKind::Definitions, Exit::Wrong, diagnostics)
    }

    /// Problems of a board that was read.
    pub fn problems(problems: &[Problem], board: &Board) -> Stop {
        let diagnostics = problems.iter().map(|p| definition(p, &board.files)).collect();
        Stop::of_all(FaultKind::Definitions, Exit::Wrong, diagnostics)
    }
}

/// A layer that is for another host than this one.
fn unfit_layer(only: &OnlyWith, unfit: &Unfit, session: &Session, choices: &Choices) -> Diagnostic {
    let layer = &choices.layers[only.layer].name;
    let [compiler, machine, needs_at] = only.places.map(Some);
    let is_for = |wanted: &str, found: &str, place| {
        let found = if found.is_empty() { "there is none here".to_string() } else { format!("here is {found}") };
        Diagnostic::new(format!("the profile {layer} is only for {wanted}; {found}")).at(&choices.files, place)
    };
    match unfit {
        Unfit::Compiler { wanted, found } => is_for(wanted, found, compiler)
            .next("boltboard survey --toolchains", "the compilers of this host")
            .next("boltboard profile list", "profiles for others"),
        Unfit::Machine { wanted, found } => {
            is_for(&format!("programs for {wanted}"), &format!("a compiler for {found}"), machine)
                .next("boltboard survey --toolchains", "the compilers of this host")
        }
        Unfit::Needs(needs) => {
            let names: Vec<&str> = needs.iter().map(|need| session.board.needs[*need].name.as_str()).collect();
            let what = if names.len() == 1 { "the need" } else { "the needs" };
            let message = format!("the profile {layer} is only for hosts that meet {what} {}", names.join(", "));
            let told = Diagnostic::new(message).at(&choices.files, needs_at);
            names.iter().fold(told, |told, name| {
                told.next(format!("boltboard survey {name}"), "what was looked for, and what helps")
            })
        }
    }
}

/// What stands against a plan.
fn plan(problems: &[PlanProblem], session: &Session, choices: &Choices, facts: &Facts) -> Stop {
    if let Some(gap) = session.compiler_gap_of(facts, choices) {
        return Stop::new(Exit::HostLacks, compiler_diagnostic(session, choices, &gap));
    }
    let board = &session.board;
    let lacks = |fault: &PlanFault| matches!(fault, PlanFault::RequiredNeed { .. } | PlanFault::PartNeed { .. });
    let all_lacking = problems.iter().all(|p| lacks(&p.fault));
    let told = |problem: &PlanProblem| {
        let diagnostic = Diagnostic::new(problem.fault.to_string()).at(&board.files, problem.place);
        match &problem.fault {
            PlanFault::RequiredNeed { need, .. } | PlanFault::PartNeed { need, .. } => {
                needed(diagnostic, session, choices, facts, &[*need])
            }
            PlanFault::UsesUnmade { .. } => {
                diagnostic.help("give the entry of `uses` a condition, or switch on what makes that part")
            }
            PlanFault::NotInKit { used, .. } => {
                diagnostic.help(format!("have the makers of the tree name `{used}` in its kit, or do without it"))
            }
            PlanFault::Template { near, .. } => diagnostic.near(near),
            PlanFault::OnePlace { .. } => {
                diagnostic.help("keep the folders that they lie in: below = \"FOLDER\", the one that holds them all")
            }
            PlanFault::NotBelow { .. } => {
                diagnostic.help("name a folder that holds all its files, or leave the file out")
            }
            PlanFault::CxxModules { .. }
            | PlanFault::SameModule { .. }
            | PlanFault::ModuleRing(_)
            | PlanFault::NoSources(_)
            | PlanFault::TemplateOfPart { .. }
            | PlanFault::NoCommand(_)
            | PlanFault::Service { .. }
            | PlanFault::SameFile { .. }
            | PlanFault::Ring(_)
            | PlanFault::Define { .. } => diagnostic,
            PlanFault::NotInstalled { used, .. } => diagnostic
                .help(format!("give {used} an `install` as well, or make it of kind `objects`, which is taken in")),
        }
    };
    let exit = if all_lacking { Exit::HostLacks } else { Exit::Wrong };
    Stop::of_all(FaultKind::Plan, exit, problems.iter().map(told).collect())
}

impl From<AddressFault> for Stop {
    fn from(fault: AddressFault) -> Stop {
        let told = Diagnostic::new(fault.to_string());
        Stop::new(Exit::WrongUse, told.next("boltboard store --help", "where results are shared, and how that is said"))
    }
}

impl From<StockFault> for Stop {
    fn from(fault: StockFault) -> Stop {
        let told = Diagnostic::new(fault.to_string());
        Stop::new(Exit::No, told.next("boltboard store", "where that is, and what is told to it"))
    }
}

impl From<CrewFault> for Stop {
    fn from(fault: CrewFault) -> Stop {
        let told = Diagnostic::new(fault.to_string());
        let told = match &fault {
            CrewFault::Unknown { near, .. } => told.near(near),
            CrewFault::File(_) | CrewFault::Wrong { .. } => told,
        };
        Stop::new(Exit::WrongUse, told.next("boltboard workers --help", "how machines are written down"))
    }
}

impl From<TryFault> for Stop {
    fn from(fault: TryFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        let diagnostic = match &fault {
            TryFault::Form(_) => diagnostic.help("write the option, `=` and the value, as in fog=on"),
            TryFault::Unknown { name, near } => {
                diagnostic.near(near).next(format!("boltboard options --find {}", shell_word(name)), "search for it")
            }
            TryFault::Value { option, fault } => {
                diagnostic.near(&fault.near).next(format!("boltboard show {option}"), "what it accepts")
            }
            TryFault::Derived { option } => diagnostic.next(format!("boltboard why {option}"), "what it follows from"),
            TryFault::InKit { .. } => diagnostic.help("build the tree itself with another value, and install it anew"),
            TryFault::UnknownNeed { near, .. } => diagnostic.near(near).next("boltboard survey --all", "all needs"),
            TryFault::UnknownFinding { near, .. } => {
                diagnostic.near(near).next("boltboard lint --help", "all findings")
            }
            TryFault::Provider(_) => diagnostic,
        };
        Stop::new(Exit::WrongUse, diagnostic)
    }
}

impl From<FilterFault> for Stop {
    fn from(fault: FilterFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string()).near(&fault.near);
        Stop::new(Exit::WrongUse, diagnostic.next("boltboard options --help", "all filters"))
    }
}

impl From<FileError> for Stop {
    fn from(error: FileError) -> Stop {
        let diagnostic = Diagnostic::new(format!("{error}: {}", error.source));
        if error.action == boltboard_core::work::PROFILE_IN_USE {
            let diagnostic = diagnostic.next("boltboard --profile mine profile use mine", "use the profile mine");
            return Stop::new(Exit::Wrong, diagnostic).kind(FaultKind::WorkFolder);
        }
        if error.action == boltboard_core::work::ADD_ONS_KEPT {
            let help = "remove that file, and add them again: boltboard add-on add FOLDER";
            return Stop::new(Exit::Wrong, diagnostic.help(help)).kind(FaultKind::WorkFolder);
        }
        let exit = Exit::of_file(&error);
        let diagnostic = match exit {
            Exit::DiskFull => diagnostic
                .note("Nothing half-written was kept.")
                .help("free some space, then run the same command again"),
            Exit::NoPermission => diagnostic.help("use a folder that you may write to: --work DIR or BOLTBOARD_WORK"),
            _ => diagnostic,
        };
        Stop::new(exit, diagnostic)
    }
}

impl From<RecordFault> for Stop {
    fn from(fault: RecordFault) -> Stop {
        match fault {
            RecordFault::File(error) => error.into(),
            RecordFault::Absent(_) => {
                let help = "save one on the other machine with `survey --save`";
                Stop::new(Exit::WrongUse, Diagnostic::new(fault.to_string()).help(help))
            }
            RecordFault::Wrong { .. } | RecordFault::OtherTree { .. } => {
                Stop::new(Exit::Wrong, Diagnostic::new(fault.to_string()).help("save it again with `survey --save`"))
                    .kind(FaultKind::File)
            }
        }
    }
}

impl From<TreeFault> for Stop {
    fn from(fault: TreeFault) -> Stop {
        let here = std::env::current_dir().ok();
        let is_here = matches!(&fault, TreeFault::NoTree(folder) if Some(folder) == here.as_ref());
        let mut diagnostic = Diagnostic::new(fault.to_string()).help("go into a tree, or name one with --tree DIR");
        if is_here {
            diagnostic = diagnostic
                .next("boltboard adopt", "describe the tree here, from one watched build")
                .next("boltboard init", "begin a description by hand");
        }
        Stop::new(Exit::WrongUse, diagnostic.next("boltboard demo", "see a tree at work"))
    }
}

impl From<WorkFault> for Stop {
    fn from(fault: WorkFault) -> Stop {
        match fault {
            WorkFault::File(error) => error.into(),
            WorkFault::OtherTree { .. } | WorkFault::NotOurs(_) | WorkFault::Later(_) => {
                let diagnostic = Diagnostic::new(fault.to_string());
                let diagnostic = diagnostic.help("name another folder with --work DIR or BOLTBOARD_WORK");
                Stop::new(Exit::WrongUse, diagnostic).kind(FaultKind::WorkFolder)
            }
        }
    }
}

impl From<SessionFault> for Stop {
    fn from(fault: SessionFault) -> Stop {
        Stop::of(fault, None)
    }
}

impl From<LockFault> for Stop {
    fn from(LockFault::File(error): LockFault) -> Stop {
        error.into()
    }
}

impl From<BuildFault> for Stop {
    fn from(fault: BuildFault) -> Stop {
        match fault {
            BuildFault::File(error) => error.into(),
            BuildFault::Ours { .. } => {
                let diagnostic = Diagnostic::new(fault.to_string()).help("please report it with these words");
                Stop::new(Exit::Ours, diagnostic.next("boltboard build", "go on from here"))
            }
        }
    }
}
