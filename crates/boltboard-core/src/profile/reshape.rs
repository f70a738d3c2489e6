//! The same choices in other files: without layers (`flatten`), or with what several profiles have in common in a layer of their own (`factor`).

use std::collections::BTreeMap;
use std::path::Path;

use super::choices::{Choices, LayerId, ProfileSource};
use super::document::{CHOOSE, PROVIDERS};
use super::draft::{Draft, OtherProfile, say_the_same, sorts_of_changes};
use super::fault::WrongProfile;
use super::file::ProfileName;
use super::shelf::Shelf;
use crate::base::FileError;
use crate::board::{Board, NeedId, OptionId};

/// Why profiles cannot be put together anew.
#[derive(Debug, thiserror::Error)]
pub enum ReshapeFault {
    /// A profile is wrong.
    #[error(transparent)]
    Profile(#[from] WrongProfile),
    /// A file cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// A profile that would have to be written is the tree's.
    #[error("the profile {0} is shipped with the tree and is not written to")]
    NotOwn(ProfileName),
    /// One file cannot say in which order changes to the sources come.
    #[error(
        "the profile {0} replaces files above patches of a layer below; one file replaces files before it applies patches"
    )]
    Order(ProfileName),
    /// There is nothing that profiles have in common beyond what their layers say.
    #[error("these profiles have no choices in common")]
    NothingShared,
    /// What comes out does not say the same.
    #[error("the profile {0} would not say the same any more")]
    NotTheSame(ProfileName),
}

/// Profiles that share a new layer.
#[derive(Debug)]
pub struct Factored {
    /// The new layer.
    pub shared: Draft,
    /// The profiles, rewritten.
    pub profiles: Vec<Draft>,
    /// Options that the new layer chooses.
    pub options: Vec<OptionId>,
    /// Needs for which it says who is to meet them.
    pub providers: Vec<NeedId>,
    /// How many entries are gone from the profiles' own files.
    pub moved: usize,
}

impl Factored {
    /// The texts of all files, as they would be saved.
    pub fn texts(&self) -> BTreeMap<ProfileName, String> {
        self.profiles.iter().chain([&self.shared]).map(|draft| (draft.name.clone(), draft.text())).collect()
    }
}

/// Which layers a profile stays based on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Layers {
    /// None: all that they say is in its own file.
    None,
    /// Those that the tree ships.
    Shipped,
}

impl Shelf {
    /// The file of a layer.
    pub(super) fn origin(&self, choices: &Choices, layer: LayerId) -> Result<OtherProfile, FileError> {
        let name = ProfileName::parse(&choices.layers[layer].name);
        match name.and_then(|name| self.find(&name)) {
            Some((path, _)) => OtherProfile::open(&path),
            None => OtherProfile::open(std::path::Path::new("")),
        }
    }

    /// Puts all that a profile and its layers say into one file, that of `to`, with the comments that stand beside the choices. What came
    /// from a layer follows what the profile says itself, under the layer's name.
    ///
    /// # Errors
    /// See [`ReshapeFault`].
    pub fn flatten(&self, name: &ProfileName, to: &ProfileName, board: &Board) -> Result<Draft, ReshapeFault> {
        let choices = self.read(name, board)?;
        self.together(name, &choices, (to, &self.own_path(to)), Layers::None, board)
    }

    /// The same for a file that lies anywhere, which may stay based on what the tree ships. The choices may have others on top, given for once.
    ///
    /// # Errors
    /// See [`ReshapeFault`].
    pub fn on_its_own(
        &self,
        name: &ProfileName,
        choices: &Choices,
        path: &Path,
        keep: Layers,
        board: &Board,
    ) -> Result<Draft, ReshapeFault> {
        let to = ProfileName::of_file(path).unwrap_or_else(|| name.clone());
        self.together(name, choices, (&to, path), keep, board)
    }

    fn together(
        &self,
        name: &ProfileName,
        choices: &Choices,
        (to, path): (&ProfileName, &Path),
        keep: Layers,
        board: &Board,
    ) -> Result<Draft, ReshapeFault> {
        let kept = |layer: LayerId| match keep {
            Layers::None => false,
            Layers::Shipped => choices.layers[layer].source == ProfileSource::Shipped,
        };
        let own = choices.layers.iter().find(|(_, layer)| layer.name == name.as_str()).map(|(layer, _)| layer);
        let own = own.filter(|layer| !kept(*layer));
        let mut draft = match self.find(name) {
            Some((from, _)) if own.is_some() => Draft::of_file(to, path, &from)?,
            _ => Draft::new(to, path, board),
        };
        let base = choices.layers.iter().filter(|(layer, _)| kept(*layer));
        let base: Vec<ProfileName> = base.filter_map(|(_, layer)| ProfileName::parse(&layer.name)).collect();
        draft.set_base(&base);
        for (layer, known) in choices.own_layers().filter(|(layer, _)| Some(*layer) != own && !kept(*layer)) {
            let origin = self.origin(choices, layer)?;
            let remark = format!("from {}", known.name);
            let before = draft.names(CHOOSE).len();
            choices.items.iter().filter(|c| c.layer == layer).for_each(|c| draft.choose(board, c, Some(&origin)));
            draft.remark(CHOOSE, before, &remark);
            let before = draft.names(PROVIDERS).len();
            for (need, chosen) in choices.providers.iter().filter(|(_, chosen)| chosen.layer == layer) {
                draft.provide(board, &board.needs[*need].name, chosen, Some(&origin));
            }
            draft.remark(PROVIDERS, before, &remark);
            draft.only_with(&origin);
        }
        let foreign = |layer: LayerId| Some(layer) != own && !kept(layer);
        if choices.changes.iter().any(|change| foreign(change.layer)) {
            draft.drop_changes();
            choices.changes.iter().filter(|change| !kept(change.layer)).for_each(|change| draft.carry(change));
        }
        let after = self.read_drafts(to, &[&draft], board)?;
        match (say_the_same(choices, &after), sorts_of_changes(choices) == sorts_of_changes(&after)) {
            (true, _) => Ok(draft),
            (false, false) => Err(ReshapeFault::Order(name.clone())),
            (false, true) => Err(ReshapeFault::NotTheSame(name.clone())),
        }
    }

