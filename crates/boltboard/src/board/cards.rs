//! What is told of one value that an option can have, or of one way in which a need can be met.

use boltboard_core::board::{Board, DecidedBy, Kind, NeedCheck, NeedId, OptionId, Provider, Value};
use boltboard_core::profile::Choices;
use boltboard_core::reason::{Reach, Start, Way};
use boltboard_core::remedy;
use boltboard_core::resolve::{Clash, Effect, Origin};
use boltboard_core::session::{Resolved, Session};
use boltboard_core::slate::{Change, Effects, Item, Price};
use boltboard_core::survey::FactState;

use crate::render::clash::clash_diagnostics;
use crate::render::proof::proof_lines;
use crate::render::survey::{state_words, trouble};
use crate::render::text::{bytes, count, duration};

/// So many ways out are shown.
const WAYS: usize = 4;

/// Something that could be chosen, with what is known of it so far.
#[derive(Debug, Clone)]
pub struct Card {
    pub change: Change,
    /// What is chosen, in a word.
    pub label: String,
    /// One line about it, where there is one.
    pub summary: String,
    /// Nothing while it is being found.
    pub found: Option<Told>,
    /// What a build would do; nothing while it is being found.
    pub price: Option<Option<Price>>,
    /// What installing what it lacks would take, where that is known.
    pub install: Option<String>,
    /// What could be written in its place, where that is free.
    pub hint: Option<String>,
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
    pub changes: Vec<Change>,
    /// Needs that have to be met first.
    pub lacking: Vec<NeedId>,
}

/// What was found.
pub enum Found {
    Same,
    Moves(Vec<String>),
    Clash(Vec<String>, Vec<Out>),
    Price(Option<Price>),
    /// What installing what it lacks would take.
    Install(String),
}

impl Card {
    /// A value of an option.
    pub fn of_value(board: &Board, option: OptionId, value: Value) -> Card {
        let label = value.to_string();
        let summary = board.options[option].kind.summary_of(&label).unwrap_or_default().to_string();
        let kind = &board.options[option].kind;
        let is_free = board.options[option].decided_by == DecidedBy::People
            && (kind.listed().is_empty() || matches!(kind, Kind::Words(_)));
        let hint = is_free.then(|| format!("Enter writes another: {}", kind.expected()));
        Card { hint, ..Card::new(Change::Choose(option, value), label, summary) }
    }

    /// The ways in which a need can be met, that of now first.
    pub fn of_need(board: &Board, now: &Resolved, need: NeedId) -> Vec<Card> {
        let definition = &board.needs[need];
        let card = |provider: Provider, summary: &str| {
            let label = provider.text(board);
            Card::new(Change::Provide(need, provider), label, summary.to_string())
        };
        let own = if definition.bundled.is_some() { ", else the tree's own copy" } else { "" };
        let by_itself = Change::TakeBack(Item::Need(need));
        let mut cards = vec![Card::new(by_itself, "by itself".into(), format!("what the host has{own}"))];
        cards.push(card(Provider::System, "what the host has, and nothing else"));
        if definition.bundled.is_some() {
            cards.push(card(Provider::Bundled, "the tree's own copy, whatever the host has"));
        }
        if let NeedCheck::AnyOf(members) = &definition.check {
            cards.extend(members.iter().map(|one| card(Provider::Need(*one), &board.needs[*one].summary)));
        }
        let elsewhere = now.facts.get(need).map(|fact| remedy::providers(board, &now.facts, fact)).unwrap_or_default();
        let folders = elsewhere.into_iter().filter(|provider| matches!(provider, Provider::Folder(_)));
        cards.extend(folders.map(|provider| card(provider, "another copy on this host")));
        cards.push(card(Provider::Off, "nothing: as if it were not there"));
        let chosen = now.choices.providers.get(&need).map(|chosen| &chosen.provider);
        let is_now = |card: &Card| match &card.change {
            Change::Provide(_, provider) => Some(provider) == chosen,
            Change::TakeBack(_) | Change::Choose(..) => chosen.is_none(),
        };
        if let Some(provider) = chosen.filter(|_| !cards.iter().any(is_now)) {
            cards.push(card(provider.clone(), ""));
        }
        cards.sort_by_key(|card| !is_now(card));
        cards
    }

