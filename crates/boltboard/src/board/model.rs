//! What the board shows and what happens to it, without a terminal.

use boltboard_core::board::{Level, OptionId, SectionId, Value};
use boltboard_core::profile::ProfileName;
use boltboard_core::session::Resolved;
use boltboard_core::slate::{Change, Price, Slate};
use ratatui::layout::Rect;

use super::cards::{Card, Found, Out, Told, plain};
use super::worker::{Answer, Question};
use crate::commands::options::found;
use crate::commands::set::own_name;
use crate::commands::{show, why};
use crate::fault::Stop;
use crate::render::options;
use crate::render::why::Rules;
use crate::session::Session;

/// A line of the list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Row {
    /// A section's title, with how deep it lies.
    Section(SectionId, usize),
    Option(OptionId),
}

/// Which options are listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    All,
    Changed,
    Blocked,
    New,
}

impl View {
    const ORDER: [View; 4] = [View::All, View::Changed, View::Blocked, View::New];

    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            View::All => "all options",
            View::Changed => "changed",
            View::Blocked => "blocked",
            View::New => "new since the last build",
        }
    }

    fn filter(self) -> Option<&'static str> {
        match self {
            View::All => None,
            View::Changed => Some("changed"),
            View::Blocked => Some("blocked"),
            View::New => Some("new"),
        }
    }
}

/// What keys do now.
#[derive(Debug, Clone)]
pub enum Mode {
    /// They move, find and take.
    Choose,
    /// They write a value, or a reason.
    Write { what: Writing, text: String, fault: Option<String> },
    /// They choose a way out of a clash.
    Ways { ways: Vec<Out>, at: usize },
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
}

/// What is done outside of the board.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Run {
    Build,
    Preview,
}

/// What the model wants of the terminal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wish {
    Leave,
    Stop,
    Keep,
    Run(Run),
}

/// Where things were drawn, for the mouse.
#[derive(Debug, Clone, Copy, Default)]
pub struct Areas {
    pub list: Rect,
    pub cards: Rect,
}

/// The board.
pub struct Model {
    pub session: Session,
    /// How things stand with the slate.
    pub now: Resolved,
    pub slate: Slate,
    pub view: View,
    pub level: Level,
    /// What a build of the slate would do; nothing while it is being found.
    pub slate_price: Option<Option<Price>>,
    /// What was typed to find options.
    pub words: String,
    pub rows: Vec<Row>,
    /// The row under the cursor, and the first that is drawn.
    pub at: usize,
    pub top: usize,
    /// The values of the option under the cursor, and the one that Enter takes.
    pub cards: Vec<Card>,
    pub hand: usize,
    pub mode: Mode,
    /// What was last done or cannot be done.
    pub said: String,
    pub areas: Areas,
    /// The row in which each card begins.
    pub card_rows: Vec<usize>,
    /// Whether something is not drawn yet.
    pub is_stale: bool,
    /// The profile in use; changes go to `session.profile`, which stands on it where the tree ships it.
    pub(super) in_use: ProfileName,
    number: u64,
    asked: Option<u64>,
}

impl Model {
    /// Opens the board at an option, or at what words and filters find.
    pub fn open(mut session: Session, words: &[String]) -> Result<Model, Stop> {
        session.only_real()?;
        let now = session.resolve()?;
        let in_use = session.profile.clone();
        session.profile = own_name(&session)?;
        let mut model = Model {
            session,
            now,
            slate: Slate::default(),
            slate_price: None,
            view: View::All,
            level: Level::Tuning,
            words: String::new(),
            rows: Vec::new(),
            at: 0,
            top: 0,
            cards: Vec::new(),
            hand: 0,
            mode: Mode::Choose,
            said: String::new(),
            areas: Areas::default(),
            card_rows: Vec::new(),
            is_stale: true,
            in_use,
            number: 0,
            asked: None,
        };
        let option = words.first().filter(|_| words.len() == 1).and_then(|name| model.session.board.option(name));
        match option {
            Some(option) => {
                model.level = model.level.max(model.session.board.options[option].level);
                model.list();
                model.go_to(option);
            }
            None => {
                model.words = words.join(" ");
                model.list();
            }
        }
        Ok(model)
    }

    /// The option under the cursor.
    pub fn option(&self) -> Option<OptionId> {
        match self.rows.get(self.at) {
            Some(Row::Option(option)) => Some(*option),
            Some(Row::Section(..)) | None => None,
        }
    }

    /// Lists options anew; the cursor stays on its option where that is still there.
    pub fn list(&mut self) {
        let before = self.option();
        let mut question: Vec<String> = self.words.split_whitespace().map(str::to_string).collect();
        question.extend(self.view.filter().map(str::to_string));
        let board = &self.session.board;
        let all = match found(&self.session, &self.now, &question) {
            Ok(all) => all,
            Err(stop) => {
                self.said = stop.line();
                Vec::new()
            }
        };
        let ranked = !self.words.trim().is_empty();
        let mut rows = Vec::new();
        let mut within: Option<SectionId> = None;
        for option in all.into_iter().filter(|option| ranked || board.options[*option].level <= self.level) {
            let section = board.options[option].section;
            if !ranked && within != Some(section) {
                let path = board.section_path(section);
                rows.push(Row::Section(section, path.len().saturating_sub(1)));
                within = Some(section);
            }
            rows.push(Row::Option(option));
        }
        self.rows = rows;
        self.at = before.and_then(|option| self.rows.iter().position(|row| *row == Row::Option(option))).unwrap_or(0);
        self.step_onto_option(1);
        self.arrive();
    }

