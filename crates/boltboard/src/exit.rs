//! Exit codes, and how the core's errors are told to people: place, what was expected, near matches, next command.

use boltboard_core::base::{Excerpt, FileError, Place, SourceFiles};
use boltboard_core::board::{Board, TryFault};
use boltboard_core::definitions::{Fault, Problem, Reading, TreeFault};
use boltboard_core::plan::{PlanFault, PlanProblem};
use boltboard_core::profile::{ProfileFault, ProfileProblem};
use boltboard_core::run::BuildFault;
use boltboard_core::search::FilterFault;
use boltboard_core::session::{Session, SessionFault};
use boltboard_core::survey::RecordFault;
use boltboard_core::work::{LockFault, WorkFault};

use crate::render::clash::clash_diagnostics;

/// The exit codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// The answer is no: differences, a failed build or test.
    No = 1,
    /// Wrong use, or the machine refused (a file that cannot be written).
    WrongUse = 2,
    /// The definitions or a profile are wrong, or choices clash.
    Wrong = 3,
    /// The host lacks something.
    HostLacks = 4,
    /// Interrupted.
    Interrupted = 130,
}

impl From<Exit> for std::process::ExitCode {
    fn from(exit: Exit) -> Self {
        std::process::ExitCode::from(exit as u8)
    }
}

/// Something to tell a person.
#[derive(Debug, Clone, Default)]
pub struct Diagnostic {
    /// What is wrong, in one sentence.
    pub message: String,
    /// The line it is about.
    pub excerpt: Option<Excerpt>,
    /// Another line that belongs to it, with what it is.
    pub related: Option<(String, Excerpt)>,
    /// Further facts, one line each.
    pub notes: Vec<String>,
    /// What to do, one line each.
    pub help: Vec<String>,
}

impl Diagnostic {
    /// Starts with what is wrong.
    pub fn new(message: impl Into<String>) -> Diagnostic {
        Diagnostic { message: message.into(), ..Diagnostic::default() }
    }

    /// Adds the line it is about.
    pub fn at(mut self, files: &SourceFiles, place: Option<Place>) -> Diagnostic {
        self.excerpt = place.map(|place| files.excerpt(place));
        self
    }

    /// Adds names that may have been meant.
    pub fn near(mut self, near: &[String]) -> Diagnostic {
        if !near.is_empty() {
            let names: Vec<String> = near.iter().map(|name| format!("`{name}`")).collect();
            self.help.push(format!("did you mean {}?", names.join(" or ")));
        }
        self
    }

    /// Adds a fact.
    pub fn note(mut self, text: impl Into<String>) -> Diagnostic {
        self.notes.push(text.into());
        self
    }

    /// Adds what to do.
    pub fn help(mut self, text: impl Into<String>) -> Diagnostic {
        self.help.push(text.into());
        self
    }
}

/// A command that cannot go on: what to tell, and the exit code.
#[derive(Debug)]
pub struct Stop {
    /// What to tell.
    pub diagnostics: Vec<Diagnostic>,
    /// The exit code.
    pub exit: Exit,
}

impl Stop {
    /// Tells what stands against a session's answer. What is about the board needs the session.
    pub fn of(fault: SessionFault, session: Option<&Session>) -> Stop {
        match (fault, session) {
            (SessionFault::Tree(fault), _) => fault.into(),
            (SessionFault::Work(fault), _) => fault.into(),
            (SessionFault::File(error), _) => error.into(),
            (SessionFault::Lock(fault), _) => fault.into(),
            (SessionFault::Record(fault), _) => fault.into(),
            (SessionFault::Try(fault), _) => fault.into(),
            (SessionFault::Build(fault), _) => fault.into(),
            (SessionFault::Definitions(reading), _) => Stop::definitions(&reading),
            (SessionFault::Profile { problems, files }, _) => Stop::profile(&problems, &files),
            (SessionFault::Sources(problems), Some(session)) => Stop::problems(&problems, &session.board),
            (SessionFault::Clash { clashes, choices, facts }, Some(session)) => {
                let lacking = clashes.iter().all(|clash| !clash.lacking.is_empty());
                let diagnostics = clash_diagnostics(session, &choices, &facts, &clashes);
                Stop { diagnostics, exit: if lacking { Exit::HostLacks } else { Exit::Wrong } }
            }
            (SessionFault::Plan { problems, facts }, Some(session)) => {
                let install = |needs: &[String]| session.install_command(&facts, needs);
                Stop::plan(&problems, &session.board, &install)
            }
            (fault @ SessionFault::ProfileName(_), _) => {
                let help = "use letters, digits, `-`, `_` and `.`, starting with a letter or digit";
                Stop::new(Exit::WrongUse, Diagnostic::new(fault.to_string()).help(help))
            }
            (fault @ SessionFault::NoProfileInUse, _) => {
                let help = "name one: boltboard --profile NAME profile use NAME";
                Stop::new(Exit::Wrong, Diagnostic::new(fault.to_string()).help(help))
            }
            (fault @ SessionFault::Supposed(_), _) => {
                let what = "is for questions: builds, choices and saved facts take this host as it is";
                let help = "to do without a need for good: boltboard set need:NAME=off";
                Stop::new(Exit::WrongUse, Diagnostic::new(format!("{fault} {what}")).help(help))
            }
            (fault @ SessionFault::Epoch { .. }, _) => Stop::usage(fault.to_string()),
            (fault, None) => Stop::new(Exit::Wrong, Diagnostic::new(fault.to_string())),
        }
    }

