//! Needs: what the host must have, and who provides it.

use std::collections::BTreeMap;
use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use super::Board;
use super::part::PartId;
use super::toolchain::Machine;
use crate::base::{Id, Op, Place, VersionRange, near_matches};

/// The id of a [`NeedDef`].
pub type NeedId = Id<NeedDef>;

/// Something the host must have.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct NeedDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The machine that it is asked of.
    pub machine: Machine,
    /// How it is found.
    pub check: NeedCheck,
    /// The versions that fit; none takes any.
    pub version: Option<VersionRange>,
    /// The packages that bring it, by distribution (`debian`, `fedora`, …).
    pub packages: BTreeMap<String, String>,
    /// The tree's own copy, used when the host has none.
    pub bundled: Option<PartId>,
    /// What its absence means.
    pub importance: Importance,
    /// Where its name is written.
    pub place: Place,
}

impl NeedDef {
    /// Returns the versions that fit, of the need itself or of the kernel's headers.
    pub fn wanted_versions(&self) -> Option<&VersionRange> {
        match (&self.version, &self.check) {
            (Some(range), _) => Some(range),
            (None, NeedCheck::Host(check)) => check.asks.iter().find_map(|ask| match ask {
                Ask::KernelHeaders(range) => Some(range),
                _ => None,
            }),
            (None, NeedCheck::AnyOf(_) | NeedCheck::AllOf(_)) => None,
        }
    }

    /// Tells whether a copy in a folder can meet it.
    pub fn can_come_from_a_folder(&self) -> bool {
        match &self.check {
            NeedCheck::Host(check) => check.library.is_some() || !check.headers.is_empty() || check.tool.is_some(),
            NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => false,
        }
    }
}

/// How a need is found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum NeedCheck {
    /// By looking at the host.
    Host(Box<HostCheck>),
    /// Met by the first of these that is met.
    AnyOf(Vec<NeedId>),
    /// Met when all of these are.
    AllOf(Vec<NeedId>),
}

/// What is looked for on the host. Everything that is given must be met.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct HostCheck {
    /// The language that the compiler is asked in.
    pub language: CheckLanguage,
    /// The name of its installed metadata file, without `.pc`.
    pub library: Option<String>,
    /// Whether it is linked into programs.
    pub linkage: LibraryLinkage,
    /// Headers that the compiler must be able to read, in the order of reading.
    pub headers: Vec<String>,
    /// Libraries that must link, without `-l`.
    pub link: Vec<String>,
    /// Macros defined before the headers: `NAME` or `NAME=VALUE`.
    pub defines: Vec<String>,
    /// What the compiler is asked.
    pub asks: Vec<Ask>,
    /// A macro of the headers that holds the version, as a text or a number.
    pub version_macro: Option<String>,
    /// A program that must be in the search path.
    pub tool: Option<ToolCheck>,
    /// A module that an interpreter must be able to load.
    pub script_module: Option<ScriptModule>,
    /// Files and devices that must be there.
    pub files: Vec<HostFile>,
}

/// The language of a check.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, serde::Deserialize)]
pub enum CheckLanguage {
    /// C
    #[default]
    C,
    /// C++
    Cxx,
}

/// How a library is linked.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum LibraryLinkage {
    /// As the linker finds it, a shared one first.
    #[default]
    Shared,
    /// Into the program, with all that it needs itself.
    Static,
}

/// One thing that a compiler is asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum Ask {
    /// A function can be linked.
    Function(String),
    /// A type is complete.
    Type(String),
    /// A structure has a member.
    Member {
        /// The structure.
        of: String,
        /// The member, `a.b` for one within another.
        member: String,
    },
    /// A macro is defined.
    Macro(String),
    /// A constant lies in a range: a macro's value, a size, an alignment.
    Value {
        /// What people call it, as in "size of void *".
        title: String,
        /// The expression as the compiler is asked.
        expression: String,
        /// What it must be.
        range: ValueRange,
    },
    /// The version of the kernel's headers lies in a range.
    KernelHeaders(VersionRange),
    /// The target stores numbers so.
    ByteOrder(ByteOrder),
    /// The compiler takes a flag, or a language standard as `-std=…`.
    Flag(String),
    /// The linker takes a flag.
    LinkFlag(String),
    /// A piece of code compiles.
    Code(String),
}

/// How a target stores numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, serde::Deserialize)]
pub enum ByteOrder {
    /// The lowest byte first.
    Little,
    /// The highest byte first.
    Big,
}

/// A condition on a whole number: `>= 0x1270, < 0x2000`; every part must hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct ValueRange {
    bounds: Vec<(Op, i64)>,
    text: String,
}

/// A text is not a value range.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a range of whole numbers; write for example \">= 8\" or \">= 0x1270, < 0x2000\"")]
pub struct ValueRangeFault(String);

impl FromStr for ValueRange {
    type Err = ValueRangeFault;
    fn from_str(text: &str) -> Result<Self, ValueRangeFault> {
        let fault = || ValueRangeFault(text.to_string());
        let mut bounds = Vec::new();
        for part in text.split(',').map(str::trim) {
            let op = Op::ALL.into_iter().find(|op| part.starts_with(op.sign())).ok_or_else(fault)?;
            let number = part[op.sign().len()..].trim();
            let value = match number.strip_prefix("0x") {
                Some(hex) => i64::from_str_radix(hex, 16),
                None => number.parse(),
            };
            bounds.push((op, value.map_err(|_| fault())?));
        }
        Ok(ValueRange { bounds, text: text.trim().to_string() })
    }
}

