//! Holds a build by a drawn description against the watched one.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::code::code_of;
use super::draw::{Drawing, Theirs};
use super::watched::Watched;
use super::words::is_source;
use crate::base::Digest;
use crate::plan::Plan;
use crate::step::{Location, Step};
use crate::work::Folders;

/// How two builds compare.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Proof {
    /// Objects of the watched build that can be compared.
    pub objects: usize,
    /// Those that are the same.
    pub objects_same: usize,
    /// Those that are the same but for debug information, which names the folders of a compile.
    pub objects_alike: usize,
    /// Finished files of the watched build that can be compared.
    pub outputs: usize,
    /// Those that are the same.
    pub outputs_same: usize,
    /// Those that are made of the same objects and parts, and are not the same: in another order, or with other places in them.
    pub outputs_alike: Vec<Difference>,
    /// All others.
    pub differences: Vec<Difference>,
    /// Files of the watched build that were gone at its end: nobody can compare them.
    pub gone: Vec<String>,
}

impl Proof {
    /// Tells whether something was compared, and nothing differs.
    pub fn holds(&self) -> bool {
        self.differences.is_empty() && self.objects + self.outputs > 0
    }
}

/// A file that is not the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The watched build's file.
    pub theirs: String,
    /// Ours, by its name in our build; `None` where ours makes none.
    pub ours: Option<String>,
    /// The command of the watched build that made it.
    pub command: String,
    /// Our command.
    pub own_command: Option<String>,
    /// What may explain it.
    pub why: Option<Why>,
}

/// What may explain that two files differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// The commands have other flags or macros.
    OtherWords {
        /// Those that only theirs has.
        theirs: Vec<String>,
        /// Those that only ours has.
        ours: Vec<String>,
    },
    /// The compiler was told another name of the source, and a text can hold its own name.
    OtherName {
        /// The name there.
        theirs: String,
        /// The name here.
        ours: String,
    },
}

/// What a plan makes, for comparing.
#[derive(Default)]
struct Ours<'p> {
    objects: BTreeMap<(String, String), &'p Location>,
    outputs: BTreeMap<String, &'p Location>,
    commands: BTreeMap<&'p Location, String>,
}

