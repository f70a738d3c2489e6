//! What became of a profile in another version of the tree.

use boltboard_core::base::shell_word;
use boltboard_core::board::{Board, OptionId};
use boltboard_core::carry::{CarriedChoice, Fate, Open, Written};
use boltboard_core::profile::ProfileName;
use boltboard_core::session::{ChangeStanding, Resolved};
use serde::Serialize;

use super::text::{Cell, Role, columns, count, next_lines, paint, wrap};
use crate::fault::Next;

/// How many new options are listed by name.
const LISTED: usize = 40;

/// The answer.
#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CarryTold {
    format: u32,
    /// The profile that was written.
    pub profile: String,
    /// The version that it was made for, where that is known.
    pub from: Option<String>,
    /// This version.
    pub to: String,
    /// Whether it was written.
    pub written: bool,
    /// Profiles that it is based on and that were carried as well.
    pub below: Vec<String>,
    /// Its choices and what became of them.
    pub choices: Vec<ChoiceTold>,
    /// Values that nobody chose and that move.
    pub moved: Vec<MovedTold>,
    /// New options.
    pub new: Vec<NewTold>,
    /// Changes to the sources.
    pub changes: Vec<ChangeCarried>,
    /// Whether what was carried clashes.
    pub clashes: bool,
    /// The command that does the same again.
    #[serde(skip)]
    pub again: String,
    /// What `set` needs to be told so that it changes this profile.
    #[serde(skip)]
    pub of_profile: String,
    /// Whether the tree in its earlier version was there.
    pub earlier_known: bool,
    /// Whether the earlier values could not be found, though the earlier tree is there.
    pub uncompared: bool,
}

/// A choice and what became of it.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChoiceTold {
    option: String,
    value: String,
    reason: Option<String>,
    fate: FateKind,
    /// What is chosen now.
    now: Vec<String>,
    /// A word about it.
    words: String,
    /// Names or values that may be meant.
    near: Vec<String>,
    /// What to do where it is open.
    #[serde(skip)]
    next: Vec<Next>,
}

/// What sort of fate a choice has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum FateKind {
    Kept,
    Renamed,
    Changed,
    Split,
    Gone,
    Open,
}

/// A value that nobody chose and that moves.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct MovedTold {
    /// The option.
    pub option: String,
    /// Its value in the earlier version.
    pub before: String,
    /// Its value in this one.
    pub after: String,
    /// Whether its own default is another one.
    pub default_changed: bool,
    /// Whether something else in its definition is another one.
    pub definition_changed: bool,
    /// Whether it was chosen in the earlier version.
    pub was_chosen: bool,
    /// What else lies behind it.
    pub because: Vec<String>,
    /// Whether the earlier value can be chosen.
    pub can_be_pinned: bool,
    /// Whether it was.
    pub pinned: bool,
}

/// A new option.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct NewTold {
    option: String,
    summary: String,
    section: String,
    level: &'static str,
    value: String,
}

impl NewTold {
    /// Of an option of this version.
    pub fn of(board: &Board, option: OptionId, resolved: &Resolved) -> NewTold {
        let definition = &board.options[option];
        NewTold {
            option: definition.name.clone(),
            summary: definition.summary.clone(),
            section: board.sections[definition.section].title.clone(),
            level: definition.level.name(),
            value: resolved.resolution.value(option).to_string(),
        }
    }
}

/// A change to the sources and how it stands.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChangeCarried {
    name: String,
    standing: StandingKind,
    words: String,
}

/// How a change to the sources stands, without the words.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum StandingKind {
    Fits,
    AlreadyIn,
    FileChanged,
    NeedsHand,
}

impl ChangeCarried {
    /// Of a change's name and how it stands.
    pub fn of(name: String, standing: ChangeStanding) -> ChangeCarried {
        let (standing, words) = match standing {
            ChangeStanding::Fits => (StandingKind::Fits, "fits".to_string()),
            ChangeStanding::AlreadyIn => (StandingKind::AlreadyIn, "this version has it already".to_string()),
            ChangeStanding::FileChanged => {
                (StandingKind::FileChanged, "the file that it replaces is another one here; look at both".to_string())
            }
            ChangeStanding::NeedsHand(why) => (StandingKind::NeedsHand, format!("does not fit: {why}")),
        };
        ChangeCarried { name, standing, words }
    }
}

