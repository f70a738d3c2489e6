//! Answers of `why`: a table of options, each explained once.

use std::collections::BTreeSet;

use boltboard_core::board::{Board, OptionId, RuleId};
use boltboard_core::profile::Choices;
use boltboard_core::reason::{Blocker, Cause, Reason};
use serde::Serialize;

use super::FORMAT;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct WhyAnswer {
    format: u32,
    option: String,
    nodes: Vec<NodeAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct NodeAnswer {
    option: String,
    value: String,
    cause: CauseAnswer,
    because: Vec<BecauseAnswer>,
}

#[derive(Serialize)]
#[serde(tag = "is", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
enum CauseAnswer {
    Chosen { layer: String, file: String, line: usize, reason: Option<String> },
    PulledIn { requirement: String, file: String, line: usize },
    Default { file: Option<String>, line: Option<usize> },
    Blocked { would_be: String, requirement: String, file: String, line: usize },
    NotFollowed,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
enum BecauseAnswer {
    Option(String),
    Unmet(String),
    Met(String),
}

/// Answers `why`.
pub fn why(board: &Board, choices: &Choices, told: &Reason) -> WhyAnswer {
    let mut table = Table { board, choices, known: BTreeSet::new(), nodes: Vec::new() };
    table.add(told);
    WhyAnswer { format: FORMAT, option: board.options[told.option].name.clone(), nodes: table.nodes }
}

struct Table<'a> {
    board: &'a Board,
    choices: &'a Choices,
    known: BTreeSet<OptionId>,
    nodes: Vec<NodeAnswer>,
}

impl Table<'_> {
    /// Adds an option and what is behind it; returns how it is referred to.
    fn add(&mut self, told: &Reason) -> BecauseAnswer {
        let name = self.board.options[told.option].name.clone();
        let repeated = matches!(told.cause, Cause::Told) || !self.known.insert(told.option);
        if !repeated {
            let at = self.nodes.len();
            let (value, cause) = (told.value.to_string(), self.cause(told));
            self.nodes.push(NodeAnswer { option: name.clone(), value, cause, because: Vec::new() });
            self.nodes[at].because = self.because(told);
        }
        BecauseAnswer::Option(name)
    }

    fn because(&mut self, told: &Reason) -> Vec<BecauseAnswer> {
        match &told.cause {
            Cause::PulledIn { by, .. } => vec![self.add(by)],
            Cause::Default { from, .. } => from.iter().map(|one| self.add(one)).collect(),
            Cause::Blocked { blockers, .. } => blockers
                .iter()
                .map(|blocker| match blocker {
                    Blocker::Option(one) => self.add(one),
                    Blocker::Lacking(need) => BecauseAnswer::Unmet(self.board.needs[*need].name.clone()),
                    Blocker::Present(need) => BecauseAnswer::Met(self.board.needs[*need].name.clone()),
                })
                .collect(),
            Cause::Chosen(_) | Cause::Told | Cause::Further => Vec::new(),
        }
    }

    fn cause(&self, told: &Reason) -> CauseAnswer {
        match &told.cause {
            Cause::Chosen(choice) => {
                let place = self.choices.files.excerpt(choice.place);
                CauseAnswer::Chosen {
                    layer: self.choices.layers[choice.layer].name.clone(),
                    file: place.file.to_string(),
                    line: place.line,
                    reason: choice.reason.clone(),
                }
            }
            Cause::PulledIn { rule, .. } => {
                let (requirement, file, line) = self.rule(*rule);
                CauseAnswer::PulledIn { requirement, file, line }
            }
            Cause::Default { rule, .. } => {
                let default = self.board.options[told.option].defaults.get(*rule);
                let place = default.and_then(|default| default.place).map(|place| self.board.files.excerpt(place));
                let file = place.as_ref().map(|place| place.file.to_string());
                CauseAnswer::Default { file, line: place.map(|place| place.line) }
            }
            Cause::Blocked { would_be, rule, .. } => {
                let (requirement, file, line) = self.rule(*rule);
                CauseAnswer::Blocked { would_be: would_be.to_string(), requirement, file, line }
            }
            Cause::Told | Cause::Further => CauseAnswer::NotFollowed,
        }
    }

    fn rule(&self, rule: RuleId) -> (String, String, usize) {
        let rule = &self.board.rules[rule];
        let place = self.board.files.excerpt(rule.place);
        (self.board.print(&rule.must), place.file.to_string(), place.line)
    }
}
