//! What the board shows and what happens to it, without a terminal.

use std::path::PathBuf;
use std::sync::Arc;

use boltboard_core::board::{DecidedBy, Kind, Level, NeedId, OptionId, SectionId, Value};
use boltboard_core::profile::ProfileName;
use boltboard_core::session::Resolved;
use boltboard_core::slate::{Change, Item, Price, Slate};
use ratatui::layout::Rect;

use super::afresh::Seen;
use super::cards::{Card, Found, Out, Told, plain};
use super::other::Other;
use super::views::{Entry, Marks, View};
use super::walk::Walk;
use super::worker::{Answer, Question};
use crate::commands::set::own_name;
use crate::commands::show;
use crate::fault::Stop;
use crate::render::options;
use crate::session::Session;

/// A line of the list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Row {
    /// A section's title.
    Section(SectionId),
    Option(OptionId),
    /// The title above needs.
    Needs,
    Need(NeedId),
}

/// Where the arrows move.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Focus {
    Options,
    Outline,
}

/// What keys do now.
#[derive(Debug, Clone)]
pub enum Mode {
    /// They move, find and take.
    Choose,
    /// They write a value, a reason, or a folder that is to meet a need.
    Write { what: Writing, text: String, fault: Option<String> },
    /// They edit a list of words; `typing` is the one under the cursor while it is written.
    Words { words: Vec<String>, at: usize, typing: Option<String>, fault: Option<String> },
    /// They choose a way out of a clash.
    Ways { ways: Vec<Out>, at: usize },
    /// They choose one of some names.
    Pick { what: Picking, items: Vec<String>, at: usize },
    /// They walk in reasons.
    Why(Walk),
    /// They move in a text.
    Read { title: String, lines: Vec<String>, top: usize },
    /// They decide whether changes are left behind.
    Leave,
}

/// What is being written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Writing {
    Value,
    Reason,
    Folder,
}

/// What one of some names is picked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Picking {
    /// The profile that is laid beside ours.
    Profile,
}

/// What is done outside of the board.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Run {
    Build,
    Preview,
    Test,
    Survey,
}

/// What the model wants of the terminal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wish {
    Leave,
    Stop,
    Keep,
    Run(Run),
    /// Puts a text into the terminal's clipboard.
    Copy(String),
    /// Opens a file in the person's editor, at a line.
    Edit(PathBuf, usize),
}

/// Where things were drawn, for the mouse.
#[derive(Debug, Clone, Copy, Default)]
pub struct Areas {
    pub outline: Rect,
    pub list: Rect,
    pub cards: Rect,
    /// What can be dragged, between the list and the cards.
    pub divider: Rect,
}

/// The board.
pub struct Model {
    /// Shared with what finds consequences.
    pub session: Arc<Session>,
    /// How things stand with the slate.
    pub now: Arc<Resolved>,
    pub slate: Slate,
    pub view: View,
    pub level: Level,
    pub marks: Marks,
    /// The profile that is laid beside ours.
    pub other: Option<Other>,
    /// What a build of the slate would do; nothing while it is being found.
    pub slate_price: Option<Option<Price>>,
    /// What was typed to find options.
    pub words: String,
    pub rows: Vec<Row>,
    pub outline: Vec<Entry>,
    /// The first of them that is drawn.
    pub outline_top: usize,
    pub focus: Focus,
    /// The row under the cursor, and the first that is drawn.
    pub at: usize,
    pub top: usize,
    /// What could be chosen of what is under the cursor, and what Enter takes.
    pub cards: Vec<Card>,
    pub hand: usize,
    pub mode: Mode,
    /// What was last done or cannot be done.
    pub said: String,
    pub areas: Areas,
    /// The part of the room that the list has beside the cards, in hundredths; and whether it is being dragged.
    pub share: u16,
    pub is_dragging: bool,
    /// The row in which each card begins.
    pub card_rows: Vec<usize>,
    /// Whether something is not drawn yet.
    pub is_stale: bool,
    /// The profile that is looked at, and the one that changes go to: another on top of it, where the tree ships it.
    pub(super) in_use: ProfileName,
    pub own: ProfileName,
    /// The profile that was in use when the board was opened, which commands go by.
    pub(super) opened: ProfileName,
    pub(super) seen: Seen,
    number: u64,
    asked: Option<u64>,
}

