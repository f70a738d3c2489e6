//! A proof told as steps: the requirement with its place, and what follows from it.

use boltboard_core::board::{Board, Kind, OptionId, RuleId};
use boltboard_core::resolve::{Proof, Statement, Step};

use super::text::{Role, paint};
use super::why::rule_words;

/// How many steps of a long proof are told at its beginning and at its end.
const FIRST: usize = 12;
const LAST: usize = 8;

/// Tells the steps of a proof, a line each; ways of an `or` are set in.
pub fn proof_lines(board: &Board, proof: &Proof) -> Vec<String> {
    let mut lines = Vec::new();
    tell(board, proof, 0, &mut lines);
    if lines.len() > FIRST + LAST + 1 {
        let left_out = lines.len() - FIRST - LAST;
        lines.splice(FIRST..FIRST + left_out, [format!("… {left_out} more steps …")]);
    }
    lines
}

fn tell(board: &Board, proof: &Proof, depth: usize, lines: &mut Vec<String>) {
    let indent = "  ".repeat(depth);
    // Consecutive steps of one rule are one line.
    let mut open: Option<(RuleId, Vec<String>)> = None;
    let close = |open: &mut Option<(RuleId, Vec<String>)>, lines: &mut Vec<String>| {
        if let Some((rule, holds)) = open.take() {
            lines.push(format!("{indent}{}, so {}", rule_words(board, rule), listed(&holds, "and")));
        }
    };
    for step in &proof.steps {
        match step {
            Step::So { rule, holds } => {
                let said = said(board, holds, Mood::MustBe);
                match &mut open {
                    Some((same, list)) if same == rule => list.push(said),
                    _ => {
                        close(&mut open, lines);
                        open = Some((*rule, vec![said]));
                    }
                }
            }
            Step::But { rule, wants } => {
                close(&mut open, lines);
                let against: Vec<String> = wants.iter().map(|want| said(board, &opposite(want), Mood::Is)).collect();
                let end = if against.is_empty() {
                    "which can never be".into()
                } else {
                    format!("but {}", listed(&against, "and"))
                };
                lines.push(format!("{}{}, {end}", "  ".repeat(depth), rule_words(board, *rule)));
            }
            Step::LeftOut => {
                close(&mut open, lines);
                lines.push(format!("{indent}and so on, in more cases than are told here"));
            }
            Step::Either { rule, ways } => {
                close(&mut open, lines);
                let asked = match rule {
                    Some(rule) => rule_words(board, *rule),
                    None => "one of these must be".to_string(),
                };
                lines.push(format!("{}{asked}, and no way leads on:", "  ".repeat(depth)));
                for (way, inner) in ways {
                    lines.push(format!("{}if {}:", "  ".repeat(depth + 1), said(board, way, Mood::Is)));
                    tell(board, inner, depth + 2, lines);
                }
            }
        }
    }
    close(&mut open, lines);
}

/// Whether something is so, or has to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Mood {
    /// It is so.
    Is,
    /// It has to be so.
    MustBe,
}

/// Says a statement in words.
pub fn said(board: &Board, statement: &Statement, mood: Mood) -> String {
    let number = |option: &OptionId, n: i128| board.options[*option].kind.shown_number(n);
    let (is, is_not) = match mood {
        Mood::Is => ("is", "is not"),
        Mood::MustBe => ("must be", "must not be"),
    };
    let be = |option: &OptionId, verb: &str, what: &str| {
        format!("{} {verb} {what}", paint(Role::Name, &board.options[*option].name))
    };
    match statement {
        Statement::On(option) if matches!(board.options[*option].kind, Kind::Module) => be(option, is_not, "off"),
        Statement::On(option) => be(option, is, "on"),
        Statement::Off(option) => be(option, is, "off"),
        Statement::Builtin(option) => be(option, is, "built in"),
        Statement::NotBuiltin(option) => be(option, is_not, "built in"),
        Statement::Is(option, value) => be(option, is, value),
        Statement::IsNot(option, value) => be(option, is_not, value),
        Statement::AtLeast(option, n) => be(option, is, &format!("at least {}", number(option, *n))),
        Statement::Below(option, n) => be(option, is, &format!("below {}", number(option, *n))),
        Statement::Has(need) => format!("the need {} is met", paint(Role::Warn, &board.needs[*need].name)),
        Statement::Lacks(need) => format!("the need {} is not met", paint(Role::Warn, &board.needs[*need].name)),
        Statement::Several(members) => {
            let members: Vec<String> = members.iter().map(|member| said(board, member, mood)).collect();
            listed(&members, "and")
        }
    }
}

fn opposite(statement: &Statement) -> Statement {
    match statement.clone() {
        Statement::On(option) => Statement::Off(option),
        Statement::Off(option) => Statement::On(option),
        Statement::Builtin(option) => Statement::NotBuiltin(option),
        Statement::NotBuiltin(option) => Statement::Builtin(option),
        Statement::Is(option, value) => Statement::IsNot(option, value),
        Statement::IsNot(option, value) => Statement::Is(option, value),
        Statement::AtLeast(option, n) => Statement::Below(option, n),
        Statement::Below(option, n) => Statement::AtLeast(option, n),
        Statement::Has(need) => Statement::Lacks(need),
        Statement::Lacks(need) => Statement::Has(need),
        Statement::Several(members) => Statement::Several(members),
    }
}

fn listed(items: &[String], word: &str) -> String {
    match items {
        [] => String::new(),
        [one] => one.clone(),
        [init @ .., last] => format!("{} {word} {last}", init.join(", ")),
    }
}