    fn new(change: Change, label: String, summary: String) -> Card {
        Card { change, label, summary, found: None, price: None, install: None, hint: None }
    }

    pub fn learn(&mut self, found: Found) {
        match found {
            Found::Same => self.found = Some(Told::Same),
            Found::Moves(lines) => self.found = Some(Told::Moves(lines)),
            Found::Clash(lines, ways) => self.found = Some(Told::Clash(lines, ways)),
            Found::Price(price) => self.price = Some(price),
            Found::Install(words) => self.install = Some(words),
        }
    }

    /// Lines about what moves with a value.
    pub fn moves(board: &Board, item: Item, effects: &Effects) -> Found {
        let mut lines = Vec::new();
        for moved in effects.values.iter().filter(|moved| Item::Option(moved.option) != item) {
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
        slate: &[Item],
        change: &Change,
        clashes: &[Clash],
    ) -> Found {
        let board = &session.board;
        let mut lines = Vec::new();
        for (clash, diagnostic) in clashes.iter().zip(clash_diagnostics(session, tried, &now.facts, clashes)) {
            lines.push(plain(&diagnostic.message));
            // Where the others come from: what is only tried is no choice of the profile yet.
            for choice in clash.choices.iter().filter(|choice| Item::Option(choice.option) != change.item()) {
                let is_tried = slate.contains(&Item::Option(choice.option));
                let from = if is_tried { "on the slate" } else { "chosen" };
                lines.push(format!("{}={} is {from}", board.options[choice.option].name, choice.value));
            }
            lines.extend(proof_lines(board, &clash.proof).iter().map(|line| plain(line)));
        }
        let obtainable = remedy::obtainable(board, &now.facts);
        let start =
            Start { board, logic: &session.logic, choices: &now.choices, facts: &now.facts, obtainable: &obtainable };
        let ways = match change {
            Change::Choose(option, value) => match start.reach(*option, value) {
                Reach::Ways(ways) => ways,
                Reach::Already | Reach::Never(_) => Vec::new(),
            },
            Change::Provide(..) | Change::TakeBack(_) => Vec::new(),
        };
        Found::Clash(lines, ways.iter().take(WAYS).map(|way| out(board, way)).collect())
    }
}

/// How a need stands on this host.
pub fn need_lines(session: &Session, now: &Resolved, need: NeedId) -> Vec<String> {
    let board = &session.board;
    let definition = &board.needs[need];
    let Some(fact) = now.facts.get(need) else { return vec![format!("{} was not looked for", definition.name)] };
    let told = match &fact.state {
        FactState::Missing(_) => format!("{} {}", definition.name, plain(&trouble(board, fact))),
        FactState::Found(_) | FactState::Bundled(_) => plain(&state_words(board, fact).1),
    };
    let mut lines = vec![told];
    lines.extend(fact.evidence.iter().map(|evidence| format!("looked for {}: {}", evidence.tried, evidence.found)));
    lines
}

/// What a build would do, in words; nothing is known while it is being found.
pub fn price_words(price: Option<Option<Price>>) -> String {
    match price {
        None => "…".into(),
        Some(None) => "a build of it cannot be planned here".into(),
        Some(Some(Price { steps: 0, reused: 0, .. })) => "nothing to build".into(),
        Some(Some(Price { steps: 0, reused, growth, .. })) => {
            let size = match growth {
                None | Some(0) => String::new(),
                Some(more) if more > 0 => format!("; {} more", bytes(more.unsigned_abs())),
                Some(less) => format!("; {} less", bytes(less.unsigned_abs())),
            };
            format!("nothing to compile, {reused} reused{size}")
        }
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
    let lacking = way.needs.clone();
    if !lacking.is_empty() {
        let names: Vec<&str> = lacking.iter().map(|need| board.needs[*need].name.as_str()).collect();
        said.push(format!("first meet {}", names.join(", ")));
    }
    let mut changes: Vec<Change> =
        way.choose.iter().map(|(option, value)| Change::Choose(*option, value.clone())).collect();
    changes.extend(way.give_up.iter().map(|(choice, becomes)| Change::Choose(choice.option, becomes.clone())));
    Out { said: said.join("; "), changes, lacking }
}

/// A text without what makes it bold or coloured.
pub fn plain(text: &str) -> String {
    console::strip_ansi_codes(text).into_owned()
}
