//! Many findings of one kind told as one, by folder, with what accepts them ready to paste.

use std::collections::BTreeMap;

use boltboard_core::base::Severity;
use boltboard_core::board::{Board, FindingKind};
use boltboard_core::lint::{Finding, Spot};

use super::lint::{level, name_of, remedy};
use super::text::{Role, count, paint};

/// So many findings of one kind are told each by itself.
const FEW: usize = 3;
/// How many folders are told of.
const FOLDERS: usize = 6;
/// How many names of a folder are told.
const NAMES: usize = 3;

/// Findings of one kind.
pub enum Group<'f> {
    /// Few enough to tell each.
    Each(Vec<&'f Finding>),
    /// Too many.
    Many(FindingKind, Vec<&'f Finding>),
}

/// Puts findings of a kind together, in the order in which each kind first occurs.
pub fn grouped(findings: &[Finding]) -> Vec<Group<'_>> {
    let mut order: Vec<FindingKind> = Vec::new();
    let mut by_kind: BTreeMap<FindingKind, Vec<&Finding>> = BTreeMap::new();
    for finding in findings {
        if !order.contains(&finding.kind) {
            order.push(finding.kind);
        }
        by_kind.entry(finding.kind).or_default().push(finding);
    }
    let group = |kind: FindingKind| {
        let all = by_kind.remove(&kind).unwrap_or_default();
        // A proof is worth reading whatever there is beside it.
        let each = all.len() <= FEW || kind.severity() == Severity::Error;
        if each { Group::Each(all) } else { Group::Many(kind, all) }
    };
    order.into_iter().map(group).collect()
}

/// Tells many findings of one kind.
pub fn many(board: &Board, kind: FindingKind, findings: &[&Finding], width: usize) -> String {
    let what = count(findings.len(), subject(kind).0, subject(kind).1);
    let mut text = format!("{}: {what} {}\n", level(kind), paint(Role::Faint, &format!("({})", kind.name())));
    let places: Vec<(String, String)> = findings.iter().map(|finding| place(board, finding)).collect();
    let folders = by_folder(&places);
    let lead = folders.iter().map(|(folder, _)| folder.chars().count()).max().unwrap_or(0).min(40);
    for (folder, names) in folders.iter().take(FOLDERS) {
        let mut line = format!("  {folder:lead$}  {:>5}  ", names.len());
        let room = width.saturating_sub(line.chars().count());
        let mut shown = names.iter().take(NAMES).cloned().collect::<Vec<_>>().join(", ");
        if names.len() > NAMES {
            shown.push_str(", …");
        }
        if shown.chars().count() > room {
            shown = shown.chars().take(room.saturating_sub(1)).collect::<String>() + "…";
        }
        line.push_str(&paint(Role::Faint, &shown));
        text.push_str(line.trim_end());
        text.push('\n');
    }
    if let Some(more) = folders.len().checked_sub(FOLDERS).filter(|more| *more > 0) {
        text.push_str(&format!("  and in {}\n", count(more, "more folder", "more folders")));
    }
    text.push_str(&format!("  {} {}\n", paint(Role::Good, "→"), remedy(kind)));
    text.push_str(&acceptance(kind, findings, &folders));
    text.push('\n');
    text
}

/// What accepts all of them, as it is written in the definitions.
fn acceptance(kind: FindingKind, findings: &[&Finding], folders: &[(String, Vec<String>)]) -> String {
    let arrow = paint(Role::Good, "→");
    if !findings.iter().any(|finding| matches!(finding.at, Spot::Source(..))) {
        return format!("  {arrow} or accept each in its table: accept = {{ {} = \"why\" }}\n", kind.name());
    }
    let pattern = |folder: &str| if folder == "./" { "\"*\"".to_string() } else { format!("\"{folder}**\"") };
    let within = |folder: &str, other: &str| folder != other && other != "./" && folder.starts_with(other);
    let outermost = folders.iter().filter(|(folder, _)| !folders.iter().any(|(other, _)| within(folder, other)));
    let patterns: Vec<String> = outermost.map(|(folder, _)| pattern(folder)).collect();
    let lines = [
        "[[accept]]".to_string(),
        format!("finding = \"{}\"", kind.name()),
        format!("files = [{}]", patterns.join(", ")),
        "reason = \"why\"".into(),
    ];
    format!("  {arrow} or accept them, in boltboard.toml:\n{}", lines.map(|line| format!("      {line}\n")).concat())
}

