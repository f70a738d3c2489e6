//! The board: the checked, unchanging model of options, sections, needs and parts. It neither reads nor writes files.

mod action;
mod add_on;
mod choice;
mod fetch;
mod finding;
mod generator;
mod history;
mod interp;
mod kit;
mod lists;
mod mentions;
mod metadata;
mod named;
mod need;
mod option;
mod option_kind;
mod output;
mod part;
mod part_kind;
mod service;
mod smoke;
mod test;
mod toolchain;
mod value;

use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::base::{Arena, Grafts, Id, LazyArena, NameTable, Place, RelPath, SourceFiles};
use crate::expr::{Expr, Op, RawAtom, RawWhat};

pub use action::{ActionAbsent, ActionBy, ActionDef};
pub use add_on::{ADD_ONS, AddOn};
pub use choice::{Asked, NEED_PREFIX, TryFault};
pub use fetch::{Compression, FetchDef, FetchForm, FetchId, name_of};
pub use finding::{Acceptance, AcceptedOf, FindingKind};
pub use generator::{
    CommandDef, Generator, ModuleTable, Phase, RecordForm, RecordHeader, SourceFile, ValueDef, Variable, WorkPlace,
    Written, WrittenFrom,
};
pub use history::{ANY_VALUE, ChangedValues, Gone, History, OLD_VALUE, OptionPast, Signs, Split};
pub use interp::{Folder, Interp, Piece, SourceWord};
pub use kit::{BUILT, InKit, KIT_FILE, KitDef, PartOrigin, Prebuilt};
pub use lists::{Exports, ListDef, ListItem, ListedModules, ModuleForm, ModulePlace};
pub use mentions::Mentions;
pub use metadata::MetadataDef;
pub use named::{LeftOut, Named, options_of};
pub use need::{Importance, NeedCheck, NeedDef, NeedId, Provider, ProviderFault};
pub use option::{DecidedBy, DefaultRule, DefaultValue, Level, OptionDef, OptionId, Rule, RuleId, RuleKind};
pub use option_kind::{Kind, PickValue};
pub use output::{HeaderDef, HeaderId, HeaderOrder, MacroDef, MacroForm};
pub use part::{
    EmptyFolder, InstallRole, InstallRule, LinkWay, ModuleRole, PartDef, PartId, Position, SourceRule, When,
};
pub use part_kind::{Ending, Making, PartKind};
pub use service::{ServiceAgain, ServiceDef, ServiceFile, ServiceFolder, ServiceReady};
pub use smoke::SmokeDef;
pub use test::{Company, Pace, TestDef, TestFolder, TestId};
pub use toolchain::{EnvironmentDef, Machine, Toolchain, Toolchains};
pub use value::{Linkage, Switch, Value, ValueFault, read_size, shown_size};

/// A titled group of options.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct SectionDef {
    /// Its name.
    pub name: String,
    /// Its title as shown.
    pub title: String,
    /// The section that it lies in.
    pub parent: Option<SectionId>,
    /// Where it is written; `None` for the section of options that name none.
    pub place: Option<Place>,
}

/// The id of a [`SectionDef`].
pub type SectionId = Id<SectionDef>;

/// One statement about resolved values and facts.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Atom {
    /// The option is not off.
    On(OptionId),
    /// The host has the need.
    Need(NeedId),
    /// The option's value compares so.
    Compare(OptionId, Op, Value),
}

/// A condition with its place.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Condition {
    /// The condition.
    pub expr: Expr<Atom>,
    /// Where it is written.
    pub place: Place,
}

/// What a tree says about itself.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct Tree {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// One line about it.
    pub summary: String,
    /// More about it, for packages.
    pub about: String,
    /// Who answers for its packages, as in `Name <address>`.
    pub maintainer: Option<String>,
    /// Its licence, as SPDX writes it.
    pub license: Option<String>,
    /// Where it is at home.
    pub homepage: Option<String>,
    /// Patterns of further definition files, as written.
    pub more: Vec<String>,
    /// The folder of the root `boltboard.toml`.
    pub board_root: PathBuf,
    /// The folder of the sources; the same unless the board lives outside the tree that it describes.
    pub source_root: PathBuf,
    /// What lies elsewhere and counts as if it lay in both.
    pub grafts: Grafts,
}

impl Tree {
    /// Returns where a file of the sources really lies.
    pub fn source(&self, path: &RelPath) -> PathBuf {
        self.grafts.real(path, &self.source_root)
    }

    /// Returns where a file beside the definitions really lies.
    pub fn definition(&self, path: &RelPath) -> PathBuf {
        self.grafts.real(path, &self.board_root)
    }

    /// Returns where a definition file of that name really lies.
    pub fn definition_file(&self, name: &str) -> PathBuf {
        let path = RelPath::of_file(name).ok().filter(|_| !self.grafts.is_empty());
        path.map_or_else(|| self.board_root.join(name), |path| self.definition(&path))
    }
}

