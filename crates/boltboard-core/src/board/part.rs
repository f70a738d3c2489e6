//! Parts: what a tree makes.

use super::interp::Interp;
use super::need::NeedId;
use super::option::OptionId;
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
    /// The folder of its definition, below the source root.
    pub folder: RelPath,
    /// Made only while this holds.
    pub when: Option<Condition>,
    /// Its sources; for data, its files.
    pub sources: Vec<SourceRule>,
    /// Folders searched for headers by its own sources.
    pub includes: Vec<When<RelPath>>,
    /// Folders searched by its own sources and by those of parts that use it.
    pub public_includes: Vec<When<RelPath>>,
    /// Parts that it is linked with or that it must come after.
    pub uses: Vec<When<PartId>>,
    /// Flags of its compiles.
    pub flags: Vec<When<Interp>>,
    /// Macros given on the command line, each only to files that name it: `NAME` or `NAME=VALUE`.
    pub defines: Vec<When<Interp>>,
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
    /// Where it is installed, if it is.
    pub install: Option<InstallRule>,
    /// Where its name is written.
    pub place: Place,
}

/// What sort of thing a part is.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum PartKind {
    /// A program.
    Program,
    /// An archive of objects.
    StaticLibrary,
    /// A shared library; the number is that of its interface (`soname`).
    SharedLibrary {
        /// The interface's version, part of the file's name.
        interface: Option<String>,
    },
    /// A module of a program, loadable or built in as its option says.
    Module(ModuleRole),
    /// Objects that others link.
    Objects,
    /// Files made by a command, a template or from the board.
    Generated(Generator),
    /// Files as they are.
    Data,
}

impl PartKind {
    /// All kinds' names, as written in definitions.
    pub const NAMES: [&'static str; 7] =
        ["program", "static-library", "shared-library", "module", "objects", "generated", "data"];

    /// Returns the kind's name.
    pub fn name(&self) -> &'static str {
        match self {
            PartKind::Program => "program",
            PartKind::StaticLibrary => "static-library",
            PartKind::SharedLibrary { .. } => "shared-library",
            PartKind::Module(_) => "module",
            PartKind::Objects => "objects",
            PartKind::Generated(_) => "generated",
            PartKind::Data => "data",
        }
    }
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
}

/// How a generated part comes about.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum Generator {
    /// A command of the tree's own.
    Command {
        /// The program with its arguments.
        command: Vec<Interp>,
        /// The folder it runs in, below the source root.
        work_folder: RelPath,
        /// What it reads of the sources.
        reads: Vec<Glob>,
        /// What it writes, below the folder of generated files.
        writes: Vec<RelPath>,
        /// Variables of its environment.
        environment: Vec<(String, Variable)>,
        /// Exit codes that mean success.
        success: Vec<i32>,
    },
    /// A file of the tree with placeholders filled in.
    Template {
        /// The file.
        from: RelPath,
        /// The mark before and after a placeholder's name, `@` unless told otherwise.
        mark: char,
        /// The result, below the folder of generated files.
        to: RelPath,
    },
    /// The table of modules that are built into a program.
    ModuleTable(ModuleTable),
}

/// A generated C file that registers the modules built into a program. In the texts, `{module}` stands for a module's
/// part name and `{symbol}` for its symbol.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ModuleTable {
    /// The program.
    pub program: PartId,
    /// The file, below the folder of generated files.
    pub to: RelPath,
    /// What comes first.
    pub head: String,
    /// A line for each module before the table.
    pub declare: String,
    /// What opens the table.
    pub open: String,
    /// A line for each module in the table.
    pub entry: String,
    /// What closes the table.
    pub close: String,
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
    /// Flags of these files only.
    pub flags: Vec<Interp>,
    /// Where the rule is written.
    pub place: Place,
}

/// Where a part is installed.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct InstallRule {
    /// The folder.
    pub to: Interp,
    /// Permission bits.
    pub mode: u32,
    /// How the files are treated.
    pub role: InstallRole,
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
    /// Returns the options that decide whether the part is made at all.
    pub fn gate(&self) -> Option<Expr<Atom>> {
        let module = match &self.kind {
            PartKind::Module(role) => Some(Expr::Atom(Atom::On(role.option))),
            PartKind::Program
            | PartKind::StaticLibrary
            | PartKind::SharedLibrary { .. }
            | PartKind::Objects
            | PartKind::Generated(_)
            | PartKind::Data => None,
        };
        Expr::all(module.into_iter().chain(self.when.iter().map(|w| w.expr.clone())))
    }
}

/// Where the value of an environment variable comes from.
#[derive(Debug, Clone, PartialEq, serde::Serialize, serde::Deserialize)]
pub enum Variable {
    /// The definition says it.
    Set(Interp),
    /// It is passed on from the environment of whoever builds, where it may be absent.
    Passed,
}
