//! Which options and needs are listed, and what their sections count.

use std::collections::{BTreeSet, HashMap};

use boltboard_core::board::{NeedId, OptionId, SectionId};
use boltboard_core::resolve::Origin;
use boltboard_core::session::Resolved;
use boltboard_core::survey::FactState;

use super::model::{Model, Row};
use crate::commands::options::found;
use crate::fault::Stop;
use crate::session::Session;

/// What is listed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum View {
    All,
    Changed,
    Blocked,
    New,
    /// What this host lacks, and the options that cannot be had because of that.
    Lacking,
    /// Needs, and who meets them.
    Needs,
    /// What another profile has otherwise.
    Other,
}

impl View {
    const ORDER: [View; 7] =
        [View::All, View::Changed, View::Blocked, View::New, View::Lacking, View::Needs, View::Other];

    /// What it is called.
    pub fn word(self) -> &'static str {
        match self {
            View::All => "all options",
            View::Changed => "changed",
            View::Blocked => "blocked",
            View::New => "new since the last build",
            View::Lacking => "lacking on this host",
            View::Needs => "needs",
            View::Other => "not as in",
        }
    }

    fn filter(self) -> Option<&'static str> {
        match self {
            View::Changed => Some("changed"),
            View::Blocked => Some("blocked"),
            View::New => Some("new"),
            View::All | View::Lacking | View::Needs | View::Other => None,
        }
    }
}

/// What is told of options apart from their values, found once for a board or a host.
#[derive(Debug, Default)]
pub struct Marks {
    /// Those that were not there at the last build.
    pub new: BTreeSet<OptionId>,
    /// Those that would be on if this host had what they need.
    pub lacking: BTreeSet<OptionId>,
}

impl Marks {
    /// Finds both.
    pub fn of(session: &Session, now: &Resolved) -> Marks {
        let new = found(session, now, &["new".to_string()]).unwrap_or_default().into_iter().collect();
        Marks { new, lacking: lacking(session, now) }
    }
}

/// The options that are off and have a rule that a lacking need keeps from holding.
pub fn lacking(session: &Session, now: &Resolved) -> BTreeSet<OptionId> {
    let board = &session.board;
    let rules = missing(now).into_iter().flat_map(|need| session.logic.rules_on(session.logic.need(need)));
    let unmet = rules.map(|rule| &board.rules[rule]).filter(|rule| !now.resolution.holds(&now.facts, &rule.must));
    unmet.map(|rule| rule.option).filter(|option| now.resolution.value(*option).is_off()).collect()
}

fn missing(now: &Resolved) -> Vec<NeedId> {
    let missing = now.facts.iter().filter(|fact| matches!(fact.state, FactState::Missing(_)));
    missing.map(|fact| fact.need).collect()
}

/// A section as the outline shows it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Entry {
    pub section: SectionId,
    pub depth: usize,
    /// How many of its options are listed.
    pub options: usize,
    pub chosen: usize,
    pub blocked: usize,
    pub new: usize,
    pub lacking: usize,
}

impl Model {
    /// The next view, or the one before. That of another profile is only there while one is looked at.
    pub fn turn_view(&mut self, is_back: bool) {
        let views: Vec<View> =
            View::ORDER.into_iter().filter(|view| *view != View::Other || self.other.is_some()).collect();
        let at = views.iter().position(|view| *view == self.view).unwrap_or(0);
        let step = if is_back { views.len() - 1 } else { 1 };
        self.view = views[(at + step) % views.len()];
        self.list();
    }

    /// The rows of the view, as words and filters narrow them.
    pub(super) fn rows_of_view(&self) -> Result<Vec<Row>, Stop> {
        let mut question: Vec<String> = self.words.split_whitespace().map(str::to_string).collect();
        question.extend(self.view.filter().map(str::to_string));
        let mut rows = Vec::new();
        if matches!(self.view, View::Lacking | View::Needs) {
            rows.extend(self.needs_listed().into_iter().map(Row::Need));
            if !rows.is_empty() {
                rows.insert(0, Row::Needs);
            }
        }
        if self.view == View::Needs {
            return Ok(rows);
        }
        let board = &self.session.board;
        let ranked = !self.words.trim().is_empty();
        let mut all = found(&self.session, &self.now, &question)?;
        match self.view {
            View::All if !ranked => all.retain(|option| board.options[*option].level <= self.level),
            View::Lacking => all.retain(|option| self.marks.lacking.contains(option)),
            View::Other => all.retain(|option| self.differs(*option)),
            View::All | View::Changed | View::Blocked | View::New | View::Needs => {}
        }
        let mut within: Option<SectionId> = None;
        for option in all {
            let section = board.options[option].section;
            if !ranked && within != Some(section) {
                rows.push(Row::Section(section));
                within = Some(section);
            }
            rows.push(Row::Option(option));
        }
        Ok(rows)
    }

    fn needs_listed(&self) -> Vec<NeedId> {
        let board = &self.session.board;
        let words = self.words.to_lowercase();
        let fits = |need: &NeedId| {
            let text = format!("{} {}", board.needs[*need].name, board.needs[*need].summary).to_lowercase();
            words.split_whitespace().all(|word| text.contains(word))
        };
        let missing = missing(&self.now);
        let mut needs: Vec<NeedId> = board.needs.ids().filter(fits).collect();
        if self.view == View::Lacking {
            needs.retain(|need| missing.contains(need));
        }
        // What is lacking is what people come for.
        needs.sort_by_key(|need| !missing.contains(need));
        needs
    }

    /// The sections of what is listed, in the order in which they come.
    pub(super) fn outlined(&self) -> Vec<Entry> {
        let board = &self.session.board;
        let mut entries: Vec<Entry> = Vec::new();
        let mut places: HashMap<SectionId, usize> = HashMap::new();
        for row in &self.rows {
            let Row::Option(option) = row else { continue };
            let section = board.options[*option].section;
            let at = *places.entry(section).or_insert_with(|| {
                let depth = board.section_path(section).len().saturating_sub(1);
                entries.push(Entry { section, depth, options: 0, chosen: 0, blocked: 0, new: 0, lacking: 0 });
                entries.len() - 1
            });
            let entry = &mut entries[at];
            let origin = &self.now.resolution.get(*option).origin;
            entry.options += 1;
            entry.chosen += usize::from(matches!(origin, Origin::Chosen));
            entry.blocked += usize::from(matches!(origin, Origin::Blocked { .. }));
            entry.new += usize::from(self.marks.new.contains(option));
            entry.lacking += usize::from(self.marks.lacking.contains(option));
        }
        entries
    }

    /// Moves to the next section of the outline, or the one before.
    pub fn turn_section(&mut self, by: isize) {
        let here = self.entry_here().unwrap_or(0);
        let to = here.saturating_add_signed(by).min(self.outline.len().saturating_sub(1));
        if let Some(section) = self.outline.get(to).map(|entry| entry.section) {
            self.go_to_section(section);
        }
    }

    /// Puts the cursor on the first option of a section.
    pub fn go_to_section(&mut self, section: SectionId) {
        let board = &self.session.board;
        let own = |row: &Row| matches!(row, Row::Option(option) if board.options[*option].section == section);
        if let Some(at) = self.rows.iter().position(own) {
            self.put_at(at);
            // The section is in sight as a whole, as far as there is room.
            self.top = at.saturating_sub(1);
        }
    }

    /// Where the option under the cursor lies in the outline.
    pub fn entry_here(&self) -> Option<usize> {
        let section = self.session.board.options[self.option()?].section;
        self.outline.iter().position(|entry| entry.section == section)
    }
}
