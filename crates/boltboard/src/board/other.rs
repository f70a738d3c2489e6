//! Another profile beside ours: what it has otherwise, and taking that over.

use std::sync::Arc;

use boltboard_core::board::OptionId;
use boltboard_core::profile::ProfileName;
use boltboard_core::session::{Resolved, Session as Core};
use boltboard_core::slate::{Change, Item};

use super::afresh::resolved;
use super::model::{Mode, Model, Picking, Row};
use super::views::View;
use crate::commands::set::own_name;
use crate::fault::Stop;
use crate::render::text::count;

/// Another profile.
pub struct Other {
    pub name: ProfileName,
    pub resolved: Arc<Resolved>,
}

impl Other {
    /// Resolves another profile, with the facts of its own providers.
    pub fn of(session: &Core, name: ProfileName) -> Result<Other, Stop> {
        let choices = session.choices_of(&name).map_err(|fault| Stop::of(fault, Some(session)))?;
        Ok(Other { name, resolved: Arc::new(resolved(session, choices, None)?) })
    }
}

impl Model {
    /// Offers the other profiles.
    pub fn pick_other(&mut self) {
        let names = self.session.shelf.list().map(|all| all.into_keys().collect::<Vec<_>>()).unwrap_or_default();
        let others: Vec<String> =
            names.iter().filter(|name| **name != self.in_use && **name != self.own).map(ToString::to_string).collect();
        if others.is_empty() {
            self.said = "There is no other profile. boltboard profile new NAME makes one.".into();
        } else {
            self.mode = Mode::Pick { what: Picking::Profile, items: others, at: 0 };
        }
    }

    /// Lays another profile beside ours.
    pub fn lay_beside(&mut self, name: &str) {
        let other = ProfileName::parse(name)
            .ok_or_else(|| Stop::usage(format!("`{name}` is no name of a profile")))
            .and_then(|name| Other::of(&self.session, name));
        match other {
            Ok(other) => {
                let name = other.name.clone();
                self.other = Some(other);
                self.view = View::Other;
                self.words.clear();
                self.list();
                let differing = self.rows.iter().filter(|row| matches!(row, Row::Option(_))).count();
                if differing == 0 {
                    self.said = format!("{name} has the same values.");
                }
            }
            Err(stop) => self.said = stop.line(),
        }
    }

    /// Whether the other profile has another value.
    pub(super) fn differs(&self, option: OptionId) -> bool {
        let theirs = self.other.as_ref().map(|other| other.resolved.resolution.value(option));
        theirs.is_some_and(|theirs| theirs != self.now.resolution.value(option))
    }

    /// Takes over the value of the option under the cursor.
    pub fn take_over(&mut self) {
        let (Some(option), Some(other)) = (self.option(), &self.other) else {
            self.said = "First lay another profile beside this one (^O).".into();
            return;
        };
        let value = other.resolved.resolution.value(option).clone();
        self.change([Change::Choose(option, value)]);
    }

    /// Takes over what the other profile chooses of all that is listed; what follows from that is left to follow.
    pub fn take_all_over(&mut self) {
        let Some(other) = &self.other else {
            self.said = "First lay another profile beside this one (^O).".into();
            return;
        };
        let theirs = &other.resolved;
        let mut changes = Vec::new();
        for row in &self.rows {
            let Row::Option(option) = row else { continue };
            if !self.differs(*option) {
                continue;
            }
            if theirs.choices.get(*option).is_some() {
                changes.push(Change::Choose(*option, theirs.resolution.value(*option).clone()));
            } else if self.now.choices.get(*option).is_some() {
                changes.push(Change::TakeBack(Item::Option(*option)));
            }
        }
        if changes.is_empty() {
            self.said = "None of these is a choice there: take them over one by one (^X).".into();
            return;
        }
        let taken = changes.len();
        if self.change(changes) {
            let left = self.rows.iter().filter(|row| matches!(row, Row::Option(_))).count();
            self.said = match left {
                0 => format!("{} taken over; nothing differs any more.", count(taken, "choice", "choices")),
                left => format!("{} taken over; {left} still differ.", count(taken, "choice", "choices")),
            };
        }
    }

    /// Goes over to the other profile, with this one beside it, so that its values can be taken over there.
    pub fn change_sides(&mut self) {
        let Some(other) = self.other.take() else {
            self.said = "First lay another profile beside this one (^O).".into();
            return;
        };
        if !self.slate.pending().is_empty() {
            self.other = Some(other);
            self.said = "Keep the changes first (^K), or undo them.".into();
            return;
        }
        match own_name(&self.session, &other.name) {
            Ok(own) => {
                self.own = own;
                // What was undone belongs to the other side.
                self.slate.clear();
                let before = std::mem::replace(&mut self.in_use, other.name);
                let ours = std::mem::replace(&mut self.now, other.resolved);
                self.other = Some(Other { name: before, resolved: ours });
                self.marks.lacking = super::views::lacking(&self.session, &self.now);
                self.list();
                self.said = format!("Changes now go to {}.", self.own);
            }
            Err(stop) => self.said = stop.line(),
        }
    }
}