impl<'p> Ours<'p> {
    fn of(plan: &'p Plan) -> Ours<'p> {
        let mut ours = Ours::default();
        for (_, step) in plan.steps.iter() {
            let part = step.part.map_or(String::new(), |part| plan.part_name(part).to_string());
            let Some(write) = step.writes.first() else { continue };
            ours.commands.insert(write, command_of(step));
            match (step.source(), write) {
                (Some(Location::Tree(source) | Location::Made(source)), Location::Object(_)) => {
                    ours.objects.insert((part, source.to_string()), write);
                }
                (None, Location::Output(_) | Location::Made(_)) if step.leads_to().is_none() => {
                    ours.outputs.insert(part, write);
                }
                _ => {}
            }
        }
        ours
    }
}

/// Compares what a build by a plan left with what the watched one left.
pub fn prove(watched: &Watched, drawing: &Drawing, plan: &Plan, folders: &Folders) -> Proof {
    let left: BTreeMap<String, &Digest> =
        watched.left.iter().map(|(id, digest)| (watched.text(*id).to_string(), digest)).collect();
    let code: BTreeMap<String, &Digest> =
        watched.code.iter().map(|(id, digest)| (watched.text(*id).to_string(), digest)).collect();
    let ours = Ours::of(plan);
    let tree = watched.tree.to_string_lossy().into_owned();
    let short = |path: &str| path.strip_prefix(&format!("{tree}/")).unwrap_or(path).to_string();
    let difference = |theirs: &Theirs, at: Option<&&Location>| {
        let own_command = at.and_then(|at| ours.commands.get(*at)).cloned();
        let why = own_command
            .as_ref()
            .and_then(|own| other_words(&theirs.command, own).or_else(|| other_name(&theirs.command, own)));
        let (command, ours) = (theirs.command.clone(), at.map(ToString::to_string));
        Difference { theirs: short(&theirs.path), ours, command, own_command, why }
    };
    let is_same = |at: Option<&&Location>, digest: &Digest| at.is_some_and(|at| same(&at.path(folders), digest));
    let mut proof = Proof::default();
    // Parts of which something differs, or cannot be compared.
    let mut other: BTreeSet<&str> = BTreeSet::new();
    for (key, theirs) in &drawing.objects {
        let at = ours.objects.get(key);
        match left.get(&theirs.path) {
            None => proof.gone.push(short(&theirs.path)),
            Some(digest) => {
                proof.objects += 1;
                let own_code = || code_of(&std::fs::read(at?.path(folders)).ok()?);
                if is_same(at, digest) {
                    proof.objects_same += 1;
                } else if code.get(&theirs.path).is_some_and(|code| own_code() == Some(**code)) {
                    proof.objects_alike += 1;
                } else {
                    other.insert(&key.0);
                    proof.differences.push(difference(theirs, at));
                }
            }
        }
    }
    for (part, theirs) in &drawing.outputs {
        let at = ours.outputs.get(part);
        let Some(digest) = left.get(&theirs.path) else {
            proof.gone.push(short(&theirs.path));
            continue;
        };
        proof.outputs += 1;
        if is_same(at, digest) {
            proof.outputs_same += 1;
        } else if at.is_some() && !made_of(drawing, part).iter().any(|part| other.contains(part.as_str())) {
            proof.outputs_alike.push(difference(theirs, at));
        } else {
            proof.differences.push(difference(theirs, at));
        }
    }
    proof
}

/// A step's command with the macros that its compile may be given.
fn command_of(step: &Step) -> String {
    let mut words = step.command();
    let defines = step.compile().map(|compile| &compile.setting.defines);
    words.extend(defines.into_iter().flatten().map(|(name, value)| match value {
        Some(value) => format!("-D{name}={value}"),
        None => format!("-D{name}"),
    }));
    words.join(" ")
}

/// Flags and macros that only one of two commands has, but for those that say where something lies.
fn other_words(theirs: &str, ours: &str) -> Option<Why> {
    /// Flags that say where something lies, or that our builder gives.
    const OF_PLACES: [&str; 9] = ["-o", "-c", "-I", "-i", "-L", "-M", "-ffile-prefix-map", "-frandom-seed", "-pipe"];
    let counts = |word: &&str| word.starts_with('-') && !OF_PLACES.iter().any(|flag| word.starts_with(flag));
    // A macro without a value is 1.
    let spelt = |word: &str| match word.strip_prefix("-D") {
        Some(text) if !text.contains('=') => format!("{word}=1"),
        _ => word.to_string(),
    };
    let flags = |command: &str| command.split(' ').filter(counts).map(spelt).collect::<Vec<String>>();
    let (there, here) = (flags(theirs), flags(ours));
    let only = |these: &[String], those: &[String]| -> Vec<String> {
        these.iter().filter(|word| !those.contains(word)).cloned().collect()
    };
    let (theirs, ours) = (only(&there, &here), only(&here, &there));
    (!theirs.is_empty() || !ours.is_empty()).then_some(Why::OtherWords { theirs, ours })
}

/// The names of the source in two commands, where they are not the same.
fn other_name(theirs: &str, ours: &str) -> Option<Why> {
    let source = |command: &str| command.split(' ').skip(1).find(|word| is_source(word)).map(str::to_string);
    let (theirs, ours) = (source(theirs)?, source(ours)?);
    (theirs != ours).then_some(Why::OtherName { theirs, ours })
}

/// All parts that one is made of, and itself.
fn made_of(drawing: &Drawing, part: &str) -> BTreeSet<String> {
    let (mut all, mut waiting) = (BTreeSet::new(), vec![part.to_string()]);
    while let Some(next) = waiting.pop() {
        if let Some(uses) = drawing.uses.get(&next) {
            waiting.extend(uses.iter().filter(|used| !all.contains(*used)).cloned());
        }
        all.insert(next);
    }
    all
}

fn same(path: &Path, digest: &Digest) -> bool {
    Digest::of_file(path).is_ok_and(|own| own == *digest)
}
