//! What people chose, in layers: the values that count, who meets needs, changes to the sources.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::only_with::OnlyWith;
use crate::base::web::Address;
use crate::base::{Arena, Id, Place, RelPath, SourceFiles};
use crate::board::{Asked, Board, KIT_FILE, NeedId, OptionId, Provider, TryFault, Value};

/// One set of choices, weaker than those that come after it.
#[derive(Debug, Clone)]
pub struct Layer {
    /// Its name as people see it.
    pub name: String,
    /// Where it comes from.
    pub source: ProfileSource,
}

/// The id of a [`Layer`]; a greater one is stronger.
pub type LayerId = Id<Layer>;

/// Where a layer comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ProfileSource {
    /// The person's own, in the work folder.
    Own,
    /// Shipped with the tree.
    Shipped,
    /// Given on the command line for once.
    Once,
    /// What the tree was built with that a kit is of.
    Kit,
}

/// An option's value that a person set.
#[derive(Debug, Clone)]
pub struct Choice {
    /// The option.
    pub option: OptionId,
    /// The value.
    pub value: Value,
    /// The layer that it counts from.
    pub layer: LayerId,
    /// Where it is written, in [`Choices::files`].
    pub place: Place,
    /// Why the person chose it.
    pub reason: Option<String>,
}

/// All choices that count, at most one for each option, in the order of options.
#[derive(Debug, Clone, Default)]
pub struct Choices {
    /// The layers, weakest first; the last is the profile itself (or what was given for once).
    pub layers: Arena<Layer>,
    /// The choices.
    pub items: Vec<Choice>,
    /// Who is to meet a need, where a person said so.
    pub providers: BTreeMap<NeedId, ProviderChoice>,
    /// Changes to the sources that people carry, in the order in which they are applied.
    pub changes: Vec<SourceChange>,
    /// What layers are only for.
    pub only_with: Vec<OnlyWith>,
    /// Where the strongest layer that says so has results shared. It counts only where the person allows it.
    pub store: Option<Address>,
    /// The profile files.
    pub files: SourceFiles,
}

/// A change to the sources that a profile carries.
#[derive(Debug, Clone, PartialEq)]
pub struct SourceChange {
    /// What it is called: the name of the patch's file, or the path of the file that is replaced.
    pub name: String,
    /// What sort of change it is.
    pub sort: ChangeSort,
    /// Where the patch, or the other file, lies.
    pub file: PathBuf,
    /// The layer that it comes from.
    pub layer: LayerId,
    /// Why the person carries it.
    pub reason: Option<String>,
}

/// Sorts of changes to the sources.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeSort {
    /// A patch.
    Patch,
    /// Another file in the place of this one.
    Replaced(RelPath),
}

/// What stands before the name of a change where reasons are.
pub const CHANGE_PREFIX: &str = "patch:";

/// The folder beside a profile's file in which the changes lie that it carries.
pub fn changes_folder(profile: &Path) -> PathBuf {
    profile.with_extension("changes")
}

/// Who a person wants a need to be met by.
#[derive(Debug, Clone)]
pub struct ProviderChoice {
    /// Who.
    pub provider: Provider,
    /// The layer that it counts from.
    pub layer: LayerId,
    /// Where it is written, in [`Choices::files`].
    pub place: Place,
    /// Why the person chose it.
    pub reason: Option<String>,
}

impl Choices {
    /// Returns the name of the profile that they are of, if any is written.
    pub fn profile(&self) -> Option<&str> {
        let is_written = |layer: &&Layer| matches!(layer.source, ProfileSource::Own | ProfileSource::Shipped);
        let mut written = self.layers.iter().map(|(_, layer)| layer).filter(is_written);
        written.next_back().map(|layer| layer.name.as_str())
    }

    /// Adds what the tree was built with, where its board is that of a kit. Nobody chooses these otherwise.
    pub fn in_kit(mut self, board: &Board) -> Choices {
        let Some(kit) = &board.kit else { return self };
        let layer = self.layers.add(Layer { name: KIT_FILE.into(), source: ProfileSource::Kit });
        let file = self.files.add(KIT_FILE, board.files.text(kit.place.file));
        let here = |place: &Place| Place { file, ..*place };
        for (option, value, place) in &kit.values {
            self.put(Choice { option: *option, value: value.clone(), layer, place: here(place), reason: None });
        }
        for (need, provider, place) in &kit.providers {
            let choice = ProviderChoice { provider: provider.clone(), layer, place: here(place), reason: None };
            self.providers.insert(*need, choice);
        }
        self
    }

    /// Tells whether there are choices for once among them.
    pub fn has_tried(&self) -> bool {
        self.items.iter().any(|choice| self.layers[choice.layer].source == ProfileSource::Once)
    }

    /// Returns the layers of what people chose, the weakest first, and not that of the kit.
    pub fn own_layers(&self) -> impl Iterator<Item = (LayerId, &Layer)> {
        self.layers.iter().filter(|(_, layer)| layer.source != ProfileSource::Kit)
    }

    /// Returns the choices that people made, and not those with which the tree was built that a kit is of.
    pub fn own(&self) -> impl Iterator<Item = &Choice> {
        self.items.iter().filter(|choice| self.layers[choice.layer].source != ProfileSource::Kit)
    }

    /// Returns the choice for an option.
    pub fn get(&self, option: OptionId) -> Option<&Choice> {
        self.items.binary_search_by_key(&option, |c| c.option).ok().map(|at| &self.items[at])
    }

    /// Adds one choice, stronger than all others, as if it were given on the command line.
    pub fn with(self, board: &Board, option: OptionId, value: Value) -> Choices {
        self.on_top(board, "command line", &[(option, value)])
    }

    /// Adds choices for once, stronger than all others, as a layer of this name.
    pub fn on_top(mut self, board: &Board, name: &str, chosen: &[(OptionId, Value)]) -> Choices {
        let layer = self.layers.add(Layer { name: name.into(), source: ProfileSource::Once });
        for (option, value) in chosen {
            let text = format!("{}={value}", board.options[*option].name);
            let place = Place::new(self.files.add(name, text.as_str()), 0..text.len());
            self.put(Choice { option: *option, value: value.clone(), layer, place, reason: None });
        }
        self
    }

    /// Puts a choice in the place of any other for its option.
    fn put(&mut self, choice: Choice) {
        match self.items.binary_search_by_key(&choice.option, |c| c.option) {
            Ok(at) => self.items[at] = choice,
            Err(at) => self.items.insert(at, choice),
        }
    }

    /// Adds choices given as `OPTION=VALUE`, stronger than all others.
    ///
    /// # Errors
    /// The first that is wrong.
    pub fn with_tried(mut self, board: &Board, tried: &[String]) -> Result<Choices, TryFault> {
        if tried.is_empty() {
            return Ok(self);
        }
        let layer = self.layers.add(Layer { name: "command line".into(), source: ProfileSource::Once });
        for text in tried {
            let asked = board.read_asked(text)?;
            let file = self.files.add("command line", text.as_str());
            let place = Place::new(file, 0..text.len());
            match asked {
                Asked::Value(option, value) => {
                    self.put(Choice { option, value, layer, place, reason: None });
                }
                Asked::Provider(need, provider) => {
                    self.providers.insert(need, ProviderChoice { provider, layer, place, reason: None });
                }
            }
        }
        Ok(self)
    }
}
