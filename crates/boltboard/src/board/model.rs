//! What the board shows and what happens to it, without a terminal.

use boltboard_core::board::{Level, OptionId, SectionId, Value};
use boltboard_core::profile::{ProfileFile, ProfileName, ProfileSource};
use boltboard_core::resolve::Origin;
use boltboard_core::session::{Resolved, Session as Core};
use boltboard_core::slate::{Change, Price, Slate, choices_in};
use ratatui::layout::Rect;

use super::cards::{Card, Found, Out, Told, plain};
use super::worker::{Answer, Question};
use crate::args::Global;
use crate::commands::options::found;
use crate::commands::set::own_profile;
use crate::commands::{show, why};
use crate::fault::Stop;
use crate::render::why::Rules;
use crate::render::{Screen, options};
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
    in_use: ProfileName,
    number: u64,
    asked: Option<u64>,
}

impl Model {
    /// Opens the board at an option, or at what words and filters find.
    pub fn open(mut session: Session, words: &[String]) -> Result<Model, Stop> {
        session.only_real()?;
        let now = session.resolve()?;
        let in_use = session.profile.clone();
        session.profile = target(&session)?;
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

    /// Puts changes on the slate, if what comes out can hold.
    pub fn change(&mut self, changes: impl IntoIterator<Item = (OptionId, Change)>) {
        let before = self.slate.clone();
        self.slate.put(changes);
        self.settle(before);
    }

    /// Takes back the choice of the option under the cursor.
    pub fn take_back(&mut self) {
        let Some(option) = self.option() else { return };
        let before = self.slate.clone();
        if !self.slate.drop(option) {
            if !matches!(self.now.resolution.get(option).origin, Origin::Chosen) {
                self.said = "Nobody chose it.".into();
                return;
            }
            self.slate.put([(option, Change::TakeBack)]);
        }
        self.settle(before);
    }

    /// One step back, or forth again.
    pub fn undo(&mut self, is_redo: bool) {
        let before = self.slate.clone();
        if if is_redo { self.slate.redo() } else { self.slate.undo() } {
            self.settle(before);
        } else {
            self.said = "There is no step more.".into();
        }
    }

    /// Says why the option under the cursor is changed.
    pub fn because(&mut self, reason: &str) {
        if let Some(option) = self.option() {
            self.slate.because(option, reason);
            self.is_stale = true;
        }
    }

    /// Resolves with the slate; a slate that cannot hold is as it was before.
    fn settle(&mut self, before: Slate) {
        let resolved = self.text().and_then(|text| {
            let choices = choices_in(&self.session, &text).map_err(|fault| Stop::of(fault, None))?;
            Core::resolve(&self.session, choices, self.now.facts.clone())
                .map_err(|fault| Stop::of(fault, Some(&self.session)))
        });
        match resolved {
            Ok(now) => {
                self.now = now;
                self.slate_price = None;
                self.said.clear();
                self.list();
            }
            Err(stop) => {
                self.slate = before;
                self.said = stop.line();
                self.is_stale = true;
            }
        }
    }

    /// What the profile's file would hold.
    fn text(&self) -> Result<String, Stop> {
        let mut file = self.file()?;
        self.slate.write(&self.session.board, &mut file);
        Ok(file.text())
    }

    fn file(&self) -> Result<ProfileFile, Stop> {
        let (own, in_use) = (&self.session.profile, &self.in_use);
        let path = self.session.shelf.own_path(own);
        let base: Vec<ProfileName> = (own != in_use).then(|| in_use.clone()).into_iter().collect();
        Ok(ProfileFile::open(&path)?.unwrap_or_else(|| ProfileFile::new(&path, &self.session.board.tree, &base)))
    }

    /// Keeps the slate in the profile.
    pub fn keep(&mut self, screen: &Screen) -> Result<String, Stop> {
        let count = self.slate.pending().len();
        if count == 0 {
            return Ok("Nothing is changed.".into());
        }
        self.session.prepare_work()?;
        self.session.profile = self.in_use.clone();
        own_profile(&mut self.session, screen)?;
        self.in_use = self.session.profile.clone();
        let mut file = self.file()?;
        self.slate.write(&self.session.board, &mut file);
        file.save()?;
        self.slate.clear();
        self.list();
        let changes = if count == 1 { "1 change".to_string() } else { format!("{count} changes") };
        Ok(format!("Kept {changes} in the profile {}.", self.session.profile))
    }

    /// Reads everything anew, as after a build; the slate stays.
    pub fn reopen(&mut self, global: &Global, screen: &Screen) -> Result<(), Stop> {
        self.session = Session::open(global, screen)?;
        self.in_use = self.session.profile.clone();
        self.session.profile = target(&self.session)?;
        let before = self.slate.clone();
        self.settle(before);
        Ok(())
    }

    /// Tells how something ended.
    pub fn told(&mut self, result: Result<String, Stop>) {
        self.said = result.unwrap_or_else(|stop| stop.line());
        self.is_stale = true;
    }

    /// The command lines that do what the slate does.
    pub fn command_lines(&self) -> Vec<String> {
        let (chosen, taken_back) = self.slate.words(&self.session.board);
        let mut lines = Vec::new();
        if !chosen.is_empty() {
            lines.push(format!("boltboard set {}", chosen.join(" ")));
        }
        if !taken_back.is_empty() {
            lines.push(format!("boltboard unset {}", taken_back.join(" ")));
        }
        lines
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

/// The profile that changes go to: a person's own; one that the tree ships gets one on top of it.
fn target(session: &Session) -> Result<ProfileName, Stop> {
    let own = session.profile.clone();
    Ok(match session.source_of(&own)? {
        Some(ProfileSource::Shipped) => ProfileName::parse(&format!("my-{own}")).unwrap_or(own),
        Some(ProfileSource::Own | ProfileSource::Once) | None => own,
    })
}