    /// Puts the cursor on an option.
    pub fn go_to(&mut self, option: OptionId) {
        if let Some(at) = self.rows.iter().position(|row| *row == Row::Option(option)) {
            self.at = at;
            self.arrive();
        }
    }

    /// Moves the cursor by so many rows.
    pub fn go(&mut self, by: isize) {
        if self.rows.is_empty() {
            return;
        }
        let last = self.rows.len() - 1;
        self.at = self.at.saturating_add_signed(by).min(last);
        self.step_onto_option(if by < 0 { -1 } else { 1 });
        self.arrive();
    }

    /// A section's title is nothing to choose: the cursor goes on in its direction, else the other way.
    fn step_onto_option(&mut self, towards: isize) {
        let is_option = |at: usize| matches!(self.rows.get(at), Some(Row::Option(_)));
        let after = (self.at..self.rows.len()).find(|at| is_option(*at));
        let before = (0..=self.at.min(self.rows.len().saturating_sub(1))).rev().find(|at| is_option(*at));
        let (first, second) = if towards < 0 { (before, after) } else { (after, before) };
        self.at = first.or(second).unwrap_or(0);
    }

    /// The cursor stands on an option: its values are laid out, and what they bring is asked.
    fn arrive(&mut self) {
        self.is_stale = true;
        self.number += 1;
        self.asked = None;
        self.cards.clear();
        let Some(option) = self.option() else { return };
        let board = &self.session.board;
        let kind = &board.options[option].kind;
        let value = self.now.resolution.value(option).clone();
        let listed: Vec<Value> = if kind.has_list() {
            vec![]
        } else {
            kind.listed().iter().filter_map(|text| kind.read(text).ok()).collect()
        };
        let values = if listed.is_empty() { vec![value.clone()] } else { listed };
        // The hand lies on what could be had instead, where there is only one.
        self.hand = match values.iter().position(|own| *own == value) {
            Some(at) if values.len() == 2 => 1 - at,
            Some(at) => at,
            None => 0,
        };
        self.cards = values.into_iter().map(|value| Card::new(board, option, value)).collect();
    }

    /// What is to be found out, if that was not asked yet.
    pub fn question(&mut self) -> Option<Question> {
        let option = self.option().filter(|_| self.asked != Some(self.number))?;
        self.asked = Some(self.number);
        Some(Question {
            number: self.number,
            profile: self.session.profile.clone(),
            text: self.text().ok()?,
            now: self.now.clone(),
            option,
            slate: self.slate.pending().iter().map(|pending| pending.option).collect(),
            values: self.cards.iter().map(|card| card.value.clone()).collect(),
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

    /// Takes the value that the hand lies on; a free value is written.
    pub fn take(&mut self) {
        let (Some(option), Some(card)) = (self.option(), self.cards.get(self.hand).cloned()) else { return };
        let kind = &self.session.board.options[option].kind;
        if kind.listed().is_empty() || kind.has_list() {
            let text = self.now.resolution.value(option).to_string();
            self.mode = Mode::Write { what: Writing::Value, text, fault: None };
            return;
        }
        match card.found {
            Some(Told::Same) => self.said = "It has that value.".into(),
            Some(Told::Clash(_, ways)) if !ways.is_empty() => self.mode = Mode::Ways { ways, at: 0 },
            Some(Told::Clash(lines, _)) => self.said = lines.first().cloned().unwrap_or_default(),
            Some(Told::Moves(_)) | None => self.change([(option, Change::Choose(card.value))]),
        }
    }

    /// Takes the value that was written.
    pub fn written(&mut self, text: &str) -> Result<(), String> {
        let Some(option) = self.option() else { return Ok(()) };
        let kind = &self.session.board.options[option].kind;
        let value = kind.read(text).map_err(|fault| format!("write {}", fault.expected))?;
        self.change([(option, Change::Choose(value))]);
        Ok(())
    }

    /// The next view, or the next level.
    pub fn next_view(&mut self) {
        let at = View::ORDER.iter().position(|view| *view == self.view).unwrap_or(0);
        self.view = View::ORDER[(at + 1) % View::ORDER.len()];
        self.list();
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

    /// Opens the reasons of the value under the cursor.
    pub fn why(&mut self) {
        if let Some(option) = self.option() {
            let text = why::told(&self.session, &self.now, option, Rules::Short);
            self.read(format!("Why {}", self.session.board.options[option].name), &text);
        }
    }

    /// Opens all about the option under the cursor.
    pub fn details(&mut self) {
        if let Some(option) = self.option() {
            let (board, now) = (&self.session.board, &self.now);
            let users = show::users(&self.session, option);
            let width = self.areas.list.width.max(60).into();
            let text = options::details(board, &now.choices, &now.resolution, option, &users, width);
            self.read(self.session.board.options[option].name.clone(), &text);
        }
    }

    /// What is wrong with a value that is being written.
    pub fn fault_of(&self, text: &str) -> Option<String> {
        let kind = &self.session.board.options[self.option()?].kind;
        kind.read(text).err().map(|fault| format!("write {}", fault.expected))
    }

    /// Opens a text.
    pub fn read(&mut self, title: String, text: &str) {
        let lines = text.lines().map(plain).collect();
        self.mode = Mode::Read { title, lines, top: 0 };
    }
}
