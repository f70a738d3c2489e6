//! Changes that a person tries before anything is kept, and what each of them would bring: for any front end that lets people try.

mod effects;

use crate::base::shell_word;
use crate::board::{Board, NEED_PREFIX, NeedId, OptionId, Provider, Value};
use crate::profile::ProfileFile;

pub use effects::{Effects, Outcome, Price, facts_of};

/// What a change is made to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Item {
    /// An option.
    Option(OptionId),
    /// A need: who meets it.
    Need(NeedId),
}

/// A change.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// An option is given this value.
    Choose(OptionId, Value),
    /// A need is to be met so.
    Provide(NeedId, Provider),
    /// What was chosen is taken back.
    TakeBack(Item),
}

impl Change {
    /// What it is made to.
    pub fn item(&self) -> Item {
        match self {
            Change::Choose(option, _) => Item::Option(*option),
            Change::Provide(need, _) => Item::Need(*need),
            Change::TakeBack(item) => *item,
        }
    }

    /// Writes it into a profile's file, which is not saved.
    pub fn write(&self, board: &Board, file: &mut ProfileFile, reason: Option<&str>) {
        match self {
            Change::Choose(option, value) => file.set(&board.options[*option].name, value, reason),
            Change::Provide(need, provider) => {
                file.set_provider(&board.needs[*need].name, &provider.text(board), reason);
            }
            Change::TakeBack(Item::Option(option)) => {
                file.unset(&board.options[*option].name);
            }
            Change::TakeBack(Item::Need(need)) => {
                file.unset_provider(&board.needs[*need].name);
            }
        }
    }
}

impl Item {
    /// Its name as commands take it: `lamp`, `need:zlib`.
    pub fn name(self, board: &Board) -> String {
        match self {
            Item::Option(option) => board.options[option].name.clone(),
            Item::Need(need) => format!("{NEED_PREFIX}{}", board.needs[need].name),
        }
    }
}

/// A change that is tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Pending {
    /// The change.
    pub change: Change,
    /// Why; the profile keeps it with the choice.
    pub reason: Option<String>,
}

/// Changes that are tried together, each item once, in the order in which they were made.
#[derive(Debug, Clone, Default)]
pub struct Slate {
    pending: Vec<Pending>,
    before: Vec<Vec<Pending>>,
    after: Vec<Vec<Pending>>,
}

impl Slate {
    /// The changes.
    pub fn pending(&self) -> &[Pending] {
        &self.pending
    }

    /// What is done to an item, if anything.
    pub fn of(&self, item: Item) -> Option<&Pending> {
        self.pending.iter().find(|pending| pending.change.item() == item)
    }

    /// Adds changes, as one step; another change of the same item takes the place of the one before.
    pub fn put(&mut self, changes: impl IntoIterator<Item = Change>) {
        self.step();
        for change in changes {
            let item = change.item();
            let reason = self.of(item).and_then(|pending| pending.reason.clone());
            self.pending.retain(|pending| pending.change.item() != item);
            self.pending.push(Pending { change, reason });
        }
    }

    /// Drops the change of an item; returns whether there was one.
    pub fn drop(&mut self, item: Item) -> bool {
        if self.of(item).is_none() {
            return false;
        }
        self.step();
        self.pending.retain(|pending| pending.change.item() != item);
        true
    }

    /// Says why an item is changed; an empty text says nothing.
    pub fn because(&mut self, item: Item, reason: &str) {
        self.step();
        if let Some(pending) = self.pending.iter_mut().find(|pending| pending.change.item() == item) {
            pending.reason = Some(reason.trim().to_string()).filter(|reason| !reason.is_empty());
        }
    }

    /// Goes one step back; returns whether there was one.
    pub fn undo(&mut self) -> bool {
        let Some(before) = self.before.pop() else { return false };
        self.after.push(std::mem::replace(&mut self.pending, before));
        true
    }

    /// Takes one step again that was undone; returns whether there was one.
    pub fn redo(&mut self) -> bool {
        let Some(after) = self.after.pop() else { return false };
        self.before.push(std::mem::replace(&mut self.pending, after));
        true
    }

    /// Forgets everything, as after it was kept.
    pub fn clear(&mut self) {
        *self = Slate::default();
    }

    /// Writes the changes into a profile's file, which is not saved.
    pub fn write(&self, board: &Board, file: &mut ProfileFile) {
        self.pending.iter().for_each(|pending| pending.change.write(board, file, pending.reason.as_deref()));
    }

    /// The words of the command lines that do the same: choices, and what is taken back.
    pub fn words(&self, board: &Board) -> (Vec<String>, Vec<String>) {
        let (mut chosen, mut taken_back) = (Vec::new(), Vec::new());
        for Pending { change, .. } in &self.pending {
            let name = change.item().name(board);
            match change {
                Change::Choose(_, value) => chosen.push(shell_word(&format!("{name}={value}"))),
                Change::Provide(_, provider) => chosen.push(shell_word(&format!("{name}={}", provider.text(board)))),
                Change::TakeBack(_) => taken_back.push(name),
            }
        }
        (chosen, taken_back)
    }

    /// The same changes for a board that was read anew, and those that fit it no longer, by their words. What was undone is forgotten.
    pub fn carried(&self, old: &Board, new: &Board) -> (Slate, Vec<String>) {
        let (mut slate, mut lost) = (Slate::default(), Vec::new());
        for Pending { change, reason } in &self.pending {
            let name = change.item().name(old);
            let (option, need) = match change.item() {
                Item::Option(id) => (new.option(&old.options[id].name), None),
                Item::Need(id) => (None, new.need(&old.needs[id].name)),
            };
            let (text, carried) = match change {
                Change::Choose(_, value) => {
                    let read = option.and_then(|id| Some((id, new.options[id].kind.read(&value.to_string()).ok()?)));
                    (format!("{name}={value}"), read.map(|(id, value)| Change::Choose(id, value)))
                }
                Change::Provide(_, provider) => {
                    let text = provider.text(old);
                    let read = need.and_then(|id| Some((id, Provider::read(new, id, &text).ok()?)));
                    (format!("{name}={text}"), read.map(|(id, provider)| Change::Provide(id, provider)))
                }
                Change::TakeBack(_) => {
                    let item = option.map(Item::Option).or(need.map(Item::Need));
                    (name, item.map(Change::TakeBack))
                }
            };
            match carried {
                Some(change) => slate.pending.push(Pending { change, reason: reason.clone() }),
                None => lost.push(text),
            }
        }
        (slate, lost)
    }

    fn step(&mut self) {
        self.before.push(self.pending.clone());
        self.after.clear();
    }
}

#[cfg(test)]
mod tests;