impl Model {
    /// Opens the board at an option, or at what words and filters find.
    pub fn open(session: Session, words: &[String]) -> Result<Model, Stop> {
        session.only_real()?;
        let now = session.resolve()?;
        let in_use = session.profile.clone();
        let own = own_name(&session, &in_use)?;
        let mut model = Model {
            marks: Marks::of(&session, &now),
            session: Arc::new(session),
            now: Arc::new(now),
            slate: Slate::default(),
            other: None,
            slate_price: None,
            view: View::All,
            level: Level::Tuning,
            words: String::new(),
            rows: Vec::new(),
            outline: Vec::new(),
            outline_top: 0,
            focus: Focus::Options,
            at: 0,
            top: 0,
            cards: Vec::new(),
            hand: 0,
            mode: Mode::Choose,
            said: String::new(),
            areas: Areas::default(),
            share: 56,
            is_dragging: false,
            card_rows: Vec::new(),
            is_stale: true,
            opened: in_use.clone(),
            in_use,
            own,
            seen: Seen::default(),
            number: 0,
            asked: None,
        };
        model.seen = Seen::of(&model);
        let option = words.first().filter(|_| words.len() == 1).and_then(|name| model.session.board.option(name));
        match option {
            Some(option) => model.show(Item::Option(option)),
            None => {
                model.words = words.join(" ");
                model.list();
            }
        }
        Ok(model)
    }

    /// The option under the cursor.
    pub fn option(&self) -> Option<OptionId> {
        match self.item() {
            Some(Item::Option(option)) => Some(option),
            Some(Item::Need(_)) | None => None,
        }
    }

    /// The option or need under the cursor.
    pub fn item(&self) -> Option<Item> {
        match self.rows.get(self.at)? {
            Row::Option(option) => Some(Item::Option(*option)),
            Row::Need(need) => Some(Item::Need(*need)),
            Row::Section(_) | Row::Needs => None,
        }
    }

    /// Lists anew; the cursor stays on its option or need where that is still there.
    pub fn list(&mut self) {
        let before = self.rows.get(self.at).copied();
        self.rows = self.rows_of_view().unwrap_or_else(|stop| {
            self.said = stop.line();
            Vec::new()
        });
        self.outline = self.outlined();
        self.at = before.and_then(|row| self.rows.iter().position(|own| *own == row)).unwrap_or(0);
        self.step_onto_item(1);
        self.arrive();
    }

    /// Puts the cursor on an option of the list.
    pub fn go_to(&mut self, option: OptionId) {
        if let Some(at) = self.rows.iter().position(|row| *row == Row::Option(option)) {
            self.put_at(at);
        }
    }

    /// Shows an option or need, in a view where it is found.
    pub fn show(&mut self, item: Item) {
        let row = match item {
            Item::Option(option) => Row::Option(option),
            Item::Need(need) => Row::Need(need),
        };
        if !self.rows.contains(&row) {
            self.words.clear();
            self.view = match item {
                Item::Option(option) => {
                    self.level = self.level.max(self.session.board.options[option].level);
                    View::All
                }
                Item::Need(_) => View::Needs,
            };
            self.list();
        }
        if let Some(at) = self.rows.iter().position(|own| *own == row) {
            self.put_at(at);
        }
    }

    /// Puts the cursor on a row.
    pub(super) fn put_at(&mut self, at: usize) {
        self.at = at;
        self.step_onto_item(1);
        self.arrive();
    }

    /// Moves the cursor by so many rows.
    pub fn go(&mut self, by: isize) {
        if self.rows.is_empty() {
            return;
        }
        self.at = self.at.saturating_add_signed(by).min(self.rows.len() - 1);
        self.step_onto_item(if by < 0 { -1 } else { 1 });
        self.arrive();
    }

    /// A title is nothing to choose: the cursor goes on in its direction, else the other way.
    fn step_onto_item(&mut self, towards: isize) {
        let is_item = |at: usize| matches!(self.rows.get(at), Some(Row::Option(_) | Row::Need(_)));
        let after = (self.at..self.rows.len()).find(|at| is_item(*at));
        let before = (0..=self.at.min(self.rows.len().saturating_sub(1))).rev().find(|at| is_item(*at));
        let (first, second) = if towards < 0 { (before, after) } else { (after, before) };
        self.at = first.or(second).unwrap_or(0);
    }

    /// The cursor stands on something: what it could be is laid out, and what that brings is asked.
    pub(super) fn arrive(&mut self) {
        let board = &self.session.board;
        let cards = match self.item() {
            None => Vec::new(),
            Some(Item::Need(need)) => Card::of_need(board, &self.now, need),
            Some(Item::Option(option)) => {
                let kind = &board.options[option].kind;
                let value = self.now.resolution.value(option).clone();
                // A list of allowed words is no list of values.
                let texts = if matches!(kind, Kind::Words(_)) { Vec::new() } else { kind.listed() };
                let listed: Vec<Value> = texts.iter().filter_map(|text| kind.read(text).ok()).collect();
                let values = if listed.is_empty() { vec![value] } else { listed };
                values.into_iter().map(|value| Card::of_value(board, option, value)).collect()
            }
        };
        self.lay_out(cards);
        let is_now = |card: &Card| match &card.change {
            Change::Choose(option, value) => self.now.resolution.value(*option) == value,
            // The way in which a need is met now comes first.
            Change::Provide(..) | Change::TakeBack(_) => false,
        };
        // The hand lies on what could be had instead, where there is only one.
        self.hand = match self.cards.iter().position(is_now) {
            Some(at) if self.cards.len() == 2 => 1 - at,
            Some(at) => at,
            None => 0,
        };
    }