impl ValueRange {
    /// Writes the condition in C, for an expression.
    pub fn as_condition(&self, expression: &str) -> String {
        let each = self.bounds.iter().map(|(op, limit)| {
            let sign = if *op == Op::Equal { "==" } else { op.sign() };
            format!("(long long) ({expression}) {sign} {limit}LL")
        });
        each.collect::<Vec<_>>().join(" && ")
    }

    /// Tells whether a number lies in the range.
    pub fn holds(&self, number: i64) -> bool {
        self.bounds.iter().all(|(op, limit)| op.accepts(number.cmp(limit)))
    }
}

impl fmt::Display for ValueRange {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.text)
    }
}

/// A program, under any of its names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct ToolCheck {
    /// Its names, the one to be taken first at the head.
    pub names: Vec<String>,
    /// What makes it tell its version.
    pub version_arguments: Vec<String>,
    /// Where the version stands in its answer: the first group of this regular expression, or all that it matches.
    pub version_pattern: Option<String>,
}

/// A module of an interpreted language.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct ScriptModule {
    /// The interpreter's program.
    pub program: String,
    /// The language.
    pub language: ScriptLanguage,
    /// The module.
    pub name: String,
}

/// Interpreted languages whose modules can be asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum ScriptLanguage {
    /// Python
    Python,
    /// Perl
    Perl,
}

impl ScriptLanguage {
    /// Tells the language by the name of its interpreter (`python3`, `perl5.36`).
    pub fn of(program: &str) -> Option<ScriptLanguage> {
        let name = program.rsplit('/').next().unwrap_or(program);
        if name.starts_with("python") {
            Some(ScriptLanguage::Python)
        } else if name.starts_with("perl") {
            Some(ScriptLanguage::Perl)
        } else {
            None
        }
    }
}

/// A file of the host.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub struct HostFile {
    /// Its absolute path.
    pub path: PathBuf,
    /// What it must be.
    pub kind: HostFileKind,
}

/// What a file of the host must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum HostFileKind {
    /// A plain file or a folder.
    File,
    /// A device.
    Device,
}

/// What the absence of a need means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Importance {
    /// Nothing can be built without it.
    Required,
    /// Options that want it are held off.
    Optional,
}

/// Who a person wants a need to be met by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Provider {
    /// The host, never the bundled copy.
    System,
    /// The tree's own copy, whatever the host has.
    Bundled,
    /// Nobody: as if it were not there.
    Off,
    /// A copy below this folder, with `include/` and `lib/`.
    Folder(PathBuf),
    /// One of several that would do.
    Need(NeedId),
}

/// Why a text cannot name a provider.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ProviderFault {
    /// It means nothing for this need.
    #[error("`{need}` cannot be met by `{text}`; it can be met by {}", .choices.join(", "))]
    Unknown {
        /// The need.
        need: String,
        /// The text.
        text: String,
        /// What could be said.
        choices: Vec<String>,
    },
}

impl Provider {
    /// Reads a provider of a need: `system`, `bundled`, `off`, an absolute folder, or one of the needs that would do.
    ///
    /// # Errors
    /// The text means nothing for this need.
    pub fn read(board: &Board, need: NeedId, text: &str) -> Result<Provider, ProviderFault> {
        let definition = &board.needs[need];
        let members: &[NeedId] = match &definition.check {
            NeedCheck::AnyOf(members) => members,
            NeedCheck::AllOf(_) | NeedCheck::Host(_) => &[],
        };
        match text {
            "system" => return Ok(Provider::System),
            "off" => return Ok(Provider::Off),
            "bundled" if definition.bundled.is_some() => return Ok(Provider::Bundled),
            _ => {}
        }
        let in_folders = definition.can_come_from_a_folder();
        if in_folders && text.starts_with('/') && !text.chars().any(char::is_control) {
            return Ok(Provider::Folder(PathBuf::from(text)));
        }
        if let Some(member) = members.iter().find(|member| board.needs[**member].name == text) {
            return Ok(Provider::Need(*member));
        }
        let mut choices = vec!["system".to_string()];
        choices.extend(definition.bundled.map(|_| "bundled".to_string()));
        choices.push("off".into());
        choices.extend(members.iter().map(|member| board.needs[*member].name.clone()));
        choices.extend(in_folders.then(|| "a folder such as /opt/x".to_string()));
        Err(ProviderFault::Unknown { need: definition.name.clone(), text: text.to_string(), choices })
    }

    /// Writes it as it is read.
    pub fn text(&self, board: &Board) -> String {
        match self {
            Provider::System => "system".into(),
            Provider::Bundled => "bundled".into(),
            Provider::Off => "off".into(),
            Provider::Folder(folder) => folder.display().to_string(),
            Provider::Need(need) => board.needs[*need].name.clone(),
        }
    }
}

impl Board {
    /// Returns names of needs that come near.
    pub fn needs_near(&self, name: &str) -> Vec<String> {
        near_matches(name, self.needs.iter().map(|(_, need)| need.name.as_str()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_of_numbers_hold_on_both_sides() {
        let range: ValueRange = ">= 0x10, < 32, != 20".parse().unwrap();
        for (number, want) in [(15, false), (16, true), (20, false), (31, true), (32, false)] {
            assert_eq!(range.holds(number), want, "{number}");
        }
        for wrong in ["", "8", ">= x", ">= 1,", "= 0xg"] {
            assert!(wrong.parse::<ValueRange>().is_err(), "{wrong:?}");
        }
    }
}
