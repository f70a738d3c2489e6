//! What is told of one value that an option can have.

use boltboard_core::board::{Board, OptionId, Value};
use boltboard_core::profile::Choices;
use boltboard_core::reason::{Reach, Start, Way};
use boltboard_core::remedy;
use boltboard_core::resolve::{Clash, Effect, Origin};
use boltboard_core::session::{Resolved, Session};
use boltboard_core::slate::{Change, Effects, Price};

use crate::render::clash::clash_diagnostics;
use crate::render::proof::proof_lines;
use crate::render::text::{count, duration};

/// So many ways out are shown.
const WAYS: usize = 4;

/// A value with what is known of it so far.
#[derive(Debug, Clone)]
pub struct Card {
    pub value: Value,
    /// One line about it, where the definitions have one.
    pub summary: String,
    /// Nothing while it is being found.
    pub found: Option<Told>,
    /// What a build would do; nothing while it is being found.
    pub price: Option<Option<Price>>,
}

/// What would come of a value.
#[derive(Debug, Clone)]
pub enum Told {
    /// It has it.
    Same,
    /// It can be had; lines of what moves with it.
    Moves(Vec<String>),
    /// It cannot be had as things stand; why, and the ways out.
    Clash(Vec<String>, Vec<Out>),
}

/// A way out of a clash.
#[derive(Debug, Clone)]
pub struct Out {
    /// What it does, in words.
    pub said: String,
    /// What it changes.
    pub changes: Vec<(OptionId, Change)>,
    /// Needs that have to be met first.
    pub lacking: Vec<String>,
}

/// What was found.
pub enum Found {
    Same,
    Moves(Vec<String>),
    Clash(Vec<String>, Vec<Out>),
    Price(Option<Price>),
}

impl Card {
    pub fn new(board: &Board, option: OptionId, value: Value) -> Card {
        let kind = &board.options[option].kind;
        let summary = kind.summary_of(&value.to_string()).unwrap_or_default().to_string();
        Card { value, summary, found: None, price: None }
    }

    pub fn learn(&mut self, found: Found) {
        match found {
            Found::Same => self.found = Some(Told::Same),
            Found::Moves(lines) => self.found = Some(Told::Moves(lines)),
            Found::Clash(lines, ways) => self.found = Some(Told::Clash(lines, ways)),
            Found::Price(price) => self.price = Some(price),
        }
    }

    /// Lines about what moves with a value.
    pub fn moves(board: &Board, option: OptionId, effects: &Effects) -> Found {
        let mut lines = Vec::new();
        for moved in effects.values.iter().filter(|moved| moved.option != option) {
            let name = &board.options[moved.option].name;
            let (left, right) = (&moved.left, &moved.right);
            lines.push(match (left.value == right.value, right.effect) {
                (true, Effect::Applies) => format!("{name} has an effect"),
                (true, Effect::NoEffect) => format!("{name} has no effect"),
                (false, _) => {
                    let why = match &right.origin {
                        Origin::Blocked { .. } => ", blocked",
                        Origin::Chosen | Origin::PulledIn(_) | Origin::Default(_) => "",
                    };
                    format!("{name} {} → {}{why}", left.value, right.value)
                }
            });
        }
        let parts = |ids: &[boltboard_core::board::PartId]| {
            ids.iter().map(|part| board.parts[*part].name.as_str()).collect::<Vec<_>>().join(", ")
        };
        for (what, ids) in [("makes", &effects.parts_on), ("no longer makes", &effects.parts_off)] {
            if !ids.is_empty() {
                lines.push(format!("{what} {}", parts(ids)));
            }
        }
        if lines.is_empty() {
            lines.push("nothing else moves".into());
        }
        Found::Moves(lines)
    }

    /// Lines about a clash, and the ways out.
    pub fn clash(
        session: &Session,
        now: &Resolved,
        tried: &Choices,
        slate: &[OptionId],
        (option, value): (OptionId, &Value),
        clashes: &[Clash],
    ) -> Found {
        let board = &session.board;
        let mut lines = Vec::new();
        for (clash, diagnostic) in clashes.iter().zip(clash_diagnostics(session, tried, &now.facts, clashes)) {
            lines.push(plain(&diagnostic.message));
            // Where the others come from: what is only tried is no choice of the profile yet.
            for choice in clash.choices.iter().filter(|choice| choice.option != option) {
                let from = if slate.contains(&choice.option) { "on the slate" } else { "chosen" };
                lines.push(format!("{}={} is {from}", board.options[choice.option].name, choice.value));
            }
            lines.extend(proof_lines(board, &clash.proof).iter().map(|line| plain(line)));
        }
        let obtainable = remedy::obtainable(board, &now.facts);
        let start =
            Start { board, logic: &session.logic, choices: &now.choices, facts: &now.facts, obtainable: &obtainable };
        let ways = match start.reach(option, value) {
            Reach::Ways(ways) => ways,
            Reach::Already | Reach::Never(_) => Vec::new(),
        };
        Found::Clash(lines, ways.iter().take(WAYS).map(|way| out(board, way)).collect())
    }
}

/// What a build would do, in words; nothing is known while it is being found.
pub fn price_words(price: Option<Option<Price>>) -> String {
    match price {
        None => "…".into(),
        Some(None) => "a build of it cannot be planned here".into(),
        Some(Some(Price { steps: 0, reused: 0, .. })) => "nothing to build".into(),
        Some(Some(price)) => {
            let time = price.work_ms.map_or(String::new(), |ms| format!(", {} of work", duration(ms)));
            let reused = if price.reused > 0 { format!(", {} reused", price.reused) } else { String::new() };
            let steps = count(price.steps, "step", "steps");
            format!("{} of {steps}{reused}{time}", count(price.compiles, "compile", "compiles"))
        }
    }
}

fn out(board: &Board, way: &Way) -> Out {
    let name = |option: OptionId| board.options[option].name.as_str();
    let mut said: Vec<String> =
        way.choose.iter().map(|(option, value)| format!("{} = {value}", name(*option))).collect();
    said.extend(
        way.give_up
            .iter()
            .map(|(choice, becomes)| format!("give up {} = {} (then {becomes})", name(choice.option), choice.value)),
    );
    let lacking: Vec<String> = way.needs.iter().map(|need| board.needs[*need].name.clone()).collect();
    if !lacking.is_empty() {
        said.push(format!("first meet {}", lacking.join(", ")));
    }
    let mut changes: Vec<(OptionId, Change)> =
        way.choose.iter().map(|(option, value)| (*option, Change::Choose(value.clone()))).collect();
    changes.extend(way.give_up.iter().map(|(choice, becomes)| (choice.option, Change::Choose(becomes.clone()))));
    Out { said: said.join("; "), changes, lacking }
}

/// A text without what makes it bold or coloured.
pub fn plain(text: &str) -> String {
    console::strip_ansi_codes(text).into_owned()
}
