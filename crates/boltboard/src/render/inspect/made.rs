//! Answers to a question about a file, and what came of making a profile from its record.

use boltboard_core::board::Value;
use boltboard_core::record::{self, Record, Said};
use boltboard_core::resolve::{Effect, Resolved};
use serde::Serialize;

use crate::render::text::{Cell, Role, columns, count};

/// How many values that differ are listed.
const LISTED: usize = 20;

/// A profile that was made from a record.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ProfileMade {
    format: u32,
    /// The profile.
    profile: String,
    /// The version of the tree that it is for.
    tree_version: String,
    /// This version of the tree.
    here: String,
    /// How many choices it has.
    choices: usize,
    /// Changes to the sources that the record names; it does not hold them.
    patches: Vec<String>,
    /// Options whose values hold a folder, which is the one of this person now.
    moved: Vec<String>,
    /// How it stands here.
    stands: Stands,
    /// Values that are others here.
    differ: Vec<Differing>,
}

/// How a profile stands in this version of the tree, on this host.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Stands {
    Holds,
    Clashes,
    DoesNotFit,
}

/// A value that is another one here.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Differing {
    option: String,
    then: String,
    now: String,
}

impl ProfileMade {
    /// Begins the answer.
    pub fn new(profile: &str, record: &Record, here: &str, moved: Vec<String>) -> ProfileMade {
        ProfileMade {
            format: 1,
            profile: profile.to_string(),
            tree_version: record.version.clone(),
            here: here.to_string(),
            choices: record.choices.len() + record.providers.len(),
            patches: record.patches.clone(),
            moved,
            stands: Stands::Holds,
            differ: Vec::new(),
        }
    }

    /// Notes that it names what this version of the tree has not.
    pub fn does_not_fit(&mut self) {
        self.stands = Stands::DoesNotFit;
    }

    /// Notes that its choices clash here.
    pub fn does_not_hold(&mut self) {
        self.stands = Stands::Clashes;
    }

    /// Holds a value of the record against that of now.
    pub fn value(&mut self, option: &str, then: &Said, now: &Resolved) {
        let idle = now.effect == Effect::NoEffect && matches!(now.value, Value::Switch(_) | Value::Module(_));
        let here = if idle { Said::Text("off".into()) } else { Said::of(&now.value) };
        if here != *then && !self.moved.iter().any(|moved| moved == option) && !is_of_home(then) {
            self.differ.push(Differing { option: option.to_string(), then: then.to_string(), now: here.to_string() });
        }
    }

    /// The command to go on with, and what it gives.
    pub fn next(&self) -> Option<(String, &'static str)> {
        let name = &self.profile;
        Some(match self.stands {
            _ if self.tree_version != self.here => {
                (format!("boltboard carry {name}"), "carry it over to this version of the tree")
            }
            Stands::DoesNotFit => (format!("boltboard profile show {name}"), "what does not fit, entry by entry"),
            Stands::Clashes => (format!("boltboard profile check {name}"), "what does not hold together here"),
            Stands::Holds => (format!("boltboard profile use {name}"), "use it"),
        })
    }
}

/// Tells whether a value holds a sign for a folder: derived ones follow from chosen ones.
fn is_of_home(said: &Said) -> bool {
    let text = said.to_string();
    [Record::TREE, Record::BUILD, "~/"].iter().any(|sign| text.contains(sign))
}

/// Shows what came of it.
pub fn text(told: &ProfileMade, file: &str, width: usize) -> String {
    let choices = count(told.choices, "choice", "choices");
    let mut text = format!("Made the profile {} from the record of {file}: {choices}.\n", told.profile);
    if told.tree_version != told.here {
        text += &format!("  It was made for version {}; this is {}.\n", told.tree_version, told.here);
    }
    if !told.patches.is_empty() {
        let names = told.patches.join(", ");
        text += &format!("  Changes to the sources are not in a record; add them yourself: {names}.\n");
    }
    if !told.moved.is_empty() {
        text += &format!("  Folders of whoever built it are your own now: {}.\n", told.moved.join(", "));
    }
    match told.stands {
        Stands::DoesNotFit => text += "  It names what this version of the tree does not have.\n",
        Stands::Clashes => text += "  Its choices do not hold together here.\n",
        Stands::Holds if told.differ.is_empty() => text += "  Here it gives the same values as the record tells.\n",
        Stands::Holds => {
            let many = count(told.differ.len(), "value is", "values are");
            text += &format!("  {many} not as in the record, because this host or this version differs:\n");
            let rows: Vec<Vec<Cell>> = told.differ.iter().take(LISTED).map(row).collect();
            text += &columns(&rows, 4, width);
            if told.differ.len() > LISTED {
                text += &format!("    and {} more\n", told.differ.len() - LISTED);
            }
        }
    }
    text
}

fn row(one: &Differing) -> Vec<Cell> {
    vec![(Role::Name, one.option.clone()), (Role::Faint, one.then.clone()), (Role::Value, format!("→ {}", one.now))]
}

/// Answers to questions about files.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct Answers {
    format: u32,
    answers: Vec<Answer>,
}

/// One answer.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
struct Answer {
    file: String,
    question: String,
    yes: bool,
    value: String,
}

/// Puts answers together, each with the file and the question.
pub fn answers(rows: &[(String, String, record::Answer)]) -> Answers {
    let one = |(file, question, record::Answer { yes, value }): &(String, String, record::Answer)| Answer {
        file: file.clone(),
        question: question.clone(),
        yes: *yes,
        value: value.clone(),
    };
    Answers { format: 1, answers: rows.iter().map(one).collect() }
}
