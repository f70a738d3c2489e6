//! Programs of the host, and what interpreters can load.

use serde::{Deserialize, Serialize};

/// A program, under any of its names.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToolCheck {
    /// Its names, the one to be taken first at the head.
    pub names: Vec<String>,
    /// What makes it tell its version.
    pub version_arguments: Vec<String>,
    /// Where the version stands in its answer: the first group of this regular expression, or all that it matches.
    pub version_pattern: Option<String>,
}

/// A module of an interpreted language.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ScriptModule {
    /// The interpreter's program.
    pub program: String,
    /// The language.
    pub language: ScriptLanguage,
    /// The module.
    pub name: String,
}

/// Interpreted languages whose modules can be asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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
