//! Two at once: what changes under the running board is seen, said and taken in, and the slate is carried over.

use std::path::PathBuf;
use std::sync::Arc;

use boltboard_core::profile::{Choices, ProfileName};
use boltboard_core::session::{Resolved, Session as Core};
use boltboard_core::slate::facts_of;
use boltboard_core::work::Stamp;

use super::model::{Mode, Model};
use super::other::Other;
use super::views::{Marks, View};
use crate::args::Global;
use crate::commands::set::own_name;
use crate::fault::Stop;
use crate::render::Screen;
use crate::session::Session;

/// The files that the board was read from, as they were then.
#[derive(Default)]
pub struct Seen(Vec<(PathBuf, Option<Stamp>)>);

impl Seen {
    /// Looks at the definitions and at the profile in use.
    pub fn of(model: &Model) -> Seen {
        let (session, board) = (&model.session, &model.session.board);
        let mut files: Vec<PathBuf> = board.files.names().map(|name| board.tree.board_root.join(name)).collect();
        for profile in [&model.in_use, &model.own] {
            files.extend(session.shelf.places(profile));
        }
        for (_, layer) in model.now.choices.layers.iter() {
            files.extend(ProfileName::parse(&layer.name).iter().flat_map(|name| session.shelf.places(name)));
        }
        files.sort();
        files.dedup();
        Seen(files.into_iter().map(|file| (Stamp::of(&file), file)).map(|(stamp, file)| (file, stamp)).collect())
    }

    /// The files that are not as they were.
    pub fn changed(&self) -> Vec<String> {
        let changed = self.0.iter().filter(|(file, stamp)| Stamp::of(file) != *stamp);
        changed.map(|(file, _)| file.file_name().unwrap_or(file.as_os_str()).to_string_lossy().into_owned()).collect()
    }
}

/// What is told of changes that no longer fit.
pub fn lost_words(lost: &[String]) -> String {
    if lost.is_empty() { String::new() } else { format!("No longer fits: {}.", lost.join(", ")) }
}

impl Model {
    /// Takes in what changed beside the board, if anything did; returns whether something did.
    pub fn look_beside(&mut self, global: &Global, screen: &Screen) -> bool {
        let changed = self.seen.changed();
        if changed.is_empty() {
            return false;
        }
        let names = changed.join(", ");
        self.said = match self.reopen(global, screen) {
            Ok(lost) => {
                let said = format!("{names} changed beside the board, and is taken in. {}", lost_words(&lost));
                said.trim_end().to_string()
            }
            Err(stop) => {
                // The same state is not tried again until it changes once more.
                self.seen = Seen::of(self);
                format!(
                    "{names} changed beside the board and cannot be read; what was read before stands. {}",
                    stop.line()
                )
            }
        };
        self.is_stale = true;
        true
    }

    /// Reads everything anew; the slate is carried over. Returns the changes that no longer fit, by their words.
    ///
    /// # Errors
    /// It cannot be read; everything is as it was.
    pub fn reopen(&mut self, global: &Global, screen: &Screen) -> Result<Vec<String>, Stop> {
        let mut session = Session::open(global, screen)?;
        // Another command may have put another profile in use; the board goes on with its own.
        if session.source_of(&self.in_use)?.is_some() {
            session.profile = self.in_use.clone();
        }
        self.take_in(session)
    }

    /// Goes on with a session that was opened anew, with the profile that it has in use.
    ///
    /// # Errors
    /// Its profile cannot be resolved; everything is as it was.
    pub(super) fn take_in(&mut self, session: Session) -> Result<Vec<String>, Stop> {
        let in_use = session.profile.clone();
        let own = own_name(&session, &in_use)?;
        let (slate, mut lost) = self.slate.carried(&self.session.board, &session.board);
        let before = (
            std::mem::replace(&mut self.session, Arc::new(session)),
            std::mem::replace(&mut self.in_use, in_use),
            std::mem::replace(&mut self.own, own),
            std::mem::replace(&mut self.slate, slate),
        );
        let tried = self.resolve_slate(None).or_else(|_| {
            // Each fits by itself, and not together with what is there now.
            let (chosen, taken_back) = self.slate.words(&self.session.board);
            lost.extend(chosen.into_iter().chain(taken_back));
            self.slate.clear();
            self.resolve_slate(None)
        });
        match tried {
            Ok(now) => self.now = Arc::new(now),
            Err(stop) => {
                (self.session, self.in_use, self.own, self.slate) = before;
                return Err(stop);
            }
        }
        let here = self.item().map(|item| item.name(&before.0.board));
        // What is open names options of the board that was.
        if matches!(self.mode, Mode::Why(_) | Mode::Ways { .. } | Mode::Write { .. } | Mode::Words { .. }) {
            self.mode = Mode::Choose;
        }
        let beside = self.other.take().map(|other| other.name);
        self.other = beside.and_then(|name| Other::of(&self.session, name).ok());
        if self.view == View::Other && self.other.is_none() {
            self.view = View::All;
        }
        self.rows.clear();
        self.marks = Marks::of(&self.session, &self.now);
        self.seen = Seen::of(self);
        self.slate_price = None;
        self.list();
        if let Some(option) = here.and_then(|name| self.session.board.option(&name)) {
            self.go_to(option);
        }
        Ok(lost)
    }

    /// Resolves the profile with the slate, and prints nothing. Facts of `since` are used where they hold; without it, all is asked.
    pub(super) fn resolve_slate(&self, since: Option<&Resolved>) -> Result<Resolved, Stop> {
        let choices = self.session.choices_as(&self.own, &self.text()?)?;
        resolved(&self.session, choices, since)
    }
}

/// Resolves choices, and prints nothing.
pub(super) fn resolved(session: &Core, choices: Choices, since: Option<&Resolved>) -> Result<Resolved, Stop> {
    let told = |fault| Stop::of(fault, Some(session));
    let facts = match since {
        Some(since) => facts_of(session, since, &choices),
        None => session.facts(&choices),
    };
    let facts = facts.map_err(told)?;
    session.resolve(choices, facts).map_err(told)
}