    /// Makes one of a single diagnostic.
    pub fn new(exit: Exit, diagnostic: Diagnostic) -> Stop {
        Stop { diagnostics: vec![diagnostic], exit }
    }

    /// Wrong use.
    pub fn usage(message: impl Into<String>) -> Stop {
        Stop::new(Exit::WrongUse, Diagnostic::new(message))
    }

    /// All problems of a reading.
    pub fn definitions(reading: &Reading) -> Stop {
        let diagnostics = reading.problems.iter().map(|p| definition(p, &reading.files)).collect();
        Stop { diagnostics, exit: Exit::Wrong }
    }

    /// Problems of a board that was read.
    pub fn problems(problems: &[Problem], board: &Board) -> Stop {
        let diagnostics = problems.iter().map(|p| definition(p, &board.files)).collect();
        Stop { diagnostics, exit: Exit::Wrong }
    }

    /// Problems of a profile.
    pub fn profile(problems: &[ProfileProblem], files: &SourceFiles) -> Stop {
        let diagnostics = problems.iter().map(|p| profile(p, files)).collect();
        Stop { diagnostics, exit: Exit::Wrong }
    }

    /// What stands against a plan.
    pub fn plan(problems: &[PlanProblem], board: &Board, install: &dyn Fn(&[String]) -> Option<String>) -> Stop {
        let lacks = |fault: &PlanFault| matches!(fault, PlanFault::RequiredNeed { .. } | PlanFault::PartNeed { .. });
        let all_lacking = problems.iter().all(|p| lacks(&p.fault));
        let told = |problem: &PlanProblem| {
            let diagnostic = Diagnostic::new(problem.fault.to_string()).at(&board.files, problem.place);
            match &problem.fault {
                PlanFault::RequiredNeed { need_name, .. } | PlanFault::PartNeed { need_name, .. } => {
                    let diagnostic = match install(std::slice::from_ref(need_name)) {
                        Some(command) => diagnostic.help(format!("install it: {command}")),
                        None => diagnostic,
                    };
                    diagnostic.help(format!("see what was tried: boltboard survey {need_name}"))
                }
                PlanFault::UsesUnmade { .. } => {
                    diagnostic.help("give the entry of `uses` a condition, or switch on what makes that part")
                }
                PlanFault::Template { near, .. } => diagnostic.near(near),
                PlanFault::NoSources(_)
                | PlanFault::SameFile { .. }
                | PlanFault::Ring(_)
                | PlanFault::Define { .. } => diagnostic,
            }
        };
        let exit = if all_lacking { Exit::HostLacks } else { Exit::Wrong };
        Stop { diagnostics: problems.iter().map(told).collect(), exit }
    }
}

fn definition(problem: &Problem, files: &SourceFiles) -> Diagnostic {
    let mut diagnostic = Diagnostic::new(problem.fault.to_string()).at(files, problem.place).near(&problem.near);
    diagnostic.related = problem.related.map(|place| ("first here".to_string(), files.excerpt(place)));
    match &problem.fault {
        Fault::Twice { .. } => diagnostic.help("rename one of them"),
        Fault::RequireCycle(_) => diagnostic.help("leave out one of the requirements, or make one option of them"),
        Fault::NeedCycle(_) => diagnostic.help("leave out one of the needs that lead back"),
        Fault::DefaultCycle(_) => diagnostic.help("give one of them a default that looks at no other"),
        Fault::UseCycle(_) => diagnostic.help("move what both need into a part of its own"),
        Fault::NothingMatches(_) => diagnostic
            .help("check the spelling; patterns are relative to the folder of this file, `**` crosses folders"),
        Fault::SameMacro { .. } => diagnostic.help("give one of them another name in `macro`"),
        Fault::SameFile { .. } => diagnostic.help("give one of them another `output`"),
        Fault::Path(_) | Fault::LinkOut(_) => diagnostic.help("definitions name only what lies in the tree"),
        Fault::Unreadable { .. } => {
            diagnostic.help("check its name in `more`, and that it is a file that you may read")
        }
        Fault::NotUtf8 { .. } => diagnostic.help("save the file as UTF-8"),
        Fault::Format(_) => diagnostic.help("use the version of boltboard that this tree was written for"),
        Fault::Limit { .. }
        | Fault::Toml(_)
        | Fault::UnknownKey { .. }
        | Fault::WrongType { .. }
        | Fault::Missing { .. }
        | Fault::Combination(_)
        | Fault::BadName(_)
        | Fault::BadMacro(_)
        | Fault::UnknownName { .. }
        | Fault::Glob(_)
        | Fault::Condition(_)
        | Fault::NeverOff { .. }
        | Fault::NoOrder { .. }
        | Fault::Value { .. }
        | Fault::SectionCycle(_)
        | Fault::Placeholder(_)
        | Fault::UnclosedPlaceholder
        | Fault::NotASource(_) => diagnostic,
    }
}

