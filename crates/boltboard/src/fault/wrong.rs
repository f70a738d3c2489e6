//! What is wrong with definitions and profiles.

use boltboard_core::base::{SourceFiles, shell_word};
use boltboard_core::definitions::{Fault, Problem};
use boltboard_core::profile::{ProfileFault, ProfileProblem};

use super::Diagnostic;

/// A problem of the definitions.
pub(super) fn definition(problem: &Problem, files: &SourceFiles) -> Diagnostic {
    let mut diagnostic = Diagnostic::new(problem.fault.to_string()).at(files, problem.place).near(&problem.near);
    diagnostic.related = problem.related.map(|place| ("first here".to_string(), files.excerpt(place)));
    match &problem.fault {
        Fault::Twice { .. } => diagnostic.help("rename one of them"),
        Fault::RequireCycle(_) => diagnostic.help("leave out one of the requirements, or make one option of them"),
        Fault::ToolchainNeeds { .. } => {
            diagnostic.help("have people choose the compiler, or let it follow from options alone")
        }
        Fault::NeedCycle(_) => diagnostic.help("leave out one of the needs that lead back"),
        Fault::DefaultCycle(_) => diagnostic.help("give one of them a default that depends on no other"),
        Fault::UseCycle(_) => diagnostic.help("move what both need into a part of its own"),
        Fault::NothingMatches(_) => diagnostic
            .help("check the spelling; patterns are relative to the folder of this file, `**` crosses folders"),
        Fault::NotMade(_) => diagnostic.help("name what a part of kind `generated` writes in its `output`"),
        Fault::SameMacro { .. } => diagnostic.help("give one of them another name in `macro`"),
        Fault::SameFile { .. } => diagnostic.help("give one of them another `output`"),
        Fault::Path(_) | Fault::LinkOut(_) => diagnostic.help("name only files of the tree"),
        Fault::Unreadable { .. } => {
            diagnostic.help("check its name in `more`, and that it is a file that you may read")
        }
        Fault::NotUtf8 { .. } => diagnostic.help("save the file as UTF-8"),
        Fault::Format(_) => diagnostic.help("use the version of boltboard that this tree was written for"),
        Fault::UnknownKey { known, .. } if problem.near.is_empty() && !known.is_empty() => {
            diagnostic.help(format!("it has {}", known.join(", ")))
        }
        Fault::PlaceOfBuild(_) => {
            diagnostic.help("name values here: `${NAME}` of an option, `${tree:name}`, `${tree:version}`")
        }
        Fault::Placeholder(_) if problem.near.is_empty() => {
            diagnostic.help("write `${NAME}` for an option's value, `${part:NAME}` for the file that a part makes")
        }
        Fault::AddOn { name, .. } => {
            diagnostic.next(format!("boltboard add-on remove {}", shell_word(name)), "do without it")
        }
        Fault::Limit { .. }
        | Fault::Toml(_)
        | Fault::UnknownKey { .. }
        | Fault::WrongType { .. }
        | Fault::Missing { .. }
        | Fault::Combination(_)
        | Fault::BadName(_)
        | Fault::BadMacro(_)
        | Fault::WrongWord { .. }
        | Fault::UnknownName { .. }
        | Fault::Glob(_)
        | Fault::Condition(_)
        | Fault::NeverOff { .. }
        | Fault::NoOrder { .. }
        | Fault::Value { .. }
        | Fault::SectionCycle(_)
        | Fault::Placeholder(_)
        | Fault::UnclosedPlaceholder
        | Fault::NotASource { .. } => diagnostic,
        Fault::NoText { .. } => diagnostic.help("give it a name in UTF-8, or name it under `except`"),
    }
}

/// A problem of a profile.
pub(super) fn profile(problem: &ProfileProblem, files: &SourceFiles) -> Diagnostic {
    let diagnostic = Diagnostic::new(problem.fault.to_string()).at(files, problem.place).near(&problem.near);
    match &problem.fault {
        ProfileFault::Unknown(_) => diagnostic.next("boltboard profile list", "the profiles that there are"),
        ProfileFault::UnknownOption(name) => {
            diagnostic.next(format!("boltboard options --find {}", shell_word(name)), "search for it")
        }
        ProfileFault::Derived(name) => {
            diagnostic.help(format!("remove `{name}` from the profile, and choose what requires it"))
        }
        ProfileFault::InKit(name) => {
            diagnostic.help(format!("remove `{name}` from the profile, or build the tree itself with that value"))
        }
        ProfileFault::OtherTree { .. } => {
            diagnostic.help("use a profile of this tree, or run in the tree that it is for")
        }
        ProfileFault::Newer { found, .. } => diagnostic
            .help(format!("check out version {found} of the tree, or check the choices and lower `tree-version`")),
        ProfileFault::Older { profile, .. } => {
            diagnostic.next(format!("boltboard carry {profile} --preview"), "what became of its choices")
        }
        ProfileFault::TooDeep(_) => diagnostic.help("name what it is based on in one `base` list"),
        ProfileFault::Ring(_) => diagnostic.help("remove the profile from the `base` list that leads back to it"),
        ProfileFault::LooseReason(name) => {
            diagnostic.help(format!("choose `{name}` in [choose], or remove the reason"))
        }
        ProfileFault::UnknownNeed(_) => diagnostic.next("boltboard survey --all", "all needs"),
        ProfileFault::Unreadable { .. }
        | ProfileFault::Provider(_)
        | ProfileFault::Toml(_)
        | ProfileFault::UnknownKey(_)
        | ProfileFault::WrongType { .. }
        | ProfileFault::Value { .. } => diagnostic,
    }
}
