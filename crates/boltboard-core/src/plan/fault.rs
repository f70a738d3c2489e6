//! What can stand against a plan.

use crate::base::Place;
use crate::board::NeedId;

/// Why there is no plan, with its place in the definitions.
#[derive(Debug, Clone)]
pub struct PlanProblem {
    /// What is wrong.
    pub fault: PlanFault,
    /// Where the part at fault is defined.
    pub place: Option<Place>,
}

/// What can stand against a plan.
#[derive(Debug, Clone, thiserror::Error)]
pub enum PlanFault {
    /// A need that nothing can be built without is missing.
    #[error("nothing of this tree can be built while the need `{}` is not met", .need_name)]
    RequiredNeed {
        /// The need.
        need: NeedId,
        /// Its name.
        need_name: String,
    },
    /// A need of a part that is made is missing.
    #[error("part `{part}` cannot be built while the need `{need_name}` is not met")]
    PartNeed {
        /// The part.
        part: String,
        /// The need.
        need: NeedId,
        /// Its name.
        need_name: String,
    },
    /// A part uses one that is not made with these options.
    #[error("part `{part}` uses `{used}`, which is not made with these options{}", .because.as_deref().map(|c| format!(" ({c} does not hold)")).unwrap_or_default())]
    UsesUnmade {
        /// The part.
        part: String,
        /// The part that it uses.
        used: String,
        /// The condition under which that one is made.
        because: Option<String>,
    },
    /// A part uses one of the tree that its kit does not have.
    #[error("part `{part}` uses `{used}`, which is not in the kit of the tree")]
    NotInKit {
        /// The part.
        part: String,
        /// The part that it uses.
        used: String,
    },
    /// Nothing is left of a part's sources.
    #[error("part `{0}` has no sources with these options")]
    NoSources(String),
    /// A template is to be one that is only made in the build.
    #[error(
        "part `{part}`: its template is made by `{made}`, and templates are filled in before anything is made: use a command"
    )]
    TemplateOfPart {
        /// The part.
        part: String,
        /// The one that makes it.
        made: String,
    },
    /// No word of a command is left.
    #[error("part `{0}` has no command with these options")]
    NoCommand(String),
    /// Two steps would write one file.
    #[error("{file} would be made twice: by part `{first}` and by part `{second}`")]
    SameFile {
        /// The file.
        file: String,
        /// The first part.
        first: String,
        /// The other one.
        second: String,
    },
    /// Files of one part would come to lie in one place.
    #[error(
        "{count} of the files of part `{part}` would take the place of others: {first} and {second} would both be {file}"
    )]
    OnePlace {
        /// The part.
        part: String,
        /// How many find their places taken.
        count: usize,
        /// The first that came to lie in a place.
        first: String,
        /// Another one that would.
        second: String,
        /// The place.
        file: String,
    },
    /// A file does not lie in the folder whose inner folders its part keeps.
    #[error("part `{part}` keeps the folders below {below}, and {file} does not lie there")]
    NotBelow {
        /// The part.
        part: String,
        /// The file.
        file: String,
        /// The folder.
        below: String,
    },
    /// Two sources that one compile can see hold modules of one name.
    #[error("two modules are called `{name}`: in {first} and in {second}")]
    SameModule {
        /// The name.
        name: String,
        /// The first source.
        first: String,
        /// The other one.
        second: String,
    },
    /// A flag asks for what cannot be built in the right order.
    #[error(
        "part `{part}`: named modules of C++20 (`{flag}`) are not built: nobody knows their order, and the compiler keeps them in the sources; use headers"
    )]
    CxxModules {
        /// The part.
        part: String,
        /// The flag.
        flag: String,
    },
    /// Sources use each other's modules.
    #[error("these sources use each other's modules: {}", .0.join(" → "))]
    ModuleRing(Vec<String>),
    /// Parts wait for each other.
    #[error("parts wait for each other: {}", .0.join(" → "))]
    Ring(Vec<String>),
    /// A template cannot be filled in.
    #[error("{file}:{line}: {reason}")]
    Template {
        /// The file.
        file: String,
        /// One-based line; zero for the whole file.
        line: usize,
        /// What is wrong.
        reason: String,
        /// Names that come near.
        near: Vec<String>,
    },
    /// A static library cannot be linked by others, because it uses one that they do not get.
    #[error("the metadata `{metadata}` tell of `{library}`, which uses `{used}`, and that is not installed")]
    NotInstalled {
        /// The metadata.
        metadata: String,
        /// The static library.
        library: String,
        /// What it uses.
        used: String,
    },
    /// A value that a service has no use for.
    #[error("service `{service}`: {what}")]
    Service {
        /// The service.
        service: String,
        /// What is wrong.
        what: String,
    },
    /// A flag that is not `NAME` or `NAME=VALUE`.
    #[error("part `{part}`: `{text}` is not NAME or NAME=VALUE")]
    Define {
        /// The part.
        part: String,
        /// The text.
        text: String,
    },
}