/// The folder and the name of what a finding is about.
fn place(board: &Board, finding: &Finding) -> (String, String) {
    match &finding.at {
        Spot::Source(file, _) => {
            let name = match finding.kind {
                FindingKind::LooseSource => file.name().to_string(),
                _ => name_of(board, finding),
            };
            (file.parent().to_string(), name)
        }
        Spot::Definition(place) => (board.files.excerpt(*place).file.to_string(), name_of(board, finding)),
        Spot::Tree => (String::new(), name_of(board, finding)),
    }
}

/// Puts places together by folder, as deep as few folders allow; the largest first.
fn by_folder(places: &[(String, String)]) -> Vec<(String, Vec<String>)> {
    let at_depth = |depth: usize| {
        let mut folders: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (folder, name) in places {
            let steps: Vec<&str> = folder.split('/').filter(|step| !step.is_empty()).collect();
            let top = steps[..steps.len().min(depth)].join("/");
            let file = folder.ends_with(".toml") && steps.len() <= depth;
            let shown = if file { top } else { format!("{}/", if top.is_empty() { "." } else { &top }) };
            folders.entry(shown).or_default().push(name.clone());
        }
        folders
    };
    let mut folders = at_depth(1);
    for depth in 2..6 {
        let deeper = at_depth(depth);
        if deeper.len() > FOLDERS {
            break;
        }
        folders = deeper;
    }
    let mut folders: Vec<(String, Vec<String>)> = folders.into_iter().collect();
    folders.sort_by_key(|(_, names)| std::cmp::Reverse(names.len()));
    folders
}

/// What many findings of a kind say together: of one, of several.
fn subject(kind: FindingKind) -> (&'static str, &'static str) {
    match kind {
        FindingKind::NoWay | FindingKind::Contradiction | FindingKind::NeverOn => {
            ("option can never be on", "options can never be on")
        }
        FindingKind::AlwaysOn => ("option can never be off", "options can never be off"),
        FindingKind::ValueNever => ("value can never be", "values can never be"),
        FindingKind::NotDecided => ("option is too much work to decide", "options are too much work to decide"),
        FindingKind::DefaultNever => ("default never applies", "defaults never apply"),
        FindingKind::DependsOnItself => ("default depends on its own option", "defaults depend on their own options"),
        FindingKind::LooseSource => ("source belongs to no part", "sources belong to no part"),
        FindingKind::MacroUnread => ("macro is named by no source", "macros are named by no source"),
        FindingKind::MacroUnknown => {
            ("macro is tested and nothing defines it", "macros are tested and nothing defines them")
        }
        FindingKind::NoPackages => ("need has no known package", "needs have no known package"),
        FindingKind::NeedUnused => ("need that nothing asks for", "needs that nothing asks for"),
        FindingKind::SectionEmpty => ("section without options", "sections without options"),
        FindingKind::NoSummary => ("definition without a summary", "definitions without a summary"),
        FindingKind::UndeclaredRead => ("file is read and not declared", "files are read and not declared"),
        FindingKind::DefineUnread => ("define is named by no source", "defines are named by no source"),
        FindingKind::NeedUnlinked => ("library is linked by no part", "libraries are linked by no part"),
        FindingKind::OptionUnused => ("option reaches nothing", "options reach nothing"),
        FindingKind::NoPrefix => ("part is installed without a prefix", "parts are installed without a prefix"),
        FindingKind::PatternEmpty => ("pattern matches nothing", "patterns match nothing"),
        FindingKind::AcceptedNothing => ("acceptance of nothing", "acceptances of nothing"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_put_together_by_folders_that_are_few() {
        let place = |folder: &str, name: &str| (folder.to_string(), name.to_string());
        let mut places: Vec<_> = (0..9).map(|at| place(&format!("deps/d{at}/src"), "a.c")).collect();
        places.push(place("src", "b.c"));
        places.push(place("", "c.c"));
        let folders: Vec<(String, usize)> =
            by_folder(&places).into_iter().map(|(folder, names)| (folder, names.len())).collect();
        assert_eq!(folders, [("deps/".to_string(), 9), ("./".to_string(), 1), ("src/".to_string(), 1)]);
        let few = [place("a/b/c", "x.c"), place("a/b/d", "y.c")];
        let folders: Vec<String> = by_folder(&few).into_iter().map(|(folder, _)| folder).collect();
        assert_eq!(folders, ["a/b/c/", "a/b/d/"]);
    }
}
