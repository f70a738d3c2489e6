//! What a need can look for on a host, as data: of a compiler ([`Ask`]), of the host alone ([`HostLook`]), of its programs
//! ([`ToolCheck`], [`ScriptModule`]). Definitions say checks in these words, the survey answers them; neither knows of the other.

mod ask;
mod look;
mod package;
mod program;

use serde::{Deserialize, Serialize};

pub use ask::{Ask, AskedIn, No, Probe, ValueRange, ValueRangeFault};
pub use look::{HostLook, Seen};
pub use package::{Package, PackageFault};
pub use program::{ScriptLanguage, ScriptModule, ToolCheck};

/// What is looked for on the host. Everything that is given must be met.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
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
    /// What must be there beside compilers and programs.
    pub looks: Vec<HostLook>,
}

impl HostCheck {
    /// Tells whether a package could bring it: what only the compiler or the target decides, none can.
    pub fn can_be_packaged(&self) -> bool {
        let headers = |ask: &Ask| matches!(ask.within, AskedIn::Own(_));
        self.library.is_some()
            || !self.headers.is_empty()
            || !self.link.is_empty()
            || self.tool.is_some()
            || self.script_module.is_some()
            || self.asks.iter().any(headers)
    }

    /// Tells whether a copy in a folder can meet it.
    pub fn can_come_from_a_folder(&self) -> bool {
        self.library.is_some() || !self.headers.is_empty() || self.tool.is_some()
    }

    /// Returns the header that stands for it: the last of its own, as those before are there so that it can be read, else one that
    /// a compiler is asked in.
    pub fn telling_header(&self) -> Option<&String> {
        self.headers.last().or_else(|| {
            self.asks.iter().find_map(|ask| match &ask.within {
                AskedIn::Own(header) => Some(header),
                AskedIn::Need | AskedIn::Nothing => None,
            })
        })
    }
}

/// The language of a check.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub enum CheckLanguage {
    /// C
    #[default]
    C,
    /// C++
    Cxx,
}

/// How a library is linked.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum LibraryLinkage {
    /// As the linker finds it, a shared one first.
    #[default]
    Shared,
    /// Into the program, with all that it needs itself.
    Static,
}
