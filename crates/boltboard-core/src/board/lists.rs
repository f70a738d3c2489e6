//! Lists: which sources a folder gives for which option, and how what is loadable of them is made.

use super::generator::SourceFile;
use super::interp::Interp;
use super::part::{PartId, When};
use crate::base::RelPath;

/// What a folder gives to the part that owns it, in the order in which it is linked.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ListDef {
    /// The part that owns the folder.
    pub owner: PartId,
    /// What it gives.
    pub items: Vec<ListItem>,
}

impl ListDef {
    /// The modules, and the lists of other folders, in order.
    pub fn parts(&self) -> impl Iterator<Item = PartId> + '_ {
        self.items.iter().filter_map(|item| match item {
            ListItem::Part(part) => Some(*part),
            ListItem::Sources(_) => None,
        })
    }
}

/// One thing that a list gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ListItem {
    /// The sources of one of its rules, by its number.
    Sources(usize),
    /// A module, or the list of another folder.
    Part(PartId),
}

/// How the modules in the lists of a part are made.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct ListedModules {
    /// What a loadable one is.
    pub form: ModuleForm,
    /// Flags of the compiles of loadable ones.
    pub flags: Vec<When<Interp>>,
    /// Flags of the compiles of built-in ones.
    pub builtin_flags: Vec<When<Interp>>,
    /// Flags of their links.
    pub link_flags: Vec<When<Interp>>,
    /// Files that their links read.
    pub link_reads: Vec<RelPath>,
    /// A template of a C source that each loadable one is linked with.
    pub stub: Option<RelPath>,
}

/// What a loadable module is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ModuleForm {
    /// A shared object that a running program loads.
    Shared,
    /// One relocatable object, as a kernel loads it.
    Partial,
}

impl ModuleForm {
    /// All forms with their words in definitions.
    pub const ALL: [(&'static str, ModuleForm); 2] = [("shared", ModuleForm::Shared), ("partial", ModuleForm::Partial)];
}

/// Where a module is defined.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum ModulePlace {
    /// In a table of its own.
    Alone,
    /// In the list of a folder.
    Listed {
        /// Its name there.
        name: String,
        /// The folder.
        folder: RelPath,
    },
}

/// What says which names the modules of a program can use.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Exports {
    /// Nobody asks whether modules can be loaded.
    Unchecked,
    /// What the program shows to what it loads.
    Dynamic,
    /// A file with the names, one a line.
    Named(SourceFile),
    /// Its symbols that begin so name what they export behind that.
    Marked(String),
}
