//! Two profiles that came from one are put together again.
//!
//! What only one of them changed is taken; what both changed alike, too. Where both changed the same thing to something else, a person says
//! what is to be: no rule knows which of two intentions counts.

use std::collections::{BTreeMap, BTreeSet};

use super::choices::{ChangeSort, Choice, Choices, ProviderChoice, SourceChange};
use super::document::{CHOOSE, PROVIDERS};
use super::draft::{Draft, OtherProfile, say_the_same};
use super::file::ProfileName;
use super::reshape::ReshapeFault;
use super::shelf::Shelf;
use crate::base::Digest;
use crate::board::{Board, NEED_PREFIX, NeedId, OptionId, Provider, Value};

/// One of the three profiles.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum From3 {
    /// The one that the others came from.
    Base,
    /// The first that came from it.
    Left,
    /// The second.
    Right,
}

/// What a profile says something about.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Subject {
    /// An option's value.
    Option(OptionId),
    /// Who meets a need.
    Need(NeedId),
    /// A change to the sources, by its name.
    Change(String),
}

impl Subject {
    /// How a person names it.
    pub fn name(&self, board: &Board) -> String {
        match self {
            Subject::Option(option) => board.options[*option].name.clone(),
            Subject::Need(need) => format!("{NEED_PREFIX}{}", board.needs[*need].name),
            Subject::Change(name) => format!("{}{name}", super::choices::CHANGE_PREFIX),
        }
    }
}

/// What one profile says about a subject.
#[derive(Debug, Clone, PartialEq)]
pub struct Said {
    /// The value, as a person types it; of a change, a digest of its file.
    pub text: String,
    /// Why.
    pub reason: Option<String>,
}

/// What came of one subject.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Join {
    /// Only the left side changed it.
    Left,
    /// Only the right side changed it.
    Right,
    /// Both changed it, to the same.
    Alike,
    /// Both changed it, to something else each; a person said what is to be.
    Settled,
    /// The same, and nobody said.
    Clash,
}

/// A subject that not all three say the same about.
#[derive(Debug, Clone)]
pub struct Joined {
    /// The subject.
    pub subject: Subject,
    /// What each profile says, from base to right; `None` where it says nothing.
    pub said: [Option<Said>; 3],
    /// What came of it.
    pub join: Join,
}

/// What a person says about clashes.
#[derive(Debug, Clone, Default)]
pub struct MergeAsk {
    /// The side that counts where nothing else is said.
    pub prefer: Option<From3>,
    /// Values for options.
    pub values: BTreeMap<OptionId, Value>,
    /// Who is to meet needs.
    pub providers: BTreeMap<NeedId, Provider>,
    /// What is not to be chosen at all.
    pub leave: BTreeSet<Subject>,
}

/// What comes of a merge.
#[derive(Debug)]
pub struct Merged {
    /// All subjects that not all three say the same about, in the order of options, needs and changes.
    pub joined: Vec<Joined>,
    /// The new profile; `None` while there are clashes.
    pub draft: Option<Draft>,
    /// What it says.
    pub choices: Choices,
}

impl Merged {
    /// The subjects that a person has to decide about.
    pub fn clashes(&self) -> impl Iterator<Item = &Joined> {
        self.joined.iter().filter(|joined| joined.join == Join::Clash)
    }
}

/// Which of three counts, by what is equal.
fn join<T: PartialEq>(base: Option<&T>, left: Option<&T>, right: Option<&T>) -> Option<Join> {
    match (base == left, base == right, left == right) {
        (true, true, _) => None,
        (false, false, true) => Some(Join::Alike),
        (false, true, _) => Some(Join::Left),
        (true, false, _) => Some(Join::Right),
        (false, false, false) => Some(Join::Clash),
    }
}

impl MergeAsk {
    fn settles(&self, subject: &Subject) -> bool {
        self.prefer.is_some()
            || self.leave.contains(subject)
            || match subject {
                Subject::Option(option) => self.values.contains_key(option),
                Subject::Need(need) => self.providers.contains_key(need),
                Subject::Change(_) => false,
            }
    }

    /// What is taken: that of the left or right side, or of neither.
    fn pick<'a, T>(&self, subject: &Subject, join: Option<Join>, sides: [Option<&'a T>; 3]) -> Option<&'a T> {
        let [base, left, right] = sides;
        match join {
            None | Some(Join::Left | Join::Alike) => left,
            Some(Join::Right) => right,
            _ if self.leave.contains(subject) => None,
            Some(Join::Settled | Join::Clash) => match self.prefer {
                Some(From3::Left) | None => left,
                Some(From3::Right) => right,
                Some(From3::Base) => base,
            },
        }
    }
}