    /// Lays cards out; what they bring is asked, and what was asked before is no longer wanted.
    pub(super) fn lay_out(&mut self, cards: Vec<Card>) {
        self.is_stale = true;
        self.number += 1;
        self.asked = None;
        self.cards = cards;
    }

    /// What is to be found out, if that was not asked yet.
    pub fn question(&mut self) -> Option<Question> {
        self.item().filter(|_| self.asked != Some(self.number))?;
        self.asked = Some(self.number);
        Some(Question {
            number: self.number,
            profile: self.own.clone(),
            text: self.text().ok()?,
            now: self.now.clone(),
            slate: self.slate.pending().iter().map(|pending| pending.change.item()).collect(),
            tries: self.cards.iter().map(|card| card.change.clone()).collect(),
        })
    }

    /// Takes what was found; what nobody asks for any more is thrown away.
    pub fn learn(&mut self, answer: Answer) {
        if answer.number != self.number {
            return;
        }
        self.is_stale = true;
        match (answer.at.map(|at| self.cards.get_mut(at)), answer.found) {
            (Some(Some(card)), found) => card.learn(found),
            (None, Found::Price(price)) => self.slate_price = Some(price),
            (Some(None) | None, _) => {}
        }
    }

    /// Whose lines stand in a row of the consequences, as they were drawn last.
    pub fn card_at(&self, row: usize) -> Option<usize> {
        self.card_rows.iter().rposition(|first| *first <= row)
    }

    /// Moves the hand among the values.
    pub fn turn(&mut self, by: isize) {
        if !self.cards.is_empty() {
            self.hand = self.hand.saturating_add_signed(by).min(self.cards.len() - 1);
        }
    }

    /// Takes what the hand lies on; a free value is written.
    pub fn take(&mut self) {
        let (Some(item), Some(card)) = (self.item(), self.cards.get(self.hand).cloned()) else { return };
        if let Item::Option(option) = item {
            let definition = &self.session.board.options[option];
            match definition.decided_by {
                DecidedBy::People => {}
                DecidedBy::Others => {
                    self.said = "Nobody chooses it: it follows from others (^W says from which).".into();
                    return;
                }
                DecidedBy::Kit => {
                    self.said = "Nobody chooses it: the tree was built so that this kit is of.".into();
                    return;
                }
            }
            let kind = &definition.kind;
            if kind.listed().is_empty() || matches!(kind, Kind::Words(_)) {
                self.write_value();
                return;
            }
        }
        match card.found {
            Some(Told::Same) => self.said = "It is so already.".into(),
            Some(Told::Clash(_, ways)) if !ways.is_empty() => self.mode = Mode::Ways { ways, at: 0 },
            Some(Told::Clash(lines, _)) => self.said = lines.first().cloned().unwrap_or_default(),
            Some(Told::Moves(_)) | None => {
                self.change([card.change]);
            }
        }
    }

    /// Takes a way out of a clash; one that needs what this host lacks leads to that need.
    pub fn take_way(&mut self, way: Out) {
        self.mode = Mode::Choose;
        match way.lacking.first() {
            None => {
                self.change(way.changes);
            }
            Some(need) => {
                self.show(Item::Need(*need));
                self.said = "First this has to be met: install it and survey (^S), or choose what meets it.".into();
            }
        }
    }

    /// The next level.
    pub fn next_level(&mut self) {
        self.level = match self.level {
            Level::Everyday => Level::Tuning,
            Level::Tuning => Level::Expert,
            Level::Expert => Level::Everyday,
        };
        self.list();
    }

    /// Opens all about what is under the cursor.
    pub fn details(&mut self) {
        let (board, now) = (&self.session.board, &self.now);
        match self.item() {
            Some(Item::Option(option)) => {
                let users = show::users(&self.session, option);
                let width = self.areas.list.width.max(60).into();
                let text = options::details(board, &now.choices, &now.resolution, option, &users, width);
                self.read(board.options[option].name.clone(), &text);
            }
            Some(Item::Need(_)) => self.why(),
            None => {}
        }
    }

    /// The options that ask for a need.
    pub(super) fn options_on(&self, need: NeedId) -> Vec<OptionId> {
        let logic = &self.session.logic;
        let rules = logic.rules_on(logic.need(need));
        let options: std::collections::BTreeSet<OptionId> =
            rules.into_iter().map(|rule| self.session.board.rules[rule].option).collect();
        options.into_iter().collect()
    }

    /// Opens a text.
    pub fn read(&mut self, title: String, text: &str) {
        let lines = text.lines().map(plain).collect();
        self.mode = Mode::Read { title, lines, top: 0 };
    }
}
