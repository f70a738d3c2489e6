//! The option between watched builds, written into a description that is there.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::delta::{Delta, Key, Who};
use super::draw::picture;
use super::edit::Edit;
use super::needs::Host;
use super::questions::Answers;
use super::text::Writer;
use super::watched::Watched;
use crate::base::FileError;

/// What is asked.
pub struct DifferAsk<'a> {
    /// The name of the option.
    pub option: &'a str,
    /// The description.
    pub text: &'a str,
    /// The folder that it lies in.
    pub at: &'a Path,
    /// The build, by its place in the list, that the description was drawn from.
    pub base: usize,
    /// What the option's value is called in each build; none for a switch, which is off in the first build and on in the second.
    pub values: &'a [String],
    /// What a person answered.
    pub answers: &'a Answers,
    /// Whether several macros may belong to one setting.
    pub together: bool,
}

/// A description with one more option.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differed {
    /// The definitions' file.
    pub text: String,
    /// Further files beside it.
    pub files: BTreeMap<String, String>,
    /// In what the builds differ, a line each.
    pub said: Vec<String>,
    /// The option's value in each build.
    pub values: Vec<String>,
}

/// Why no option can be told.
#[derive(Debug, thiserror::Error)]
pub enum DifferFault {
    /// The builds did the same.
    #[error("the builds do not differ")]
    Same,
    /// More than one setting can have changed.
    #[error("more than one setting may have changed: these macros cannot be told apart: {}", .0.join(", "))]
    Several(Vec<String>),
    /// What differs cannot be written as an option of the description.
    #[error("what differs cannot be written as one option")]
    Unclear(Vec<String>),
    /// The description has such an option.
    #[error("the description has an option `{0}` already")]
    Known(String),
    /// The description cannot be read.
    #[error("the description cannot be read: {0}")]
    Unreadable(String),
    /// The builds are of two trees.
    #[error("the builds are of different trees")]
    OtherTree,
    /// There is not one value for each build.
    #[error("{builds} builds were named, and {values} values")]
    Values {
        /// How many builds were named.
        builds: usize,
        /// How many values.
        values: usize,
    },
    /// A text that is kept beside the description cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
}

/// What kind of option it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Choice {
    /// Off in the first build, on in the second.
    Switch,
    /// One value for each build.
    Pick(Vec<String>),
    /// The value of a macro: its name, and what each build has.
    Value(String, Vec<String>),
}

/// Finds the option between builds that differ in one setting, and writes it into the description.
///
/// # Errors
/// See [`DifferFault`].
pub fn differ(builds: &[&Watched], host: &Host, ask: &DifferAsk<'_>) -> Result<Differed, DifferFault> {
    let wanted = if ask.values.is_empty() { 2 } else { builds.len() };
    if builds.len() != wanted || !ask.values.is_empty() && ask.values.len() != wanted {
        return Err(DifferFault::Values { builds: builds.len(), values: ask.values.len() });
    }
    if builds.iter().any(|watched| watched.tree != builds[0].tree) {
        return Err(DifferFault::OtherTree);
    }
    let pictures: Vec<_> = builds.iter().map(|watched| picture(watched, host, ask.answers, ask.at)).collect();
    let writers: Vec<Writer<'_>> = pictures
        .iter()
        .zip(builds)
        .map(|(picture, watched)| {
            Writer::unshared(&picture.model, watched.tree.to_string_lossy().into_owned(), &picture.files)
        })
        .collect();
    let delta = Delta::of(&writers);
    if delta.is_empty() {
        return Err(DifferFault::Same);
    }
    if !delta.unclear.is_empty() {
        return Err(DifferFault::Unclear(delta.unclear));
    }
    let choice = match (value_of(&delta, builds.len()), ask.values) {
        (Some((name, values)), []) => Choice::Value(name, values),
        (None, []) => Choice::Switch,
        (_, values) => Choice::Pick(values.to_vec()),
    };
    let several = cannot_be_told_apart(&delta, &choice);
    if several.len() > 1 && !ask.together {
        return Err(DifferFault::Several(several.into_iter().collect()));
    }
    let mut edit = Edit::new(ask, choice, &pictures)?;
    edit.all(&delta)?;
    edit.finished()
}

/// The macro whose value is all that differs, with its value in each build.
fn value_of(delta: &Delta, builds: usize) -> Option<(String, Vec<String>)> {
    let distinct = |values: &[String]| values.iter().collect::<BTreeSet<_>>().len() == builds;
    let rest = Delta { kept: Vec::new(), moved: Vec::new(), ..delta.clone() };
    if !rest.is_empty() {
        return None;
    }
    let (name, values) = match (delta.kept.as_slice(), delta.moved.as_slice()) {
        ([kept], []) if kept.macros.len() == 1 && !kept.has_chosen() => {
            let (name, values) = kept.macros.first_key_value()?;
            (name.clone(), values.values().cloned().collect::<Vec<_>>())
        }
        ([], [first, ..]) => {
            let name = first.words[0].split('=').next()?;
            let mut values: BTreeMap<usize, String> = BTreeMap::new();
            for moved in &delta.moved {
                let (own, value) = moved.words[0].split_once('=')?;
                let only = moved.who.first().filter(|_| moved.who.len() == 1)?;
                if moved.key != Key::Defines || own != name || moved.parts != first.parts {
                    return None;
                }
                values.insert(*only, value.to_string());
            }
            (name.to_string(), values.into_values().collect())
        }
        _ => return None,
    };
    (values.len() == builds && distinct(&values) && values.iter().all(|value| !value.is_empty()))
        .then_some((name, values))
}

/// The macros that one value brings; several of them may be several settings.
fn cannot_be_told_apart(delta: &Delta, choice: &Choice) -> BTreeSet<String> {
    let name = |text: &str| text.split('=').next().unwrap_or_default().to_string();
    let of_compiles = delta.macros.keys().map(|(text, who)| (name(text), who.clone()));
    let of_texts = delta.kept.iter().flat_map(|kept| &kept.macros);
    let of_texts = of_texts.map(|(name, values)| (name.clone(), values.keys().copied().collect::<Who>()));
    let all: Vec<(String, Who)> = of_compiles.chain(of_texts).collect();
    let names = |all: &mut dyn Iterator<Item = &(String, Who)>| all.map(|(name, _)| name.clone()).collect();
    match choice {
        Choice::Switch | Choice::Value(..) => names(&mut all.iter()),
        // Each value of a pick has a macro of its own.
        Choice::Pick(values) => (0..values.len())
            .map(|build| names(&mut all.iter().filter(|(_, who)| *who == Who::from([build]))))
            .max_by_key(BTreeSet::len)
            .unwrap_or_default(),
    }
}