/// A change as it is told from others.
fn change_text(change: &SourceChange) -> String {
    std::fs::read(&change.file).map_or_else(|_| String::new(), |bytes| Digest::of(&bytes).to_string())
}

impl Shelf {
    /// Puts two profiles together that came from a third. The result is `to`, begun with the left one's file, its comments and order.
    ///
    /// # Errors
    /// See [`ReshapeFault`].
    pub fn merge(
        &self,
        names: [&ProfileName; 3],
        to: &ProfileName,
        wanted: &MergeAsk,
        board: &Board,
    ) -> Result<Merged, ReshapeFault> {
        let three = [self.read(names[0], board)?, self.read(names[1], board)?, self.read(names[2], board)?];
        let mut merge = Merge { board, three: &three, wanted, joined: Vec::new(), result: Choices::default() };
        merge.options();
        merge.needs();
        merge.changes();
        let Merge { joined, result, .. } = merge;
        let mut merged = Merged { joined, draft: None, choices: result };
        if merged.clashes().next().is_none() {
            let draft = self.write_merged(names, &three, to, &merged.choices, board)?;
            merged.choices = self.read_drafts(to, &[&draft], board)?;
            merged.draft = Some(draft);
        }
        Ok(merged)
    }

    fn write_merged(
        &self,
        names: [&ProfileName; 3],
        three: &[Choices; 3],
        to: &ProfileName,
        result: &Choices,
        board: &Board,
    ) -> Result<Draft, ReshapeFault> {
        let file = |name: &ProfileName| self.find(name).map(|(path, _)| path).unwrap_or_default();
        let base_of = |name| Draft::of_file(to, &self.own_path(to), &file(name)).map(|draft| draft.base());
        let (left, right) = (base_of(names[1])?, base_of(names[2])?);
        let shared: Vec<ProfileName> = left.iter().filter(|name| right.contains(name)).cloned().collect();
        // What is written never depends on more than both are based on.
        for base in [if left == right { left } else { shared }, Vec::new()] {
            let mut under = Draft::new(to, &self.own_path(to), board);
            under.set_base(&base);
            let under = self.read_drafts(to, &[&under], board)?;
            let mut draft = Draft::of_file(to, &self.own_path(to), &file(names[1]))?;
            draft.set_base(&base);
            self.write_on(&mut draft, &under, three, result, board)?;
            if say_the_same(&self.read_drafts(to, &[&draft], board)?, result) {
                return Ok(draft);
            }
        }
        Err(ReshapeFault::NotTheSame(to.clone()))
    }

    /// Writes what is wanted into a file that begins as that of the left side, where what lies under it does not say it already.
    fn write_on(
        &self,
        draft: &mut Draft,
        under: &Choices,
        three: &[Choices; 3],
        result: &Choices,
        board: &Board,
    ) -> Result<(), ReshapeFault> {
        // Both layers of a side and the side itself may have said it; words around it come from where it is said.
        let origin_of = |side: usize, layer| self.origin(&three[side], layer);
        for name in draft.names(CHOOSE) {
            if board.option(&name).is_none_or(|option| result.get(option).is_none()) {
                draft.drop_entry(CHOOSE, &name);
            }
        }
        for name in draft.names(PROVIDERS) {
            if board.need(&name).is_none_or(|need| !result.providers.contains_key(&need)) {
                draft.drop_entry(PROVIDERS, &name);
            }
        }
        for choice in &result.items {
            let here = draft.names(CHOOSE).contains(&board.options[choice.option].name);
            let below = under.get(choice.option).is_some_and(|one| one.value == choice.value);
            if here || !below {
                let from = [1, 2, 0]
                    .into_iter()
                    .find(|side| three[*side].get(choice.option).is_some_and(|one| one.value == choice.value));
                let origin = from.and_then(|side| Some((side, three[side].get(choice.option)?.layer)));
                let origin = origin.map(|(side, layer)| origin_of(side, layer)).transpose()?;
                draft.choose(board, choice, origin.as_ref());
            }
        }
        for (need, chosen) in &result.providers {
            let name = &board.needs[*need].name;
            let here = draft.names(PROVIDERS).contains(name);
            if here || under.providers.get(need).is_none_or(|one| one.provider != chosen.provider) {
                draft.provide(board, name, chosen, None::<&OtherProfile>);
            }
        }
        draft.drop_changes();
        let below =
            |change: &SourceChange| under.changes.iter().any(|one| one.name == change.name && one.sort == change.sort);
        result.changes.iter().filter(|change| !below(change)).for_each(|change| draft.carry(change));
        Ok(())
    }
}

