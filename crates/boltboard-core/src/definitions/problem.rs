//! What can be wrong with definitions.

use crate::base::{GlobFault, Place, RelPathFault, SOURCE_ENDINGS};
use crate::board::ValueFault;
use crate::expr::FaultKind;

/// One thing that is wrong, with its place and the names that may have been meant.
#[derive(Debug, Clone)]
pub struct Problem {
    /// What is wrong.
    pub fault: Fault,
    /// Where; `None` when a whole file is at fault.
    pub place: Option<Place>,
    /// Another place that belongs to it, such as an earlier definition.
    pub related: Option<Place>,
    /// Names that come near, best first.
    pub near: Vec<String>,
}

/// What is wrong with a definition.
#[derive(Debug, Clone, thiserror::Error)]
pub enum Fault {
    /// A file cannot be read.
    #[error("cannot read {file}: {reason}")]
    Unreadable {
        /// The file as people see it.
        file: String,
        /// What the system says.
        reason: String,
    },
    /// A file is not text.
    #[error("{file} is not UTF-8: byte {offset} begins no character")]
    NotUtf8 {
        /// The file as people see it.
        file: String,
        /// Zero-based offset of the first wrong byte.
        offset: usize,
    },
    /// A file or a set of files is beyond what is read.
    #[error("{what} is more than the limit of {limit}")]
    Limit {
        /// What is too large or too many.
        what: String,
        /// The limit, with its unit.
        limit: String,
    },
    /// The file is not TOML.
    #[error("not TOML: {0}")]
    Toml(String),
    /// The format number is not ours.
    #[error("this program reads format 1, the file is in format {0}")]
    Format(i64),
    /// A key that means nothing here.
    #[error("{context} has no key `{key}`")]
    UnknownKey {
        /// The key.
        key: String,
        /// What the keys belong to.
        context: String,
        /// The keys that it has.
        known: Vec<String>,
    },
    /// A value of the wrong type.
    #[error("`{key}` must be {expected}, not {found}")]
    WrongType {
        /// The key.
        key: String,
        /// What is right.
        expected: String,
        /// What stands there.
        found: String,
    },
    /// A key that must be there.
    #[error("{context} needs the key `{key}`")]
    Missing {
        /// The key.
        key: &'static str,
        /// What lacks it.
        context: String,
    },
    /// Something that must not be combined.
    #[error("{0}")]
    Combination(String),
    /// A text that cannot be a name.
    #[error("`{0}` cannot be a name: letters, digits, `-` and `_`, a letter among them, and none of `and or not need`")]
    BadName(String),
    /// A C name that is none.
    #[error("`{0}` cannot be a C name")]
    BadMacro(String),
    /// A word in the place of one of a few.
    #[error("`{key}` is {}, not `{found}`", one_of(words))]
    WrongWord {
        /// The key.
        key: &'static str,
        /// The words that it can have.
        words: Vec<&'static str>,
        /// What stands there.
        found: String,
    },
    /// A name that is defined nowhere.
    #[error("there is no {what} `{name}`")]
    UnknownName {
        /// What was looked for.
        what: &'static str,
        /// The name.
        name: String,
    },
    /// A name that is defined twice.
    #[error("{what} `{name}` is defined twice")]
    Twice {
        /// What it is.
        what: &'static str,
        /// The name.
        name: String,
    },
    /// A path that is wrong or leaves the tree.
    #[error(transparent)]
    Path(#[from] RelPathFault),
    /// A pattern that is wrong.
    #[error(transparent)]
    Glob(#[from] GlobFault),
    /// A pattern that matches no definition file.
    #[error("`{0}` matches no file")]
    NothingMatches(String),
    /// A definition file that lies outside of the tree behind a link.
    #[error("{0} leads out of the tree through a link")]
    LinkOut(String),
    /// A condition that cannot be read.
    #[error(transparent)]
    Condition(#[from] FaultKind),
    /// A bare name in a condition that is never off.
    #[error("`{name}` is a {kind}, which is never off; compare it, as in `{name} = VALUE`")]
    NeverOff {
        /// The option.
        name: String,
        /// Its kind.
        kind: &'static str,
    },
    /// An ordering of values that have none.
    #[error("`{name}` is a {kind}: compare it with `=` or `!=`")]
    NoOrder {
        /// The option.
        name: String,
        /// Its kind.
        kind: &'static str,
    },
    /// A value that the option does not take.
    #[error("{option} {fault}")]
    Value {
        /// The option.
        option: String,
        /// What is wrong with the value.
        fault: ValueFault,
    },
    /// Requirements that lead back to where they started.
    #[error("requirements lead back to their start: {}", .0.join(" → "))]
    RequireCycle(Vec<String>),
    /// Needs that are made of each other.
    #[error("needs are made of each other: {}", .0.join(" → "))]
    NeedCycle(Vec<String>),
    /// A compiler that follows from what only a compiler can find out.
    #[error("the compiler depends on the need `{need}`, which is looked for with the compiler: {} → need:{need}", .way.join(" → "))]
    ToolchainNeeds {
        /// The options that lead there, that of the compiler first.
        way: Vec<String>,
        /// The need.
        need: String,
    },
    /// Defaults that depend on themselves.
    #[error("the default depends on itself: {}", .0.join(" → "))]
    DefaultCycle(Vec<String>),
    /// Parts that use each other in a ring.
    #[error("parts use each other in a ring: {}", .0.join(" → "))]
    UseCycle(Vec<String>),
    /// Sections that lie in each other.
    #[error("section `{0}` is inside itself")]
    SectionCycle(String),
    /// A text of what is installed that names a place of the build.
    #[error("`{0}` names a place of the build, and what is installed lasts longer than that")]
    PlaceOfBuild(String),
    /// An add-on that does not fit the tree, or is not there.
    #[error("{text}")]
    AddOn {
        /// Its name.
        name: String,
        /// What stands against it.
        text: String,
    },
    /// A placeholder that means nothing.
    #[error("`${{{0}}}` has no meaning here")]
    Placeholder(String),
    /// A placeholder without its end.
    #[error("the `${{` is never closed with a `}}`")]
    UnclosedPlaceholder,
    /// Two options that give one macro.
    #[error("options `{first}` and `{second}` both give the macro {name}")]
    SameMacro {
        /// The option that comes first.
        first: String,
        /// The other one.
        second: String,
        /// The macro.
        name: String,
    },
    /// Two parts that make one file.
    #[error("parts `{first}` and `{second}` both make {file}")]
    SameFile {
        /// The first part.
        first: String,
        /// The other one.
        second: String,
        /// The file.
        file: String,
    },
    /// A generated source that no part makes.
    #[error("no part makes `{0}`")]
    NotMade(String),
    /// A pattern would take a file whose name is no text.
    #[error("`{path}` is meant by a pattern here, and its name is no UTF-8")]
    NoText {
        /// Its path, with the bytes at fault escaped.
        path: String,
    },
    /// A source that no compiler of ours takes.
    #[error("{path} cannot be compiled; the names of sources end in .{}", SOURCE_ENDINGS.join(", ."))]
    NotASource {
        /// The file.
        path: String,
    },
}

impl Problem {
    /// Makes a problem at a place.
    pub fn at(place: Place, fault: impl Into<Fault>) -> Problem {
        Problem { fault: fault.into(), place: Some(place), related: None, near: Vec::new() }
    }

    /// Adds names that may have been meant.
    pub fn with_near(mut self, near: Vec<String>) -> Problem {
        self.near = near;
        self
    }
}

fn one_of(words: &[&str]) -> String {
    let quoted: Vec<String> = words.iter().map(|word| format!("`{word}`")).collect();
    match quoted.split_last() {
        Some((last, [])) => last.clone(),
        Some((last, others)) => format!("{} or {last}", others.join(", ")),
        None => String::new(),
    }
}
