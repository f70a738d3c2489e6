//! Findings about definitions: what, where, why, and what to do.

use boltboard_core::base::Severity;
use boltboard_core::board::{Board, FindingKind};
use boltboard_core::lint::{Detail, Finding, Lint, Spot, Subject};
use boltboard_core::logic::MOST_STEPS;

use super::lint_groups::{Group, grouped, many};
use super::proof::proof_lines;
use super::text::{Role, count, next_line, paint, wrap};

/// How findings are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Telling {
    /// Many of a kind as one, by folder.
    Grouped,
    /// Each by itself.
    Each,
}

/// Tells all findings, and how many there are.
pub fn findings(board: &Board, lint: &Lint, telling: Telling, width: usize) -> String {
    let mut text = String::new();
    let groups = match telling {
        Telling::Grouped => grouped(&lint.findings),
        Telling::Each => vec![Group::Each(lint.findings.iter().collect())],
    };
    let mut left_out = false;
    for group in groups {
        match group {
            Group::Each(findings) => findings.iter().for_each(|finding| text.push_str(&one(board, finding, width))),
            Group::Many(kind, findings) => {
                left_out = true;
                text.push_str(&many(board, kind, &findings, width));
            }
        }
    }
    let accepted = match lint.accepted {
        0 => String::new(),
        n => format!("; {n} accepted"),
    };
    if lint.findings.is_empty() {
        return format!("No findings{accepted}.\n");
    }
    let of = |level: Severity| lint.findings.iter().filter(|finding| finding.kind.severity() == level).count();
    let each: Vec<String> = Severity::NAMED
        .iter()
        .filter(|(_, level)| of(*level) > 0)
        .map(|(name, level)| count(of(*level), name, &format!("{name}s")))
        .collect();
    let number = count(lint.findings.len(), "finding", "findings");
    text.push_str(&paint(Role::Title, &format!("{number}: {}{accepted}\n", each.join(", "))));
    text.push_str(&paint(
        Role::Faint,
        "To accept one: accept = { FINDING = \"why\" } in its table, or [[accept]] for files\n",
    ));
    if left_out {
        text.push_str(&next_line("boltboard lint --each", "each by itself, with its place"));
    }
    text
}

/// Says how bad findings of a kind are.
pub fn level(kind: FindingKind) -> String {
    let role = match kind.severity() {
        Severity::Error => Role::Bad,
        Severity::Warning => Role::Warn,
        Severity::Note => Role::Faint,
    };
    paint(role, kind.severity().name())
}

fn one(board: &Board, finding: &Finding, width: usize) -> String {
    let level = level(finding.kind);
    let name = paint(Role::Faint, &format!("({})", finding.kind.name()));
    let mut text = format!("{level}: {} {name}\n", said(board, finding));
    if let Some(place) = place(board, &finding.at) {
        text.push_str(&format!("  {}\n", paint(Role::Faint, &place)));
    }
    for line in shown(board, &finding.detail) {
        let lead = " ".repeat(line.len() - line.trim_start().len());
        for (at, part) in wrap(&line, width.saturating_sub(4 + lead.len())).into_iter().enumerate() {
            text.push_str(&format!("  {lead}{}{part}\n", if at > 0 { "  " } else { "" }));
        }
    }
    text.push_str(&format!("  {} {}\n\n", paint(Role::Good, "→"), remedy(finding.kind)));
    text
}

/// Says where a finding is.
pub fn place(board: &Board, at: &Spot) -> Option<String> {
    match at {
        Spot::Definition(place) => {
            let excerpt = board.files.excerpt(*place);
            Some(format!("{}:{}:{}", excerpt.file, excerpt.line, excerpt.column))
        }
        Spot::Source(file, line) => Some(format!("{file}:{line}")),
        Spot::Tree => None,
    }
}

/// Names what a finding is about.
pub fn name_of(board: &Board, finding: &Finding) -> String {
    match &finding.subject {
        Subject::Board => "the tree".to_string(),
        Subject::Option(option) | Subject::Value(option, _) => board.options[*option].name.clone(),
        Subject::Need(need) => format!("need {}", board.needs[*need].name),
        Subject::Part(part) => format!("part {}", board.parts[*part].name),
        Subject::Section(section) => format!("section {}", board.sections[*section].name),
        Subject::Macro(name) => name.clone(),
        Subject::File(file) => file.to_string(),
        Subject::Accepted(kind) => kind.name().to_string(),
    }
}