struct Merge<'a> {
    board: &'a Board,
    three: &'a [Choices; 3],
    wanted: &'a MergeAsk,
    joined: Vec<Joined>,
    result: Choices,
}

impl Merge<'_> {
    /// Takes down what came of a subject, and returns that.
    fn note(&mut self, subject: &Subject, said: [Option<Said>; 3]) -> Option<Join> {
        let text = |at: usize| said[at].as_ref().map(|said| &said.text);
        let mut join = join(text(0), text(1), text(2))?;
        if join == Join::Clash && self.wanted.settles(subject) {
            join = Join::Settled;
        }
        self.joined.push(Joined { subject: subject.clone(), said, join });
        Some(join)
    }

    fn options(&mut self) {
        let options: BTreeSet<OptionId> = self.three.iter().flat_map(|c| c.items.iter().map(|c| c.option)).collect();
        for option in options {
            let subject = Subject::Option(option);
            let sides: [Option<&Choice>; 3] = [0, 1, 2].map(|at| self.three[at].get(option));
            let said = sides.map(|side| side.map(|c| Said { text: c.value.to_string(), reason: c.reason.clone() }));
            let join = self.note(&subject, said);
            let mut picked = self.wanted.pick(&subject, join, sides).cloned();
            // Where the value stayed, the right side may still have said why.
            if let ([base, Some(left), Some(right)], None | Some(Join::Alike), Some(picked)) =
                (sides, join, &mut picked)
                && left.reason.as_ref() == base.and_then(|base| base.reason.as_ref())
            {
                picked.reason.clone_from(&right.reason);
            }
            match (join, self.wanted.values.get(&option)) {
                (Some(Join::Settled), Some(value)) => {
                    // The reason goes with the side that gave this value.
                    let told = sides[1..].iter().flatten().find(|choice| choice.value == *value);
                    let like = told.copied().or(sides[1]).or(sides[2]).or(sides[0]);
                    self.result.items.extend(like.map(|choice| Choice {
                        value: value.clone(),
                        reason: told.and_then(|choice| choice.reason.clone()),
                        ..choice.clone()
                    }));
                }
                _ => self.result.items.extend(picked),
            }
        }
    }

    fn needs(&mut self) {
        let needs: BTreeSet<NeedId> = self.three.iter().flat_map(|c| c.providers.keys().copied()).collect();
        for need in needs {
            let subject = Subject::Need(need);
            let sides: [Option<&ProviderChoice>; 3] = [0, 1, 2].map(|at| self.three[at].providers.get(&need));
            let said = sides.map(|side| {
                side.map(|chosen| Said { text: chosen.provider.text(self.board), reason: chosen.reason.clone() })
            });
            let join = self.note(&subject, said);
            let picked = self.wanted.pick(&subject, join, sides).cloned();
            let settled = self.wanted.providers.get(&need).filter(|_| join == Some(Join::Settled));
            let like = sides[1].or(sides[2]).or(sides[0]);
            let result = match (settled, like) {
                (Some(provider), Some(like)) => {
                    Some(ProviderChoice { provider: provider.clone(), reason: None, ..like.clone() })
                }
                _ => picked,
            };
            self.result.providers.extend(result.map(|chosen| (need, chosen)));
        }
    }

    /// Changes stay in the order of the left side; those of the right side alone come after them.
    fn changes(&mut self) {
        let mut seen: Vec<(ChangeSort, &str)> = Vec::new();
        for change in self.three[1].changes.iter().chain(&self.three[2].changes).chain(&self.three[0].changes) {
            let key = (change.sort.clone(), change.name.as_str());
            if !seen.contains(&key) {
                seen.push(key);
            }
        }
        for (sort, name) in seen {
            let subject = Subject::Change(name.to_string());
            let sides: [Option<&SourceChange>; 3] =
                [0, 1, 2].map(|at| self.three[at].changes.iter().find(|one| one.sort == sort && one.name == name));
            let said = sides.map(|side| side.map(|one| Said { text: change_text(one), reason: one.reason.clone() }));
            let join = self.note(&subject, said);
            self.result.changes.extend(self.wanted.pick(&subject, join, sides).cloned());
        }
    }
}