/// What a person would do about a choice that cannot be carried: at most two of the names and values that come near.
fn next(open: &Open, of_profile: &str) -> Vec<Next> {
    let look = |command: &str, near: &[String]| -> Vec<Next> {
        near.iter()
            .take(2)
            .map(|near| Next::new(format!("boltboard {command} {near}"), "whether it is the same"))
            .collect()
    };
    match open {
        Open::Unknown { near } => look("show", near),
        Open::Need { near } => look("survey", near),
        Open::Value { name, fault } => {
            let set =
                |near: &String| Next::new(format!("boltboard set{of_profile} {name}={near}"), "choose this value");
            let accepts = || vec![Next::new(format!("boltboard show {name}"), "what it accepts")];
            if fault.near.is_empty() { accepts() } else { fault.near.iter().take(2).map(set).collect() }
        }
        Open::Derived { name } => vec![Next::new(format!("boltboard why {name}"), "what it follows from")],
        Open::Twice { name, .. } => vec![Next::new(format!("boltboard show {name}"), "what it is now")],
        Open::SplitValue { .. } => Vec::new(),
    }
}

fn choice(one: &CarriedChoice, of_profile: &str) -> ChoiceTold {
    let mut told = ChoiceTold {
        option: one.name.clone(),
        value: one.value.clone(),
        reason: one.reason.clone(),
        fate: FateKind::Kept,
        now: one.now().into_iter().map(|(name, value)| format!("{name}={value}")).collect(),
        words: String::new(),
        near: Vec::new(),
        next: Vec::new(),
    };
    (told.fate, told.words) = match &one.fate {
        Fate::Kept => (FateKind::Kept, String::new()),
        Fate::Renamed { to, .. } => (FateKind::Renamed, to.as_ref().map_or(String::new(), |to| to.why.words())),
        Fate::Changed(to) => (FateKind::Changed, to.why.words()),
        Fate::Split { note, .. } => (FateKind::Split, note.clone()),
        Fate::Gone { since, note } => {
            let since = since.as_ref().map_or(String::new(), |since| format!("since {since}: "));
            (FateKind::Gone, format!("{since}{note}"))
        }
        Fate::Open(open) => {
            told.near = open.near().to_vec();
            told.next = next(open, of_profile);
            (FateKind::Open, open.words())
        }
    };
    told
}

impl CarryTold {
    /// Begins with what became of the profile's own file. `of_profile` is what `set` needs to be told so that it changes this profile.
    pub fn new(format: u32, board: &Board, to: &ProfileName, written: &Written, of_profile: String) -> CarryTold {
        let mut told = CarryTold {
            format,
            profile: to.to_string(),
            from: written.from.clone(),
            to: board.tree.version.clone(),
            of_profile,
            ..CarryTold::default()
        };
        told.take(&written.carried);
        told
    }

    /// Takes in what became of more choices.
    pub fn take(&mut self, carried: &[CarriedChoice]) {
        self.choices.extend(carried.iter().map(|one| choice(one, &self.of_profile)));
    }

    /// Options that earlier ones were split into.
    pub fn split(&self) -> impl Iterator<Item = String> {
        let now = self.choices.iter().filter(|choice| choice.fate == FateKind::Split).flat_map(|choice| &choice.now);
        now.filter_map(|choice| choice.split_once('=').map(|(name, _)| name.to_string()))
    }

    /// Tells whether a person has to decide about something.
    pub fn is_open(&self) -> bool {
        self.choices.iter().any(|choice| choice.fate == FateKind::Open)
            || self
                .changes
                .iter()
                .any(|change| matches!(change.standing, StandingKind::FileChanged | StandingKind::NeedsHand))
    }
}

/// Draws the answer.
pub fn text(told: &CarryTold, width: usize) -> String {
    let of = |fate: FateKind| told.choices.iter().filter(|choice| choice.fate == fate).collect::<Vec<_>>();
    let from = told.from.as_deref().unwrap_or("an earlier version");
    let verb = if told.written { "is carried" } else { "would be carried" };
    let kept = of(FateKind::Kept).len();
    let all = count(told.choices.len(), "choice", "choices");
    let mut text = format!("{} {verb} from {from} to {}: {kept} of its {all} as they were.\n", told.profile, told.to);
    if !told.below.is_empty() {
        text += &format!("With it: {}, which it is based on.\n", told.below.join(", "));
    }
    table(&mut text, "Renamed", &of(FateKind::Renamed), width);
    table(&mut text, "With another value", &of(FateKind::Changed), width);
    table(&mut text, "Split", &of(FateKind::Split), width);
    let kept_as =
        if told.written { "kept as comments in the profile" } else { "to be kept as comments in the profile" };
    table(&mut text, &format!("Gone; {kept_as}"), &of(FateKind::Gone), width);
    open(&mut text, &format!("For you to decide; {kept_as}"), &of(FateKind::Open), width);
    moved(&mut text, told, width);
    new(&mut text, told, width);
    changes(&mut text, told, width);
    if told.uncompared {
        text += "\nThe profile does not hold in the earlier version on this host, so values that move are not known.\n";
    } else if !told.earlier_known {
        text += "\nWhich defaults moved, and what is new, is known where the earlier tree is.\n";
        text += &next_lines(&[Next::new("boltboard carry --help", "how to name it")], 2);
    }
    text
}

