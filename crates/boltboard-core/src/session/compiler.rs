//! The compiler as a gap, and choices that this host refuses before anything is recorded.

use std::path::{Path, PathBuf};

use super::host::is_own_target;
use super::open::Session;
use crate::board::{Asked, Interp, OptionId, Piece, Provider, Value};
use crate::profile::Choices;
use crate::survey::{Facts, Language, identify, toolchains};

/// The compiler that a profile names cannot be used.
#[derive(Debug, Clone)]
pub struct CompilerGap {
    /// Why not.
    pub fault: String,
    /// The option that names it, if one does.
    pub option: Option<OptionId>,
    /// The C compilers of this host that work, each by its names.
    pub here: Vec<Vec<String>>,
}

/// A choice that this host refuses.
#[derive(Debug)]
pub enum Refused {
    /// It names a compiler that cannot be used.
    Compiler(Box<CompilerGap>),
    /// It names a folder that is not there.
    NoFolder(PathBuf),
    /// It is a place from which nothing can be found again: relative, or empty.
    NotAbsolute {
        /// The option.
        option: OptionId,
        /// The place.
        place: String,
    },
}

impl Session {
    /// Returns why the C compiler that choices name cannot be used, `None` when it can.
    pub fn compiler_gap(&self, choices: &Choices) -> Option<CompilerGap> {
        let fault = self.tools_before(choices).target.c.err()?;
        Some(self.gap_of(fault.to_string(), &self.board.toolchains.target.c_compiler))
    }

    /// The same where a survey has found out that it does not work.
    pub fn compiler_gap_of(&self, facts: &Facts, choices: &Choices) -> Option<CompilerGap> {
        let fault = facts.compiler_fault.clone()?;
        Some(self.compiler_gap(choices).unwrap_or_else(|| self.gap_of(fault, &self.board.toolchains.target.c_compiler)))
    }

    fn gap_of(&self, fault: String, named: &Interp) -> CompilerGap {
        let found = toolchains(self.compiler_search(None), self.around.cores);
        self.keep_probes();
        let mut works: Vec<(bool, Vec<String>)> =
            found.into_iter().filter_map(|one| Some((!is_own_target(&one.compiler.ok()?.target), one.names))).collect();
        // Those for this machine come first, the usual one before all.
        works.sort_by_key(|(foreign, names)| (*foreign, !names.iter().any(|name| name == "cc")));
        let here = works.into_iter().map(|(_, names)| names).collect();
        CompilerGap { fault, option: options_in(named).next(), here }
    }

    /// Tells whether this host refuses a choice, whatever else is chosen: a compiler or a folder that is not there.
    pub fn refuses(&self, asked: &Asked, choices: &Choices) -> Option<Refused> {
        let (option, value) = match asked {
            Asked::Provider(_, Provider::Folder(folder)) => return no_folder(folder),
            Asked::Provider(..) => return None,
            Asked::Value(option, value) => (*option, value),
        };
        let chain = &self.board.toolchains.target;
        let host = &self.board.toolchains.host;
        for (named, language) in [
            (&chain.c_compiler, Language::C),
            (&chain.cxx_compiler, Language::Cxx),
            (&chain.fortran_compiler, Language::Fortran),
            (&host.c_compiler, Language::C),
            (&host.cxx_compiler, Language::Cxx),
        ] {
            if options_in(named).any(|inside| inside == option) {
                let name = self.before(choices).text(named);
                if let Err(fault) = identify(&name, language, self.compiler_search(None)) {
                    return Some(Refused::Compiler(Box::new(self.gap_of(fault.to_string(), named))));
                }
            }
        }
        let is_place = Some(option) == self.board.prefix();
        let is_root = chain.sysroot.iter().flat_map(options_in).any(|inside| inside == option);
        let (Value::Path(place) | Value::Text(place)) = value else { return None };
        if (is_place || is_root && !place.is_empty()) && !Path::new(place).is_absolute() {
            return Some(Refused::NotAbsolute { option, place: place.clone() });
        }
        if is_root && !place.is_empty() { no_folder(Path::new(place)) } else { None }
    }
}

fn no_folder(folder: &Path) -> Option<Refused> {
    (!folder.is_dir()).then(|| Refused::NoFolder(folder.to_path_buf()))
}

/// The options that a text of the toolchain names.
fn options_in(text: &Interp) -> impl Iterator<Item = OptionId> {
    text.pieces.iter().filter_map(|piece| match piece {
        Piece::Option(option) => Some(*option),
        _ => None,
    })
}
