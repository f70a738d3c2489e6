//! Changes: tried on the slate, taken back, and kept in the profile.

use std::sync::Arc;

use boltboard_core::base::shell_word;
use boltboard_core::profile::{ProfileFile, ProfileName};
use boltboard_core::resolve::Origin;
use boltboard_core::slate::{Change, Item, Slate};

use super::afresh::{Seen, lost_words};
use super::model::Model;
use super::views::lacking;
use crate::args::Global;
use crate::commands::set::own_profile;
use crate::fault::Stop;
use crate::render::Screen;
use crate::render::text::count;
use crate::session::Session;

impl Model {
    /// Puts changes on the slate, if what comes out can hold; returns whether it can.
    pub fn change(&mut self, changes: impl IntoIterator<Item = Change>) -> bool {
        let before = self.slate.clone();
        self.slate.put(changes);
        self.settle(before)
    }

    /// Takes back the choice of what is under the cursor.
    pub fn take_back(&mut self) {
        let Some(item) = self.item() else { return };
        let before = self.slate.clone();
        if !self.slate.drop(item) {
            let is_chosen = match item {
                Item::Option(option) => matches!(self.now.resolution.get(option).origin, Origin::Chosen),
                Item::Need(need) => self.now.choices.providers.contains_key(&need),
            };
            if !is_chosen {
                self.said = "Nobody chose it.".into();
                return;
            }
            self.slate.put([Change::TakeBack(item)]);
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

    /// Says why what is under the cursor is changed.
    pub fn because(&mut self, reason: &str) {
        if let Some(item) = self.item() {
            self.slate.because(item, reason);
            self.is_stale = true;
        }
    }

    /// Resolves with the slate; a slate that cannot hold is as it was before.
    fn settle(&mut self, before: Slate) -> bool {
        match self.resolve_slate(Some(&self.now)) {
            Ok(now) => {
                self.now = Arc::new(now);
                self.marks.lacking = lacking(&self.session, &self.now);
                self.slate_price = None;
                self.said.clear();
                self.list();
                true
            }
            Err(stop) => {
                self.slate = before;
                self.said = stop.line();
                self.is_stale = true;
                false
            }
        }
    }

    /// What the profile's file would hold.
    pub(super) fn text(&self) -> Result<String, Stop> {
        let mut file = self.file()?;
        self.slate.write(&self.session.board, &mut file);
        Ok(file.text())
    }

    fn file(&self) -> Result<ProfileFile, Stop> {
        let (own, in_use) = (&self.own, &self.in_use);
        let path = self.session.shelf.own_path(own);
        let base: Vec<ProfileName> = (own != in_use).then(|| in_use.clone()).into_iter().collect();
        Ok(ProfileFile::open(&path)?.unwrap_or_else(|| ProfileFile::new(&path, &self.session.board.tree, &base)))
    }

    /// Keeps the slate in the profile.
    pub fn keep(&mut self, global: &Global, screen: &Screen) -> Result<String, Stop> {
        let changes = self.slate.pending().len();
        if changes == 0 {
            return Ok("Nothing is changed.".into());
        }
        let mut session = Session::open(global, screen)?;
        session.profile = self.in_use.clone();
        session.prepare_work()?;
        own_profile(&mut session, screen)?;
        let lost = self.take_in(session)?;
        let mut file = self.file()?;
        self.slate.write(&self.session.board, &mut file);
        file.save()?;
        let kept = self.slate.pending().len();
        self.slate.clear();
        self.seen = Seen::of(self);
        self.list();
        let said =
            format!("Kept {} in the profile {}. {}", count(kept, "change", "changes"), self.own, lost_words(&lost));
        Ok(said.trim_end().to_string())
    }

    /// Tells how something ended.
    pub fn told(&mut self, result: Result<String, Stop>) {
        self.said = result.unwrap_or_else(|stop| stop.line());
        self.is_stale = true;
    }

    /// The command lines that do what the slate does.
    pub fn command_lines(&self) -> Vec<String> {
        let (chosen, taken_back) = self.slate.words(&self.session.board);
        let profile = self.profile_named().map_or(String::new(), |name| format!("--profile {} ", shell_word(&name)));
        let mut lines = Vec::new();
        if !chosen.is_empty() {
            lines.push(format!("boltboard set {profile}{}", chosen.join(" ")));
        }
        if !taken_back.is_empty() {
            lines.push(format!("boltboard unset {profile}{}", taken_back.join(" ")));
        }
        lines
    }

    /// The profile that a command has to be told so that it is about what the board shows.
    fn profile_named(&self) -> Option<String> {
        if self.in_use == self.opened { self.session.global.profile.clone() } else { Some(self.in_use.to_string()) }
    }

    /// What commands go by that are run from the board.
    pub fn global_aside(&self) -> Global {
        Global { profile: self.profile_named(), ..self.session.global.clone() }
    }
}
