//! What built files say of how they were made.

pub mod made;

use boltboard_core::base::shell_word;
use boltboard_core::record::{Covers, Inspected, Record, Seen, Standing};
use serde::Serialize;

use super::text::{Cell, ENDLESS, Role, columns, count, next_line, paint, wrap};

pub use made::ProfileMade;

/// How many values are listed unless a person asks for all.
const LISTED: usize = 100;

/// What stands for a file without a record.
const NONE: &str = "it has no record: it was not built by this program, or its record was taken off";

/// From how many rows on a list has two columns, where there is room.
const LONG: usize = 12;

/// The answer.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct InspectTold {
    format: u32,
    files: Vec<FileTold>,
}

/// A file.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct FileTold {
    /// As it was named.
    file: String,
    /// Whether a process has loaded it beside its program.
    loaded: bool,
    /// Its records.
    records: Vec<RecordTold>,
    /// Why there is none, if so.
    problem: Option<String>,
}

/// A record.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct RecordTold {
    /// The member of the archive that it lies in, if it is that of one object.
    member: Option<String>,
    /// How the file stands to it.
    standing: Standing,
    /// What it says.
    record: Option<Record>,
    /// Why it cannot be read, if so.
    problem: Option<String>,
}

impl InspectTold {
    /// Puts the answer together.
    pub fn of(files: Vec<FileTold>) -> InspectTold {
        InspectTold { format: 1, files }
    }

    /// Tells whether each file has a record, and each record can be read.
    pub fn is_whole(&self) -> bool {
        let whole = |file: &FileTold| file.problem.is_none() && file.records.iter().all(|one| one.problem.is_none());
        self.files.iter().all(whole)
    }
}

impl FileTold {
    /// Tells of a file.
    pub fn of(one: &Inspected) -> FileTold {
        let (records, problem) = match &one.found {
            Ok(seen) if seen.is_empty() => (vec![], Some(NONE.to_string())),
            Ok(seen) => (seen.iter().map(RecordTold::of).collect(), None),
            Err(fault) => (vec![], Some(fault.in_words())),
        };
        FileTold { file: one.name.clone(), loaded: one.loaded, records, problem }
    }
}

impl RecordTold {
    fn of(seen: &Seen) -> RecordTold {
        RecordTold {
            member: seen.member.clone(),
            standing: seen.standing,
            record: seen.record.as_ref().ok().cloned(),
            problem: seen.record.as_ref().err().map(ToString::to_string),
        }
    }
}

/// Shows the answer.
pub fn text(told: &InspectTold, all: bool, width: usize) -> String {
    let files: Vec<String> = told.files.iter().map(|file| file_text(file, told.files.len() > 1, all, width)).collect();
    files.join("\n")
}

fn file_text(file: &FileTold, brief: bool, all: bool, width: usize) -> String {
    let loaded = if file.loaded { "  loaded by it" } else { "" };
    let mut text = format!("{}{}\n", paint(Role::Title, &file.file), paint(Role::Faint, loaded));
    if let Some(problem) = &file.problem {
        return text + &indented(&format!("Nothing to show: {problem}."), width);
    }
    if file.records.len() > 1 {
        let many = count(file.records.len(), "record", "records");
        text += &format!("  It has {many}, each of what was linked into it.\n");
    }
    for (number, one) in file.records.iter().enumerate() {
        if file.records.len() > 1 {
            text += &format!("\n{}\n", paint(Role::Title, &format!("record {}", number + 1)));
        }
        text += &record_text(one, &file.file, brief, all, width);
    }
    text
}

