//! Parts: what a tree makes.

use super::generator::{Generator, ValueDef};
use super::interp::{Interp, Piece};
use super::kit::{KitDef, PartOrigin, Prebuilt};
use super::lists::{Exports, ListedModules, ModuleForm, ModulePlace};
use super::need::NeedId;
use super::option::OptionId;
use super::output::MacroDef;
use super::part_kind::PartKind;
use super::toolchain::Machine;
use super::{Atom, Condition};
use crate::base::{Glob, Id, Place, RelPath};
use crate::expr::Expr;

/// The id of a [`PartDef`].
pub type PartId = Id<PartDef>;

/// Something that is there only while a condition holds.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct When<T> {
    /// The condition; none holds always.
    pub when: Option<Condition>,
    /// The thing.
    pub item: T,
}

/// Something made.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct PartDef {
    /// Its name.
    pub name: String,
    /// What sort of thing it is, with what only that sort has.
    pub kind: PartKind,
    /// One line about it.
    pub summary: String,
    /// The machine that it is made for.
    pub machine: Machine,
    /// The folder of its definition, below the source root.
    pub folder: RelPath,
    /// Made only while this holds.
    pub when: Option<Condition>,
    /// The part whose ways of compiling it shares, before its own.
    pub base: Option<PartId>,
    /// Where it comes from.
    pub origin: PartOrigin,
    /// Its sources; for data, its files.
    pub sources: Vec<SourceRule>,
    /// Folders searched for headers by its own sources.
    pub includes: Vec<When<RelPath>>,
    /// Folders searched by its own sources and by those of parts that use it.
    pub public_includes: Vec<When<RelPath>>,
    /// Parts that it is linked with or that it must come after, in the order in which they are linked where nothing else decides.
    pub uses: Vec<When<PartId>>,
    /// How those of them are linked that are not just linked.
    pub link_ways: Vec<(PartId, LinkWay)>,
    /// The lists of folders that it owns, in the order in which they are linked.
    pub lists: Vec<When<PartId>>,
    /// How the modules in these lists are made.
    pub modules: Option<Box<ListedModules>>,
    /// Which of its names modules can use; nobody asks where that is not said.
    pub exports: Option<Exports>,
    /// Values that its own texts can name.
    pub values: Vec<ValueDef>,
    /// Flags of its compiles.
    pub flags: Vec<When<Interp>>,
    /// Macros given on the command line, each only to files that name it: `NAME` or `NAME=VALUE`.
    pub defines: Vec<When<Interp>>,
    /// Macros of options that are given to its compiles alone, each only to files that name it.
    pub given: Vec<(OptionId, MacroDef)>,
    /// Whether its code can lie anywhere in memory.
    pub position: Position,
    /// Flags of its link.
    pub link_flags: Vec<When<Interp>>,
    /// Files that its link reads, such as version scripts.
    pub link_reads: Vec<RelPath>,
    /// System libraries that it is linked with, without `-l`.
    pub libraries: Vec<When<Interp>>,
    /// Needs whose flags it takes.
    pub needs: Vec<When<NeedId>>,
    /// Where its main file lies below the folder of outputs.
    pub output: RelPath,
    /// Of a part that copies: the folder whose inner folders its files keep. Without, they lie side by side.
    pub below: Option<RelPath>,
    /// Further names of its main file, beside it.
    pub further_names: Vec<String>,
    /// Its licence, where it is not the tree's.
    pub license: Option<String>,
    /// Where it is installed, if it is.
    pub install: Option<InstallRule>,
    /// Where its name is written.
    pub place: Place,
}

/// How a part is linked by one that uses it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum LinkWay {
    /// All objects of an archive, asked for or not.
    Whole,
    /// Searched again and again with the other archives of the same number, because they need each other.
    Together(usize),
}

/// Whether code can lie anywhere in memory, as a shared library needs it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
pub enum Position {
    /// Where something that is made needs it.
    #[default]
    AsNeeded,
    /// Always.
    Independent,
    /// Never: flags alone decide.
    ByFlags,
}

/// A module's place in its program.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ModuleRole {
    /// The option that decides whether and how it is made.
    pub option: OptionId,
    /// The program that it belongs to.
    pub program: PartId,
    /// The C symbol by which the program registers it.
    pub symbol: String,
    /// What it is when it is loadable.
    pub form: ModuleForm,
    /// Where it is defined.
    pub place: ModulePlace,
}

