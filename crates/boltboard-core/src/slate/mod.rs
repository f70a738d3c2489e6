//! Changes that a person tries before anything is kept, and what each of them would bring: for any front end that lets people try.

mod effects;

use crate::base::shell_word;
use crate::board::{Board, OptionId, Value};
use crate::profile::ProfileFile;

pub use effects::{Effects, Outcome, Price, choices_in};

/// What is done to an option.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// It is given this value.
    Choose(Value),
    /// The choice is taken back.
    TakeBack,
}

/// A change that is tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Pending {
    /// The option.
    pub option: OptionId,
    /// What is done to it.
    pub change: Change,
    /// Why; the profile keeps it with the choice.
    pub reason: Option<String>,
}

/// Changes that are tried together, each option once, in the order in which they were made.
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

    /// What is done to an option, if anything.
    pub fn of(&self, option: OptionId) -> Option<&Pending> {
        self.pending.iter().find(|pending| pending.option == option)
    }

    /// Adds changes, as one step; another change of an option takes the place of the one before.
    pub fn put(&mut self, changes: impl IntoIterator<Item = (OptionId, Change)>) {
        self.step();
        for (option, change) in changes {
            let reason = self.of(option).and_then(|pending| pending.reason.clone());
            self.pending.retain(|pending| pending.option != option);
            self.pending.push(Pending { option, change, reason });
        }
    }

    /// Drops the change of an option; returns whether there was one.
    pub fn drop(&mut self, option: OptionId) -> bool {
        if self.of(option).is_none() {
            return false;
        }
        self.step();
        self.pending.retain(|pending| pending.option != option);
        true
    }

    /// Says why an option is changed; an empty text says nothing.
    pub fn because(&mut self, option: OptionId, reason: &str) {
        self.step();
        if let Some(pending) = self.pending.iter_mut().find(|pending| pending.option == option) {
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
        for pending in &self.pending {
            let name = &board.options[pending.option].name;
            match &pending.change {
                Change::Choose(value) => file.set(name, value, pending.reason.as_deref()),
                Change::TakeBack => {
                    file.unset(name);
                }
            }
        }
    }

    /// The words of the command lines that do the same: choices, and options whose choices are taken back.
    pub fn words(&self, board: &Board) -> (Vec<String>, Vec<String>) {
        let name = |pending: &Pending| board.options[pending.option].name.clone();
        let (mut chosen, mut taken_back) = (Vec::new(), Vec::new());
        for pending in &self.pending {
            match &pending.change {
                Change::Choose(value) => chosen.push(shell_word(&format!("{}={value}", name(pending)))),
                Change::TakeBack => taken_back.push(name(pending)),
            }
        }
        (chosen, taken_back)
    }

    fn step(&mut self) {
        self.before.push(self.pending.clone());
        self.after.clear();
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::board::Switch;

    fn on(slate: &mut Slate, option: usize) {
        slate.put([(OptionId::new(option), Change::Choose(Value::Switch(Switch::On)))]);
    }

    #[test]
    fn each_option_is_changed_once_and_every_step_can_be_undone() {
        let mut slate = Slate::default();
        on(&mut slate, 1);
        on(&mut slate, 2);
        slate.because(OptionId::new(1), " a reason ");
        on(&mut slate, 1);
        assert_eq!(slate.pending().len(), 2);
        assert_eq!(slate.of(OptionId::new(1)).unwrap().reason.as_deref(), Some("a reason"));
        assert!(slate.drop(OptionId::new(2)) && !slate.drop(OptionId::new(2)));
        assert!(slate.undo());
        assert!(slate.of(OptionId::new(2)).is_some());
        assert!(slate.redo() && !slate.redo());
        assert!(slate.of(OptionId::new(2)).is_none());
    }

    proptest! {
        #[test]
        fn undoing_all_leads_back_and_redoing_all_leads_forth(acts in prop::collection::vec((0usize..4, 0usize..3), 0..30)) {
            let mut slate = Slate::default();
            for (option, act) in acts {
                match act {
                    0 => on(&mut slate, option),
                    1 => slate.put([(OptionId::new(option), Change::TakeBack)]),
                    _ => drop(slate.drop(OptionId::new(option))),
                }
            }
            let end = slate.pending().to_vec();
            while slate.undo() {}
            prop_assert!(slate.pending().is_empty());
            while slate.redo() {}
            prop_assert_eq!(slate.pending(), end.as_slice());
        }
    }
}