fn record_text(one: &RecordTold, file: &str, brief: bool, all: bool, width: usize) -> String {
    let Some(record) = &one.record else {
        let problem = one.problem.as_deref().unwrap_or_default();
        return format!("  {}\n", paint(Role::Warn, &format!("The record cannot be used: {problem}.")));
    };
    let mut text = head(one, record, width);
    if brief && !all {
        let chosen = record.choices.iter().map(|(name, said)| format!("{name}={said}"));
        text += &list("chosen", chosen, width);
        return text;
    }
    for (what, words) in &record.flags {
        text += &list(
            &format!("flags for {}", if what == "link" { "the link" } else { spoken(what) }),
            words.iter().cloned(),
            width,
        );
    }
    text += &list("add-ons", record.add_ons.iter().cloned(), width);
    text += &list("patches", record.patches.iter().cloned(), width);
    text += &table("Chosen", record.choices.iter().map(|(name, said)| (name.clone(), said.to_string())), width);
    text += &table("Who meets needs", record.providers.iter().map(|(need, by)| (need.clone(), by.clone())), width);
    text += &table("What the host had", record.facts.iter().map(|(need, said)| (need.clone(), said.clone())), width);
    let values = record.values.len();
    if values > LISTED && !all {
        text += &format!("\n{}\n", paint(Role::Title, &count(values, "further value", "further values")));
        text += &next_line(format!("boltboard inspect --all {}", shell_word(file)), "list them");
    } else {
        text += &table("Further values", record.values.iter().map(|(n, said)| (n.clone(), said.to_string())), width);
    }
    if !record.off.is_empty() && (record.off.len() <= LISTED || all) {
        text += &format!("\n{}\n", paint(Role::Title, "Off"));
        text += &indented(&record.off.join(", "), width);
    }
    if one.member.is_none() && record.covers == Covers::All && !brief {
        text.push('\n');
        let command = format!("boltboard inspect --profile from-{} {}", record.part, shell_word(file));
        text += &next_line(command, "make a profile of it");
    }
    text
}

fn head(one: &RecordTold, record: &Record, width: usize) -> String {
    let member = one.member.as_ref().map_or(String::new(), |member| format!("in {member}: "));
    let kind = record.kind.replace('-', " ");
    let Record { part, tree, version, profile, .. } = record;
    let said = format!("{member}{kind} {part} of {tree} {version}, profile {profile}");
    let mut text = indented(&said, width);
    let mut compilers: Vec<String> = Vec::new();
    for (language, compiler) in &record.compilers {
        match compilers.last_mut().filter(|last| last.starts_with(compiler.as_str())) {
            Some(last) => *last = format!("{last} and {}", spoken(language)),
            None => compilers.push(format!("{compiler} for {}", spoken(language))),
        }
    }
    if !compilers.is_empty() {
        text += &indented(&format!("compiled with {}", compilers.join(", ")), width);
    }
    text += match one.standing {
        Standing::AsMade => "  The file is as it was made.\n",
        Standing::Changed => "  The file was changed since it was made: stripped, signed or edited.\n",
        Standing::NotTold => "",
    };
    if record.covers == Covers::Named {
        text += "  Of the values, it tells those that this part names.\n";
    }
    text
}

fn spoken(language: &str) -> &str {
    match language {
        "c" => "C",
        "c++" => "C++",
        "fortran" => "Fortran",
        other => other,
    }
}

fn indented(text: &str, width: usize) -> String {
    wrap(text, width.saturating_sub(2)).iter().map(|line| format!("  {line}\n")).collect()
}

fn list(title: &str, words: impl Iterator<Item = String>, width: usize) -> String {
    let words: Vec<String> = words.collect();
    if words.is_empty() {
        return String::new();
    }
    indented(&format!("{title}: {}", words.join(" ")), width)
}

/// Puts the second half of a long list beside the first, where both have room.
fn beside(mut rows: Vec<Vec<Cell>>, width: usize) -> Vec<Vec<Cell>> {
    let widest = |at: usize| rows.iter().map(|row| row[at].1.chars().count()).max().unwrap_or(0);
    let has_room = 2 * (widest(0) + widest(1) + 4) + 2 < width;
    if width >= ENDLESS || !has_room || rows.len() < LONG {
        return rows;
    }
    let mut second = rows.split_off(rows.len().div_ceil(2)).into_iter();
    rows.into_iter().map(|first| first.into_iter().chain(second.next().into_iter().flatten()).collect()).collect()
}

fn table(title: &str, rows: impl Iterator<Item = (String, String)>, width: usize) -> String {
    let cell = |said: String| if said.is_empty() { (Role::Faint, "(empty)".to_string()) } else { (Role::Value, said) };
    let rows: Vec<Vec<Cell>> = rows.map(|(name, said)| vec![(Role::Name, name), cell(said)]).collect();
    if rows.is_empty() {
        return String::new();
    }
    format!("\n{}\n{}", paint(Role::Title, title), columns(&beside(rows, width), 2, width))
}