    /// Reads a profile as if drafts were saved.
    pub(super) fn read_drafts(
        &self,
        name: &ProfileName,
        drafts: &[&Draft],
        board: &Board,
    ) -> Result<Choices, ReshapeFault> {
        let texts = drafts.iter().map(|draft| (draft.name.clone(), draft.text())).collect();
        Ok(self.read_with(name, &texts, board)?)
    }

    /// Pulls what several profiles of a person's own choose alike into a new layer `to`, strongest of those that they are based on. What
    /// they say stays the same. An entry with other words beside it than the first one's stays where it is as well.
    ///
    /// # Errors
    /// See [`ReshapeFault`].
    pub fn factor(&self, names: &[ProfileName], to: &ProfileName, board: &Board) -> Result<Factored, ReshapeFault> {
        let mut read = Vec::new();
        for name in names {
            let choices = self.read(name, board)?;
            let Some((path, ProfileSource::Own)) = self.find(name) else {
                return Err(ReshapeFault::NotOwn(name.clone()));
            };
            read.push((name, choices, OtherProfile::open(&path)?, path));
        }
        let Some((_, first, ..)) = read.first() else { return Err(ReshapeFault::NothingShared) };
        let all = |same: &dyn Fn(&Choices) -> bool| read.iter().all(|(_, choices, ..)| same(choices));
        // Who says it first lends the words; what only one says in its own file need not move.
        let tellers = |table: &str, name: &str| {
            let mut tellers = read.iter().filter(|(_, _, other, _)| other.has(table, name));
            let first = tellers.next();
            first.filter(|_| tellers.next().is_some())
        };
        let mut shared = Draft::new(to, &self.own_path(to), board);
        let (mut options, mut providers) = (Vec::new(), Vec::new());
        for choice in &first.items {
            let (option, name) = (choice.option, &board.options[choice.option].name);
            let alike = all(&|choices| choices.get(option).is_some_and(|one| one.value == choice.value));
            let teller = tellers(CHOOSE, name).filter(|_| alike);
            if let Some((choice, other)) = teller.and_then(|(_, choices, other, _)| Some((choices.get(option)?, other)))
            {
                shared.choose(board, choice, Some(other));
                options.push(option);
            }
        }
        for (need, chosen) in &first.providers {
            let name = &board.needs[*need].name;
            let alike = all(&|choices| choices.providers.get(need).is_some_and(|one| one.provider == chosen.provider));
            let teller = tellers(PROVIDERS, name).filter(|_| alike);
            if let Some((one, other)) =
                teller.and_then(|(_, choices, other, _)| Some((choices.providers.get(need)?, other)))
            {
                shared.provide(board, name, one, Some(other));
                providers.push(*need);
            }
        }
        if options.is_empty() && providers.is_empty() {
            return Err(ReshapeFault::NothingShared);
        }
        let (mut profiles, mut moved) = (Vec::new(), 0);
        let kept = OtherProfile::of(&shared);
        for (name, _, origin, path) in &read {
            let mut draft = Draft::of_file(name, path, path)?;
            let mut base = draft.base();
            base.push(to.clone());
            draft.set_base(&base);
            let entries = options.iter().map(|option| (CHOOSE, &board.options[*option].name));
            let entries = entries.chain(providers.iter().map(|need| (PROVIDERS, &board.needs[*need].name)));
            for (table, entry) in entries.filter(|(table, entry)| origin.has(table, entry)) {
                let (words, reason) = origin.words(table, entry);
                let (kept_words, kept_reason) = kept.words(table, entry);
                if (words.is_empty() || words == kept_words) && (reason.is_none() || reason == kept_reason) {
                    draft.drop_entry(table, entry);
                    moved += 1;
                }
            }
            profiles.push(draft);
        }
        for (name, before, ..) in &read {
            let drafts: Vec<&Draft> = profiles.iter().chain([&shared]).collect();
            if !say_the_same(before, &self.read_drafts(name, &drafts, board)?) {
                return Err(ReshapeFault::NotTheSame((*name).clone()));
            }
        }
        Ok(Factored { shared, profiles, options, providers, moved })
    }
}