/// Everything that a tree's definitions say. References between items are ids that exist; names are unique.
#[derive(Debug, Clone)]
pub struct Board {
    /// What the tree says about itself.
    pub tree: Tree,
    /// All options, in the order of the files.
    pub options: LazyArena<OptionDef>,
    /// All sections; parents come before what they hold.
    pub sections: Arena<SectionDef>,
    /// All needs.
    pub needs: Arena<NeedDef>,
    /// All parts.
    pub parts: LazyArena<PartDef>,
    /// Those of them that are modules of programs.
    pub modules: Vec<PartId>,
    /// Of each part whose objects others take in, those that may take them into a shared library or a module.
    pub carriers: BTreeMap<PartId, Vec<PartId>>,
    /// What options ask for when they are on, or take a value.
    pub rules: LazyArena<Rule>,
    /// The option headers that are generated.
    pub headers: Arena<HeaderDef>,
    /// The tree's own tests.
    pub tests: Arena<TestDef>,
    /// What is done after an installation.
    pub actions: Arena<ActionDef>,
    /// What shows that installed programs work.
    pub smokes: Arena<SmokeDef>,
    /// What the tree uses and does not carry.
    pub fetches: Arena<FetchDef>,
    /// Folders outside of the tree that bring more.
    pub add_ons: Vec<AddOn>,
    /// That it is read from a kit, without the tree's sources.
    pub kit: Option<InKit>,
    /// What maintainers know about their definitions and accept.
    pub accepted: Vec<Acceptance>,
    /// What earlier versions had.
    pub history: History,
    /// What shows that a machine uses options.
    pub signs: BTreeMap<OptionId, Signs>,
    /// How everything is compiled.
    pub toolchains: Toolchains,
    /// Whether anything is made for the machine that builds, or asked of it.
    pub builds_for_host: bool,
    /// The definition files.
    pub files: SourceFiles,
    /// Folders of the sources whose names parts follow from.
    pub named_by: Vec<RelPath>,
    /// All options, those that others look at first; the same whatever the order of files.
    pub order: Vec<OptionId>,
    /// Options by name.
    pub option_names: NameTable<OptionDef>,
}

impl Board {
    /// Returns the option of that name.
    pub fn option(&self, name: &str) -> Option<OptionId> {
        self.option_names.find(name)
    }

    /// Returns the section of that name, or with that title.
    pub fn section(&self, name: &str) -> Option<SectionId> {
        let is = |section: &SectionDef| section.name == name || section.title.eq_ignore_ascii_case(name);
        self.sections.iter().find(|(_, section)| is(section)).map(|(id, _)| id)
    }

    /// Returns the part of that name.
    pub fn part(&self, name: &str) -> Option<PartId> {
        self.parts.iter().find(|(_, part)| part.name == name).map(|(id, _)| id)
    }

    /// Returns the need of that name.
    pub fn need(&self, name: &str) -> Option<NeedId> {
        self.needs.iter().find(|(_, need)| need.name == name).map(|(id, _)| id)
    }

    /// Prints a condition with its names, in the canonical form.
    pub fn print(&self, expr: &Expr<Atom>) -> String {
        let named = expr.try_map(&mut |atom: &Atom| Ok::<_, std::convert::Infallible>(self.atom_named(atom)));
        let Ok(named) = named;
        named.to_string()
    }

    fn atom_named(&self, atom: &Atom) -> RawAtom {
        let what = match atom {
            Atom::On(option) => RawWhat::Name(self.options[*option].name.clone()),
            Atom::Need(need) => RawWhat::Need(self.needs[*need].name.clone()),
            Atom::Compare(option, op, value) => {
                RawWhat::Compare { name: self.options[*option].name.clone(), op: *op, value: value.literal() }
            }
        };
        RawAtom { what, span: (0, 0) }
    }

    /// Returns the sections from the outermost down to this one.
    pub fn section_path(&self, section: SectionId) -> Vec<SectionId> {
        let mut path = vec![section];
        let mut at = section;
        while let Some(parent) = self.sections[at].parent {
            path.push(parent);
            at = parent;
        }
        path.reverse();
        path
    }

    /// Returns what is installed and packed as a whole: the tree, or where its kit is used what add-ons bring to it.
    pub fn delivered(&self) -> Cow<'_, Tree> {
        let (Some(_), Some(first)) = (&self.kit, self.add_ons.first()) else { return Cow::Borrowed(&self.tree) };
        let names: Vec<&str> = self.add_ons.iter().map(|add_on| add_on.name.as_str()).collect();
        Cow::Owned(Tree {
            name: format!("{}+{}", self.tree.name, names.join("+")),
            version: first.version.clone(),
            summary: first.summary.clone(),
            about: first.about.clone(),
            maintainer: first.maintainer.clone(),
            license: first.license.clone(),
            homepage: first.homepage.clone(),
            ..self.tree.clone()
        })
    }

    /// Tells whether a file of this path is the tree's own, and no add-on's.
    pub fn is_of_tree(path: &RelPath) -> bool {
        path.beneath(&RelPath::root().child(ADD_ONS)).is_none()
    }

    /// Tells whether something is written in a definition file that counts as lying in a folder.
    pub fn is_written_in(&self, place: Place, folder: &RelPath) -> bool {
        RelPath::of_file(self.files.name(place.file)).is_ok_and(|path| path.beneath(folder).is_some())
    }

    /// Tells whether something is written in a definition file of the tree's own, and no add-on's.
    pub fn is_written_in_tree(&self, place: Place) -> bool {
        !self.is_written_in(place, &RelPath::root().child(ADD_ONS))
    }

    /// Returns the option that says where everything is installed, if the tree has one.
    pub fn prefix(&self) -> Option<OptionId> {
        self.option("prefix").filter(|id| matches!(self.options[*id].kind, Kind::Path))
    }
}
