//! Two or more configurations side by side: one answer, which is the JSON, and of which the text and the page are drawn.

mod contents;
mod html;
mod text;

use std::collections::BTreeMap;

use boltboard_core::board::NEED_PREFIX;
use boltboard_core::compare::CauseKind;
use serde::Serialize;

use crate::render::text::bytes;

pub use html::page;
pub use text::{Topic, text};

/// What is compared, and in what it differs.
#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Comparison {
    /// The format of the answer.
    pub format: u32,
    /// The tree, with its version.
    pub tree: String,
    /// What stands side by side.
    pub sides: Vec<String>,
    /// How many options were compared.
    pub options: usize,
    /// What lies behind the differences.
    pub causes: Vec<CauseTold>,
    /// Options that differ.
    pub values: Vec<ValueTold>,
    /// Changes to the sources that only some sides carry.
    pub changes: Vec<ChangeTold>,
    /// Parts that differ.
    pub parts: Vec<PartTold>,
    /// What parts are made of, for each side after the first one.
    pub contents: Vec<ContentsTold>,
    /// Steps, for each side after the first one.
    pub steps: Vec<StepsTold>,
    /// The command that shows all of it.
    #[serde(skip)]
    pub again: String,
}

impl Comparison {
    /// Tells whether anything differs. Steps that may differ, for all that is known, do not count.
    pub fn differs(&self) -> bool {
        let steps =
            |steps: &StepsTold| !(steps.left_only.is_empty() && steps.right_only.is_empty() && steps.differ.is_empty());
        !(self.values.is_empty() && self.changes.is_empty() && self.causes.is_empty()) || self.steps.iter().any(steps)
    }
}

/// Something that differs by itself.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct CauseTold {
    /// What it is.
    pub kind: CauseKind,
    /// The option or need.
    pub name: String,
    /// What each side says, or has.
    pub sides: Vec<Option<String>>,
    /// Where each side says it, and why.
    pub said: Vec<Option<String>>,
    /// The options that differ because of it, without itself.
    pub moves: Vec<String>,
}

impl CauseTold {
    /// How a person names it.
    pub fn shown_name(&self) -> String {
        if self.kind.is_of_need() { format!("{NEED_PREFIX}{}", self.name) } else { self.name.clone() }
    }
}

impl PartSide {
    /// Its size, or what else is to be said of it.
    pub fn shown(&self) -> String {
        match (self.state, self.bytes) {
            (PartMade::Made, Some(size)) => bytes(size),
            (PartMade::Made, None) => "made".into(),
            (PartMade::Within, _) => "built in".into(),
            (PartMade::NotMade, _) => "not made".into(),
            (PartMade::NotCompared, _) => "-".into(),
        }
    }

    /// Tells whether anything is made of it.
    pub fn is_there(&self) -> bool {
        matches!(self.state, PartMade::Made | PartMade::Within)
    }
}

/// An option that differs.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ValueTold {
    /// Its name.
    pub option: String,
    /// One line about it.
    pub summary: String,
    /// The title of its section.
    pub section: String,
    /// What each side makes of it; null where it has no such option.
    pub sides: Vec<Option<ValueSide>>,
    /// What lies behind it: names of causes.
    pub causes: Vec<String>,
}

/// An option's value on one side.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ValueSide {
    /// The value.
    pub value: String,
    /// Where it comes from, in words.
    pub origin: String,
    /// Whether it has an effect.
    pub applies: bool,
}

/// A change to the sources.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ChangeTold {
    /// Its name.
    pub name: String,
    /// Which sides carry it.
    pub sides: Vec<bool>,
}

/// A part that differs.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartTold {
    /// Its name.
    pub part: String,
    /// What each side makes of it.
    pub sides: Vec<PartSide>,
}

/// What is made of a part.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum PartMade {
    /// It is made.
    Made,
    /// It is made into something else.
    Within,
    /// It is not made.
    NotMade,
    /// Only values were compared.
    NotCompared,
}

/// A part on one side.
#[derive(Debug, Clone, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct PartSide {
    /// What is made of it.
    pub state: PartMade,
    /// Its size, where it was built.
    pub bytes: Option<u64>,
    /// Sizes of its sections by what they are.
    pub sections: Vec<(&'static str, u64)>,
}

/// What a part is made of on the first side and another one.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ContentsTold {
    /// Its name.
    pub part: String,
    /// The other side.
    pub side: String,
    /// Sources of the first side alone.
    pub left_sources: Vec<String>,
    /// Sources of the other side alone.
    pub right_sources: Vec<String>,
    /// Flags that differ.
    pub flags: Vec<FlagsTold>,
}

/// Flags that differ in the same way.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct FlagsTold {
    /// What the commands do.
    pub verb: &'static str,
    /// Of the first side alone.
    pub left: Vec<String>,
    /// Of the other side alone.
    pub right: Vec<String>,
    /// How many commands.
    pub commands: usize,
}

/// The steps of the first side and another one.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct StepsTold {
    /// The other side.
    pub side: String,
    /// Steps of the first side alone.
    pub left_only: Vec<String>,
    /// Steps of the other side alone.
    pub right_only: Vec<String>,
    /// Steps of both with another result.
    pub differ: Vec<String>,
    /// Steps of both of which it is not known.
    pub unknown: Vec<String>,
    /// How many steps come out the same.
    pub same: usize,
    /// What the first side's differing steps took, in milliseconds.
    pub left_ms: Option<u64>,
    /// The same for the other side.
    pub right_ms: Option<u64>,
    /// What a build of the other side would do now.
    pub to_build: Option<ToBuild>,
    /// What the steps named above do, and to what.
    #[serde(skip)]
    pub does: BTreeMap<String, String>,
    /// Sides that were never built here.
    pub never_built: Vec<String>,
}

/// What a build would do now.
#[derive(Debug, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ToBuild {
    /// Steps that run, or may.
    pub run: usize,
    /// Steps whose results are kept from before.
    pub reused: usize,
    /// Steps that are left alone.
    pub current: usize,
    /// The processor time expected; null where nothing like it ever ran here.
    pub expected_work_ms: Option<u64>,
}