/// Says what was found.
pub fn said(board: &Board, finding: &Finding) -> String {
    let subject = name_of(board, finding);
    match (finding.kind, &finding.subject, &finding.detail) {
        (FindingKind::NoWay, ..) => "no values meet all requirements".into(),
        (FindingKind::Contradiction, ..) => {
            format!("{subject} can never be on: its own requirements exclude each other")
        }
        (FindingKind::NeverOn, ..) => format!("{subject} can never be on"),
        (FindingKind::AlwaysOn, ..) => format!("{subject} can never be off"),
        (FindingKind::ValueNever, Subject::Value(_, value), _) => format!("{subject} can never be {value}"),
        (FindingKind::ValueNever, ..) => format!("{subject} has a value that can never be"),
        (FindingKind::NotDecided, ..) => {
            format!("what values {subject} can have is too much work to find out ({MOST_STEPS} steps)")
        }
        (FindingKind::DefaultNever, _, Detail::Shadowed) => {
            format!("a default of {subject} never applies: one before it always does")
        }
        (FindingKind::DefaultNever, _, Detail::NeverHad) => {
            format!("{subject} can never have a default of it while that one applies")
        }
        (FindingKind::DefaultNever, ..) => {
            format!("a default of {subject} never applies: its condition can never hold")
        }
        (FindingKind::DependsOnItself, ..) => format!("a default of {subject} depends on {subject} itself"),
        (FindingKind::LooseSource, ..) => format!("{subject} belongs to no part"),
        (FindingKind::MacroUnread, ..) => format!("no source names {subject}, and nothing else uses its option"),
        (FindingKind::MacroUnknown, ..) => format!("{subject} is tested and nothing defines it"),
        (FindingKind::DefineUnread, _, Detail::Text(name)) => {
            format!("{subject} defines {name}, and none of its sources names it")
        }
        (FindingKind::DefineUnread, ..) => format!("{subject} defines what none of its sources names"),
        (FindingKind::NeedUnlinked, ..) => format!("options ask for {subject}, and no part is linked with it"),
        (FindingKind::OptionUnused, ..) => format!("{subject} reaches no source, and nothing else uses it"),
        (FindingKind::NoPrefix, ..) => {
            format!("{subject} is installed, and the tree has no option `prefix` of kind path")
        }
        (FindingKind::PatternEmpty, _, Detail::Text(text)) => format!("{text} of {subject} matches nothing"),
        (FindingKind::PatternEmpty, ..) => format!("a pattern of {subject} matches nothing"),
        (FindingKind::NoPackages, ..) => format!("no package is known for {subject}"),
        (FindingKind::NeedUnused, ..) => format!("nothing needs {subject}"),
        (FindingKind::SectionEmpty, ..) => format!("{subject} has no options"),
        (FindingKind::NoSummary, ..) => format!("{subject} has no summary"),
        (FindingKind::UndeclaredRead, _, Detail::Reads(file)) => {
            format!("{subject} reads {file}, and does not declare it")
        }
        (FindingKind::UndeclaredRead, ..) => format!("{subject} reads what it does not declare"),
        (FindingKind::AcceptedNothing, ..) => format!("{subject} is accepted here and is not found"),
    }
}

fn shown(board: &Board, detail: &Detail) -> Vec<String> {
    match detail {
        Detail::Proof(_, proof) => proof_lines(board, proof),
        Detail::Ring(options) => {
            let names: Vec<&str> = options.iter().map(|option| board.options[*option].name.as_str()).collect();
            vec![names.join(" → ")]
        }
        Detail::Shadowed
        | Detail::NeverCounts
        | Detail::NeverHad
        | Detail::Reads(_)
        | Detail::Text(_)
        | Detail::Plain => Vec::new(),
    }
}

/// Says what to do about a finding.
pub fn remedy(kind: FindingKind) -> &'static str {
    match kind {
        FindingKind::NoWay => "loosen one of these requirements; until then nothing can be configured",
        FindingKind::Contradiction | FindingKind::NeverOn => "loosen one of these requirements, or remove the option",
        FindingKind::AlwaysOn => "remove the option, or give the pick a value that does without it",
        FindingKind::ValueNever => "loosen one of these requirements, or remove the value",
        FindingKind::NotDecided => "write its requirements with fewer `or`s that name the same options",
        FindingKind::DefaultNever => "move it before the others, change its condition, or remove it",
        FindingKind::DependsOnItself => "have the default depend on something else",
        FindingKind::LooseSource => "name it in the `sources` of a part, or remove it",
        FindingKind::MacroUnread => "use the macro, set `macro = []`, or remove the option",
        FindingKind::MacroUnknown => "check the spelling, or define an option for it",
        FindingKind::DefineUnread => "check the spelling, or remove it from `defines`",
        FindingKind::NeedUnlinked => "name it in `needs` of the part that calls it",
        FindingKind::OptionUnused => {
            "give it a `macro` and the tree a [header.NAME], use it in a condition, or remove it"
        }
        FindingKind::NoPrefix => "add [option.prefix] with kind = \"path\" and a default such as \"/usr/local\"",
        FindingKind::PatternEmpty => "check the spelling, or remove it",
        FindingKind::NoPackages => "name its packages: packages = { debian = \"…\", fedora = \"…\" }",
        FindingKind::NeedUnused => "name it in `needs` of an option or a part, or remove it",
        FindingKind::SectionEmpty => "move options into it with `section`, or remove it",
        FindingKind::NoSummary => "describe it in one line: summary = \"…\"",
        FindingKind::UndeclaredRead => "name it in its `reads`; it counts all the same",
        FindingKind::AcceptedNothing => "remove it from `accept`",
    }
}