fn title(text: &mut String, title: &str) {
    *text += &format!("\n{}\n", paint(Role::Title, title));
}

fn table(text: &mut String, head: &str, choices: &[&ChoiceTold], width: usize) {
    if choices.is_empty() {
        return;
    }
    title(text, &format!("{head} ({})", choices.len()));
    let row = |choice: &&ChoiceTold| -> Vec<Cell> {
        let now = if choice.now.is_empty() { String::new() } else { format!("→  {}", choice.now.join(", ")) };
        vec![
            (Role::Name, format!("{}={}", choice.option, choice.value)),
            (Role::Value, now),
            (Role::Faint, choice.words.clone()),
        ]
    };
    let rows: Vec<Vec<Cell>> = choices.iter().map(row).collect();
    *text += &columns(&rows, 2, width);
}

fn open(text: &mut String, head: &str, choices: &[&ChoiceTold], width: usize) {
    if choices.is_empty() {
        return;
    }
    title(text, &format!("{head} ({})", choices.len()));
    for choice in choices {
        let reason =
            choice.reason.as_ref().map_or(String::new(), |reason| format!(" (you chose it because: {reason})"));
        let line = format!("{}={}: {}{reason}", choice.option, choice.value, choice.words);
        wrap(&line, width.saturating_sub(2)).iter().for_each(|line| *text += &format!("  {line}\n"));
        *text += &next_lines(&choice.next, 4);
    }
}

fn moved(text: &mut String, told: &CarryTold, width: usize) {
    if told.moved.is_empty() {
        return;
    }
    title(text, &format!("Values that move, though you do not choose them now ({})", told.moved.len()));
    let row = |moved: &MovedTold| -> Vec<Cell> {
        let mut words = Vec::new();
        if moved.default_changed {
            words.push("its default changed".to_string());
        }
        if moved.was_chosen {
            words.push("it was chosen before; see above".to_string());
        }
        if !moved.because.is_empty() {
            words.push(format!("because of {}", moved.because.join(", ")));
        }
        if moved.definition_changed {
            words.push("its definition changed".to_string());
        }
        if moved.pinned {
            words.push("pinned to what it was".to_string());
        }
        vec![
            (Role::Name, moved.option.clone()),
            (Role::Faint, moved.before.clone()),
            (Role::Value, format!("→  {}", if moved.pinned { &moved.before } else { &moved.after })),
            (Role::Faint, words.join("; ")),
        ]
    };
    let rows: Vec<Vec<Cell>> = told.moved.iter().map(row).collect();
    *text += &columns(&rows, 2, width);
    let can_be = told.moved.iter().find(|moved| moved.default_changed && moved.can_be_pinned && !moved.pinned);
    if let Some(moved) = can_be {
        let next = if told.written {
            let set = format!("boltboard set{} {}={}", told.of_profile, moved.option, moved.before);
            Next::new(set, "keep one of them as it was")
        } else {
            Next::new(format!("{} --pin", told.again), "keep all of them as they were")
        };
        *text += &next_lines(&[next], 2);
    }
}

fn new(text: &mut String, told: &CarryTold, width: usize) {
    if told.new.is_empty() {
        return;
    }
    title(text, &format!("New ({})", told.new.len()));
    let mut new: Vec<&NewTold> = told.new.iter().collect();
    let level = |new: &NewTold| ["everyday", "tuning", "expert"].iter().position(|level| *level == new.level);
    new.sort_by_key(|one| (one.section.clone(), level(one)));
    let row = |one: &&NewTold| -> Vec<Cell> {
        vec![
            (Role::Name, one.option.clone()),
            (Role::Value, one.value.clone()),
            (Role::Faint, format!("{}, {}", one.section, one.level)),
            (Role::Faint, one.summary.clone()),
        ]
    };
    let rows: Vec<Vec<Cell>> = new.iter().take(LISTED).map(row).collect();
    *text += &columns(&rows, 2, width);
    if new.len() > LISTED {
        *text += &format!("  and {} more; `--json` lists all\n", new.len() - LISTED);
    }
}

fn changes(text: &mut String, told: &CarryTold, width: usize) {
    if told.changes.is_empty() {
        return;
    }
    title(text, "Changes to the sources");
    let row = |change: &ChangeCarried| -> Vec<Cell> {
        let role = if change.standing == StandingKind::Fits { Role::Good } else { Role::Warn };
        vec![(Role::Name, change.name.clone()), (role, change.words.clone())]
    };
    *text += &columns(&told.changes.iter().map(row).collect::<Vec<_>>(), 2, width);
    let already_in = told.changes.iter().find(|change| change.standing == StandingKind::AlreadyIn);
    if let Some(change) = already_in.filter(|_| told.written) {
        let command = format!("boltboard patch remove{} {}", told.of_profile, shell_word(&change.name));
        *text += &next_lines(&[Next::new(command, "it is not needed any more")], 2);
    }
}
