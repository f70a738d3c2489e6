//! Why a value is what it is, as a tree that people walk in: to the option or need behind a reason, and back.

use std::path::PathBuf;

use boltboard_core::base::Place;
use boltboard_core::board::Board;
use boltboard_core::slate::Item;

use super::cards::plain;
use super::model::{Mode, Model, Wish};
use crate::commands::why;
use crate::render::why::Rules;

/// Where a person is in the reasons.
#[derive(Debug, Clone)]
pub struct Walk {
    /// What is looked at, and before it what led here, each with the line on which the cursor stood.
    pub trail: Vec<(Item, usize)>,
    /// What is told of it.
    pub lines: Vec<Told>,
    /// The line under the cursor, and the first that is drawn.
    pub at: usize,
    pub top: usize,
}

/// A line of reasons.
#[derive(Debug, Clone)]
pub struct Told {
    pub text: String,
    /// What it is about, where that can be gone to.
    pub item: Option<Item>,
}

impl Walk {
    /// What is looked at.
    pub fn item(&self) -> Option<Item> {
        self.trail.last().map(|(item, _)| *item)
    }

    /// The names that led here, the first one first.
    pub fn path(&self, board: &Board) -> String {
        self.trail.iter().map(|(item, _)| item.name(board)).collect::<Vec<_>>().join(" › ")
    }
}

impl Model {
    /// Opens the reasons of what is under the cursor.
    pub fn why(&mut self) {
        if let Some(item) = self.item() {
            self.walk_to(vec![(item, 0)]);
        }
    }

    /// Shows the last of a trail.
    fn walk_to(&mut self, trail: Vec<(Item, usize)>) {
        let Some((item, at)) = trail.last().copied() else {
            self.mode = Mode::Choose;
            return;
        };
        let lines = match item {
            Item::Option(option) => why::told_about(&self.session, &self.now, option, Rules::Short)
                .into_iter()
                .map(|(text, item)| Told { text: plain(&text), item })
                .collect(),
            Item::Need(need) => {
                let lines = super::cards::need_lines(&self.session, &self.now, need);
                let users = self.options_on(need).into_iter();
                let board = &self.session.board;
                let users = users.map(|option| Told {
                    text: format!("{} asks for it", board.options[option].name),
                    item: Some(Item::Option(option)),
                });
                lines.into_iter().map(|text| Told { text, item: None }).chain(users).collect()
            }
        };
        self.mode = Mode::Why(Walk { trail, lines, at, top: 0 });
    }

    /// Moves to another line of the reasons.
    pub fn walk(&mut self, walk: &Walk, at: usize) {
        self.mode = Mode::Why(Walk { at, ..walk.clone() });
    }

    /// Goes to what the line under the cursor is about.
    pub fn walk_in(&mut self, walk: Walk) {
        let here = walk.item();
        match walk.lines.get(walk.at).and_then(|line| line.item).filter(|item| Some(*item) != here) {
            Some(item) => {
                let mut trail = walk.trail;
                if let Some(last) = trail.last_mut() {
                    last.1 = walk.at;
                }
                trail.push((item, 0));
                self.walk_to(trail);
            }
            None => self.mode = Mode::Why(walk),
        }
    }

    /// Goes back to what led here; out of the reasons, where nothing did.
    pub fn walk_back(&mut self, walk: Walk) {
        let mut trail = walk.trail;
        trail.pop();
        self.walk_to(trail);
    }

    /// Leaves the reasons for the list, with the cursor on what was looked at.
    pub fn walk_out(&mut self, walk: &Walk) {
        self.mode = Mode::Choose;
        if let Some(item) = walk.item() {
            self.show(item);
        }
    }

    /// What the terminal has to do so that the person can edit where an item is defined.
    pub fn edit(&mut self, item: Option<Item>) -> Option<Wish> {
        let board = &self.session.board;
        let place: Place = match item? {
            Item::Option(option) => board.options[option].place,
            Item::Need(need) => board.needs[need].place,
        };
        let excerpt = board.files.excerpt(place);
        let file: PathBuf = board.tree.board_root.join(&*excerpt.file);
        Some(Wish::Edit(file, excerpt.line))
    }
}