/// Some of a part's sources.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct SourceRule {
    /// They belong to the part only while this holds.
    pub when: Option<Condition>,
    /// The files, by pattern.
    pub globs: Vec<Glob>,
    /// Those of them that do not count.
    pub except: Vec<Glob>,
    /// Generated files among them, below the folder of generated files.
    pub made: Vec<RelPath>,
    /// The Fortran modules that the generated ones hold.
    pub modules: Vec<String>,
    /// Files among them that lie beside the definitions, below the folder of the root one.
    pub beside: Vec<RelPath>,
    /// Flags of these files only.
    pub flags: Vec<Interp>,
    /// Flags of the part that these files do without.
    pub without: Vec<Interp>,
    /// Where the rule is written.
    pub place: Place,
}

/// Where a part is installed.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct InstallRule {
    /// The folder.
    pub to: Interp,
    /// Its main file's name there, if that is another one.
    pub name: Option<String>,
    /// Permission bits.
    pub mode: u32,
    /// How the files are treated.
    pub role: InstallRole,
    /// Empty folders that are made there.
    pub folders: Vec<EmptyFolder>,
}

/// An empty folder that an installation makes.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub struct EmptyFolder {
    /// Where, below the folder that the part is installed in.
    pub path: RelPath,
    /// Permission bits.
    pub mode: u32,
    /// Who it is to belong to, as in `user:group`.
    pub owner: Option<Interp>,
}

/// How installed files are treated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum InstallRole {
    /// Replaced by a newer one.
    Plain,
    /// Belongs to the person once it is there: an edited one is kept.
    Config,
}

impl PartDef {
    /// Returns all texts of its definition that are filled in.
    pub fn texts(&self) -> impl Iterator<Item = &Interp> {
        let lists = [&self.flags, &self.defines, &self.link_flags, &self.libraries];
        let (command, service) = match &self.kind {
            PartKind::Generated(Generator::Command(command)) => (Some(command), None),
            PartKind::Generated(Generator::Service { service, .. }) => (None, Some(service)),
            _ => (None, None),
        };
        let of_rules = self.sources.iter().flat_map(|rule| rule.flags.iter().chain(&rule.without));
        let listed = lists.into_iter().flatten().map(|entry| &entry.item).chain(of_rules);
        let of_command = command.into_iter().flat_map(|command| command.texts());
        listed.chain(of_command).chain(service.into_iter().flat_map(|service| service.texts()))
    }

    /// Returns the files beside the definitions that it is made of.
    pub fn beside(&self) -> Vec<&RelPath> {
        let of_texts = self.texts().flat_map(|text| &text.pieces).filter_map(|piece| match piece {
            Piece::Beside(path) => Some(path),
            _ => None,
        });
        let of_generator = match &self.kind {
            PartKind::Generated(generator) => generator.beside(),
            _ => vec![],
        };
        let of_rules = self.sources.iter().flat_map(|rule| &rule.beside);
        of_texts.chain(of_generator).chain(of_rules).collect()
    }

    /// Returns where a file that it copies lies below its own folder; `None` where it does not lie in the folder that is kept.
    pub fn kept(&self, file: &RelPath) -> Option<RelPath> {
        match &self.below {
            Some(below) => file.beneath(below),
            None => RelPath::root().join(file.name()).ok(),
        }
    }

    /// Returns what is in it, of the kit of the tree.
    pub fn kit(&self) -> Option<&KitDef> {
        match &self.kind {
            PartKind::Generated(Generator::Kit(kit)) => Some(kit),
            _ => None,
        }
    }

    /// Returns where it lies, if it was built elsewhere.
    pub fn prebuilt(&self) -> Option<&Prebuilt> {
        match &self.origin {
            PartOrigin::Kit(prebuilt) => Some(prebuilt),
            PartOrigin::Here | PartOrigin::Absent => None,
        }
    }

    /// Tells whether it follows from a list, and no definition names it.
    pub fn is_listed(&self) -> bool {
        match &self.kind {
            PartKind::List(_) => true,
            PartKind::Module(role) => role.place != ModulePlace::Alone,
            _ => false,
        }
    }

    /// Tells whether how a source is compiled follows from its own name.
    pub fn compiles_look_at_source(&self) -> bool {
        let modules = self.modules.iter().flat_map(|modules| modules.flags.iter().chain(&modules.builtin_flags));
        self.flags.iter().chain(&self.defines).chain(modules).any(|entry| entry.item.looks_at_source())
    }

    /// Returns the options that decide whether the part is made at all.
    pub fn gate(&self) -> Option<Expr<Atom>> {
        let module = match &self.kind {
            PartKind::Module(role) => Some(Expr::Atom(Atom::On(role.option))),
            PartKind::Program
            | PartKind::StaticLibrary
            | PartKind::SharedLibrary { .. }
            | PartKind::Objects
            | PartKind::PartialLink
            | PartKind::List(_)
            | PartKind::Generated(_)
            | PartKind::Data => None,
        };
        Expr::all(module.into_iter().chain(self.when.iter().map(|w| w.expr.clone())))
    }
}