fn profile(problem: &ProfileProblem, files: &SourceFiles) -> Diagnostic {
    let diagnostic = Diagnostic::new(problem.fault.to_string()).at(files, problem.place).near(&problem.near);
    match &problem.fault {
        ProfileFault::Unknown(_) => diagnostic.help("see what there is: boltboard profile list"),
        ProfileFault::UnknownOption(name) => diagnostic.help(format!("search for it: boltboard options --find {name}")),
        ProfileFault::OtherTree { .. } => {
            diagnostic.help("use a profile of this tree, or run in the tree that it is for")
        }
        ProfileFault::Newer { found, .. } => diagnostic
            .help(format!("check out version {found} of the tree, or check the choices and lower `tree-version`")),
        ProfileFault::Ring(_) => diagnostic.help("take the profile out of the `base` list that leads back to it"),
        ProfileFault::LooseReason(name) => {
            diagnostic.help(format!("choose `{name}` in [choose], or take the reason out"))
        }
        ProfileFault::UnknownNeed(_) => diagnostic.help("see all needs: boltboard survey --all"),
        ProfileFault::Unreadable { .. }
        | ProfileFault::Provider(_)
        | ProfileFault::Toml(_)
        | ProfileFault::UnknownKey(_)
        | ProfileFault::WrongType { .. }
        | ProfileFault::Value { .. } => diagnostic,
    }
}

impl From<TryFault> for Stop {
    fn from(fault: TryFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        let diagnostic = match &fault {
            TryFault::Form(_) => diagnostic.help("for example: boltboard set fog=on depth=4"),
            TryFault::Unknown { name, near } => {
                diagnostic.near(near).help(format!("search for it: boltboard options --find {name}"))
            }
            TryFault::Value { option, fault } => {
                diagnostic.near(&fault.near).help(format!("read about it: boltboard show {option}"))
            }
            TryFault::UnknownNeed { near, .. } => diagnostic.near(near).help("see all needs: boltboard survey --all"),
            TryFault::UnknownFinding { near, .. } => diagnostic.near(near).help("see all findings: docs/lint.md"),
            TryFault::Provider(_) => diagnostic,
        };
        Stop::new(Exit::WrongUse, diagnostic)
    }
}

impl From<FilterFault> for Stop {
    fn from(fault: FilterFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string()).near(&fault.near);
        Stop::new(Exit::WrongUse, diagnostic.help("see all filters: boltboard options --help"))
    }
}

impl From<FileError> for Stop {
    fn from(error: FileError) -> Stop {
        let diagnostic = Diagnostic::new(format!("{error}: {}", error.source));
        if error.action == boltboard_core::work::PROFILE_IN_USE {
            let help = "name one: boltboard --profile NAME profile use NAME";
            return Stop::new(Exit::Wrong, diagnostic.help(help));
        }
        let diagnostic = if error.is_full() {
            diagnostic.help("free some space and run the same command again; nothing half-written was kept")
        } else if error.is_read_only() {
            diagnostic.help("use a work folder that you may write to: --work DIR, or BOLTBOARD_WORK")
        } else {
            diagnostic
        };
        Stop::new(Exit::WrongUse, diagnostic)
    }
}

impl From<RecordFault> for Stop {
    fn from(fault: RecordFault) -> Stop {
        match fault {
            RecordFault::File(error) => error.into(),
            RecordFault::Absent(_) => {
                let help = "save one on the other machine: boltboard survey --save FILE";
                Stop::new(Exit::WrongUse, Diagnostic::new(fault.to_string()).help(help))
            }
            RecordFault::Wrong { .. } | RecordFault::OtherTree { .. } => Stop::new(
                Exit::Wrong,
                Diagnostic::new(fault.to_string()).help("save it again: boltboard survey --save FILE"),
            ),
        }
    }
}

impl From<TreeFault> for Stop {
    fn from(fault: TreeFault) -> Stop {
        let diagnostic = Diagnostic::new(fault.to_string());
        Stop::new(
            Exit::WrongUse,
            diagnostic.help("go into a tree, name one with --tree DIR, or see one at work: boltboard demo"),
        )
    }
}

impl From<WorkFault> for Stop {
    fn from(fault: WorkFault) -> Stop {
        match fault {
            WorkFault::File(error) => error.into(),
            WorkFault::OtherTree { .. } | WorkFault::NotOurs(_) | WorkFault::Later(_) => {
                let diagnostic = Diagnostic::new(fault.to_string());
                Stop::new(Exit::WrongUse, diagnostic.help("name another folder: --work DIR, or BOLTBOARD_WORK"))
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
                let help = "please report it with these words; boltboard build goes on from here";
                Stop::new(Exit::No, Diagnostic::new(fault.to_string()).help(help))
            }
        }
    }
}
