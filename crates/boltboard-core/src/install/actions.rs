//! What is done once files are in place, as the tree declares it: programs with arguments, never through a shell.

use std::path::PathBuf;
use std::time::Duration;

use crate::base::FileError;
use crate::board::{ActionAbsent, ActionBy, ActionDef, Interp};
use crate::launch::{Exit, Job, Launch};
use crate::plan::PlanInput;

/// How long an action may take.
const LIMIT: Duration = Duration::from_secs(600);
/// Where programs of the administrator lie, beside the search path.
const OF_ROOT: [&str; 3] = ["/usr/local/sbin", "/usr/sbin", "/sbin"];

/// After what an action is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum After {
    /// An installation, or going back.
    Installing,
    /// A removal.
    Removing,
}

/// An action that is due.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DueAction {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The program and its arguments.
    pub words: Vec<String>,
    /// Whether it can be done.
    pub can: CanAct,
}

/// Whether an action can be done.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CanAct {
    /// By this program.
    Yes(PathBuf),
    /// Only the administrator can.
    OnlyRoot,
    /// Its program is not there, and the tree says that it can be done without.
    NoProgram,
    /// Its program is not there, and the tree says that nothing is to be installed then.
    Needed,
}

/// How an action ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Acted {
    /// It was done.
    Done,
    /// It failed.
    Failed {
        /// How, in words.
        how: String,
        /// What it said.
        said: String,
    },
    /// It was not done.
    Not,
}

/// An action with the values of now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ActionNow {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The words after an installation.
    pub run: Vec<String>,
    /// The words after a removal.
    pub undo: Vec<String>,
    /// Who can do it.
    pub by: ActionBy,
    /// What it means that its program is not there.
    pub absent: ActionAbsent,
}

/// The actions that apply, in the order of the board.
pub(crate) fn actions_now(input: &PlanInput<'_>) -> Vec<ActionNow> {
    let words = |list: &[Interp]| list.iter().map(|word| input.text(word)).collect();
    let now = |action: &ActionDef| ActionNow {
        name: action.name.clone(),
        summary: action.summary.clone(),
        run: words(&action.run),
        undo: words(&action.undo),
        by: action.by,
        absent: action.absent,
    };
    let actions = input.board.actions.iter().map(|(_, action)| action);
    actions.filter(|action| input.holds(action.when.as_ref())).map(now).collect()
}

/// The actions that are due, in the order of the board. `as_root` tells whether the administrator asks.
pub fn due_actions(input: &PlanInput<'_>, after: After, as_root: bool) -> Vec<DueAction> {
    let due = actions_now(input).into_iter().filter_map(|action| {
        let words = match after {
            After::Installing => action.run,
            After::Removing => action.undo,
        };
        let program = system_program(words.first()?, &input.tools.search_path);
        let can = match (program, action.by, action.absent) {
            (Some(_), ActionBy::Root, _) if !as_root => CanAct::OnlyRoot,
            (Some(program), ..) => CanAct::Yes(program),
            (None, _, ActionAbsent::Skip) => CanAct::NoProgram,
            (None, _, ActionAbsent::Fail) => CanAct::Needed,
        };
        Some(DueAction { name: action.name, summary: action.summary, words, can })
    });
    due.collect()
}

/// Where a program lies, those of the administrator among them.
pub fn system_program(name: &str, search_path: &str) -> Option<PathBuf> {
    if name.contains('/') {
        return Some(PathBuf::from(name)).filter(|path| path.is_absolute() && path.is_file());
    }
    let folders = std::env::split_paths(search_path).chain(OF_ROOT.map(PathBuf::from));
    folders.map(|folder| folder.join(name)).find(|path| path.is_file())
}

/// Does an action, where it can be done.
///
/// # Errors
/// The process could not be started.
pub fn act(action: &DueAction, input: &PlanInput<'_>, launch: &dyn Launch) -> Result<Acted, FileError> {
    let CanAct::Yes(program) = &action.can else { return Ok(Acted::Not) };
    let outcome = launch.run(&Job {
        program: program.clone(),
        arguments: action.words[1..].to_vec(),
        folder: PathBuf::from("/"),
        environment: [("PATH".to_string(), input.tools.search_path.clone())].into(),
        limit: Some(LIMIT),
        watch: None,
        input: None,
        output: None,
    });
    let outcome = outcome.map_err(|e| FileError::on("run", program)(std::io::Error::other(e.to_string())))?;
    let said = outcome.stdout_text() + &outcome.stderr_text();
    Ok(match outcome.exit {
        Exit::Code(0) => Acted::Done,
        Exit::Code(code) => Acted::Failed { how: format!("it ended with {code}"), said },
        _ => Acted::Failed { how: "it did not end by itself".into(), said },
    })
}
