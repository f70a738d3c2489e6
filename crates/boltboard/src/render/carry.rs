//! What became of a profile in another version of the tree.

use boltboard_core::board::{Board, OptionId};
use boltboard_core::carry::{Carried, Fate, Open, Written};
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
pub struct Told {
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
    /// `kept`, `renamed`, `changed`, `split`, `gone`, `open`.
    fate: &'static str,
    /// What is chosen now.
    now: Vec<String>,
    /// A word about it.
    words: String,
    /// Names or values that may be meant.
    near: Vec<String>,
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
    /// `fits`, `already-in`, `file-changed`, `needs-hand`.
    standing: &'static str,
    words: String,
}

impl ChangeCarried {
    /// Of a change's name and how it stands.
    pub fn of(name: String, standing: ChangeStanding) -> ChangeCarried {
        let (standing, words) = match standing {
            ChangeStanding::Fits => ("fits", "fits".to_string()),
            ChangeStanding::AlreadyIn => ("already-in", "this version has it already".to_string()),
            ChangeStanding::FileChanged => {
                ("file-changed", "the file that it replaces is another one here; look at both".to_string())
            }
            ChangeStanding::NeedsHand(why) => ("needs-hand", format!("does not fit: {why}")),
        };
        ChangeCarried { name, standing, words }
    }
}

fn choice(one: &Carried) -> ChoiceTold {
    let (fate, words, near) = match &one.fate {
        Fate::Kept => ("kept", String::new(), Vec::new()),
        Fate::Renamed { to, .. } => ("renamed", to.as_ref().map_or(String::new(), |to| to.why.words()), Vec::new()),
        Fate::Changed(to) => ("changed", to.why.words(), Vec::new()),
        Fate::Split { note, .. } => ("split", note.clone(), Vec::new()),
        Fate::Gone { since, note } => {
            let since = since.as_ref().map_or(String::new(), |since| format!("since {since}: "));
            ("gone", format!("{since}{note}"), Vec::new())
        }
        Fate::Open(Open::Unknown { near }) => ("open", "there is no such option".into(), near.clone()),
        Fate::Open(Open::Value { name, fault }) => ("open", format!("{name} {fault}"), fault.near.clone()),
        Fate::Open(Open::SplitValue { note }) => {
            ("open", format!("split, and nothing is said about this value. {note}"), Vec::new())
        }
        Fate::Open(Open::Derived { name }) => {
            ("open", format!("nobody chooses {name} any more: its value follows from others"), Vec::new())
        }
        Fate::Open(Open::Twice { name, other }) => ("open", format!("another choice says {name}={other}"), Vec::new()),
        Fate::Open(Open::Need { near }) => ("open", "there is no such need, or it is not met so".into(), near.clone()),
    };
    ChoiceTold {
        option: one.name.clone(),
        value: one.value.clone(),
        reason: one.reason.clone(),
        fate,
        now: one.now().into_iter().map(|(name, value)| format!("{name}={value}")).collect(),
        words,
        near,
    }
}

impl Told {
    /// Begins with what became of the profile's own file.
    pub fn new(format: u32, board: &Board, to: &ProfileName, written: &Written, preview: bool) -> Told {
        let mut told = Told {
            format,
            profile: to.to_string(),
            from: written.from.clone(),
            to: board.tree.version.clone(),
            written: !preview,
            ..Told::default()
        };
        told.take(&written.carried);
        told
    }

    /// Takes in what became of more choices.
    pub fn take(&mut self, carried: &[Carried]) {
        self.choices.extend(carried.iter().map(choice));
    }

    /// Options that earlier ones were split into.
    pub fn split(&self) -> impl Iterator<Item = String> {
        let now = self.choices.iter().filter(|choice| choice.fate == "split").flat_map(|choice| &choice.now);
        now.filter_map(|choice| choice.split_once('=').map(|(name, _)| name.to_string()))
    }

    /// Tells whether a person has to decide about something.
    pub fn is_open(&self) -> bool {
        self.choices.iter().any(|choice| choice.fate == "open")
            || self.changes.iter().any(|change| matches!(change.standing, "file-changed" | "needs-hand"))
    }
}

/// Draws the answer.
pub fn text(told: &Told, width: usize) -> String {
    let of = |fate: &str| told.choices.iter().filter(|choice| choice.fate == fate).collect::<Vec<_>>();
    let from = told.from.as_deref().unwrap_or("an earlier version");
    let verb = if told.written { "is carried" } else { "would be carried" };
    let kept = of("kept").len();
    let all = count(told.choices.len(), "choice", "choices");
    let mut text = format!("{} {verb} from {from} to {}: {kept} of its {all} as they were.\n", told.profile, told.to);
    if !told.below.is_empty() {
        text += &format!("With it: {}, which it is based on.\n", told.below.join(", "));
    }
    table(&mut text, "Renamed", &of("renamed"), width);
    table(&mut text, "With another value", &of("changed"), width);
    table(&mut text, "Split", &of("split"), width);
    let kept_as =
        if told.written { "kept as comments in the profile" } else { "to be kept as comments in the profile" };
    table(&mut text, &format!("Gone; {kept_as}"), &of("gone"), width);
    open(&mut text, &format!("For you to decide; {kept_as}"), &of("open"), &told.of_profile, width);
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

fn open(text: &mut String, head: &str, choices: &[&ChoiceTold], of_profile: &str, width: usize) {
    if choices.is_empty() {
        return;
    }
    title(text, &format!("{head} ({})", choices.len()));
    for choice in choices {
        let reason =
            choice.reason.as_ref().map_or(String::new(), |reason| format!(" (you chose it because: {reason})"));
        let line = format!("{}={}: {}{reason}", choice.option, choice.value, choice.words);
        wrap(&line, width.saturating_sub(2)).iter().for_each(|line| *text += &format!("  {line}\n"));
        let next: Vec<Next> = choice.near.iter().take(2).map(|near| near_by(choice, near, of_profile)).collect();
        *text += &next_lines(&next, 4);
    }
}

fn near_by(choice: &ChoiceTold, near: &str, of_profile: &str) -> Next {
    if choice.words.starts_with("there is no such option") {
        return Next::new(format!("boltboard show {near}"), "whether it is the same");
    }
    if choice.words.starts_with("there is no such need") {
        return Next::new(format!("boltboard survey {near}"), "whether it is the same");
    }
    // The first word is the option's name now.
    let name = choice.words.split(' ').next().unwrap_or(&choice.option);
    Next::new(format!("boltboard set{of_profile} {name}={near}"), "choose this value")
}

fn moved(text: &mut String, told: &Told, width: usize) {
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

fn new(text: &mut String, told: &Told, width: usize) {
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

fn changes(text: &mut String, told: &Told, width: usize) {
    if told.changes.is_empty() {
        return;
    }
    title(text, "Changes to the sources");
    let row = |change: &ChangeCarried| -> Vec<Cell> {
        let role = if change.standing == "fits" { Role::Good } else { Role::Warn };
        vec![(Role::Name, change.name.clone()), (role, change.words.clone())]
    };
    *text += &columns(&told.changes.iter().map(row).collect::<Vec<_>>(), 2, width);
    if let Some(change) = told.changes.iter().find(|change| change.standing == "already-in") {
        let command = format!("boltboard patch remove {}", change.name);
        *text += &next_lines(&[Next::new(command, "it is not needed any more")], 2);
    }
}
