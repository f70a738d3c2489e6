//! Answers of `ways` and `why OPTION=VALUE`.

use boltboard_core::board::{Board, OptionId, RuleId, Value};
use boltboard_core::profile::{Choice, Choices};
use boltboard_core::resolve::{Clash, Verdict};
use serde::Serialize;

use super::FORMAT;
use crate::render::ways::Told;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct WaysAnswer {
    format: u32,
    option: String,
    value: String,
    outcome: &'static str,
    ways: Vec<WayAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct WayAnswer {
    choose: Vec<ChosenAnswer>,
    give_up: Vec<GivenUpAnswer>,
    install: Vec<String>,
    install_command: Option<String>,
    allow: Vec<String>,
    moved: Vec<MovedAnswer>,
    steps: Option<usize>,
    reused: Option<usize>,
    work_ms: Option<u64>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ChosenAnswer {
    option: String,
    value: String,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct GivenUpAnswer {
    option: String,
    value: String,
    becomes: String,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct MovedAnswer {
    option: String,
    before: String,
    after: String,
}

fn answer(board: &Board, option: OptionId, value: &Value, outcome: &'static str) -> WaysAnswer {
    WaysAnswer {
        format: FORMAT,
        option: board.options[option].name.clone(),
        value: value.to_string(),
        outcome,
        ways: Vec::new(),
    }
}

/// Answers that the value holds already.
pub fn ways_already(board: &Board, option: OptionId, value: &Value) -> WaysAnswer {
    answer(board, option, value, "already")
}

/// Answers that nothing leads there.
pub fn ways_never(board: &Board, option: OptionId, value: &Value) -> WaysAnswer {
    answer(board, option, value, "never")
}

/// Answers with ways.
pub fn ways(board: &Board, option: OptionId, value: &Value, told: &[Told<'_>]) -> WaysAnswer {
    let name = |id: OptionId| board.options[id].name.clone();
    let way = |told: &Told<'_>| WayAnswer {
        choose: told
            .way
            .choose
            .iter()
            .map(|(id, value)| ChosenAnswer { option: name(*id), value: value.to_string() })
            .collect(),
        give_up: told
            .way
            .give_up
            .iter()
            .map(|(choice, becomes)| GivenUpAnswer {
                option: name(choice.option),
                value: choice.value.to_string(),
                becomes: becomes.to_string(),
            })
            .collect(),
        install: told.lacking.clone(),
        install_command: told.install.clone(),
        allow: told.allow.clone(),
        moved: told
            .way
            .moved
            .iter()
            .map(|(id, was, is)| MovedAnswer { option: name(*id), before: was.to_string(), after: is.to_string() })
            .collect(),
        steps: told.cost.as_ref().map(|cost| cost.steps),
        reused: told.cost.as_ref().map(|cost| cost.reused),
        work_ms: told.cost.as_ref().and_then(|cost| cost.work_ms),
    };
    WaysAnswer { ways: told.iter().map(way).collect(), ..answer(board, option, value, "ways") }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct WhyNotAnswer {
    format: u32,
    option: String,
    value: String,
    against: Vec<AgainstAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct AgainstAnswer {
    decided: bool,
    choices: Vec<ChosenAnswer>,
    requirements: Vec<RequirementAnswer>,
    unmet: Vec<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct RequirementAnswer {
    option: String,
    requirement: String,
    file: String,
    line: usize,
}

/// What a clash is made of, but for what is said of one option.
pub fn against(board: &Board, choices: &Choices, clash: &Clash, but: Option<OptionId>) -> AgainstAnswer {
    let chosen = |choice: &Choice| ChosenAnswer {
        option: board.options[choice.option].name.clone(),
        value: choice.value.to_string(),
    };
    let requirement = |rule: &RuleId| {
        let rule = &board.rules[*rule];
        let place = board.files.excerpt(rule.place);
        RequirementAnswer {
            option: board.options[rule.option].name.clone(),
            requirement: board.print(&rule.must),
            file: place.file.to_string(),
            line: place.line,
        }
    };
    let told = |choice: &&Choice| choices.get(choice.option).is_some() && Some(choice.option) != but;
    AgainstAnswer {
        decided: clash.verdict == Verdict::Impossible,
        choices: clash.choices.iter().filter(told).map(chosen).collect(),
        requirements: clash.rules.iter().map(requirement).collect(),
        unmet: clash.lacking.iter().map(|need| board.needs[*need].name.clone()).collect(),
    }
}

/// Answers `why OPTION=VALUE`.
pub fn why_not(board: &Board, choices: &Choices, option: OptionId, value: &Value, clashes: &[Clash]) -> WhyNotAnswer {
    WhyNotAnswer {
        format: FORMAT,
        option: board.options[option].name.clone(),
        value: value.to_string(),
        against: clashes.iter().map(|clash| against(board, choices, clash, Some(option))).collect(),
    }
}
