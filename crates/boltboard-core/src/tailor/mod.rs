//! A small profile that covers what machines really use.
//!
//! Options say what shows that they are used: devices that they serve, programs and files, and the modules that they make. What evidence shows
//! stays on, and what it requires comes along; what nothing shows goes. Options that nothing could show are left as they are.

mod evidence;

use std::collections::{BTreeMap, BTreeSet};

use globset::GlobBuilder;

use crate::board::{Board, Linkage, OptionId, Value};
use crate::logic::Logic;
use crate::profile::Choices;
use crate::resolve::{Resolution, together};
use crate::survey::Facts;

pub use evidence::{Evidence, EvidenceFault};

/// What shows that an option is used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Sign {
    /// A device that it serves, of a machine.
    Device(String, String),
    /// A loaded module, of a machine.
    Module(String, String),
    /// A program or shared object that runs, of a machine.
    Mapped(String, String),
    /// A file, of a machine.
    File(String, String),
    /// A person wants it.
    Wanted,
}

/// An option that stays.
#[derive(Debug, Clone)]
pub struct Kept {
    /// The option.
    pub option: OptionId,
    /// Its value.
    pub value: Value,
    /// What shows it; at least one.
    pub signs: Vec<Sign>,
}

/// A proposal.
#[derive(Debug, Clone)]
pub struct Tailored {
    /// What stays, and why.
    pub kept: Vec<Kept>,
    /// What was on and goes.
    pub left_out: Vec<OptionId>,
    /// What nothing shows and stays on all the same, because something that stays requires it.
    pub required: Vec<OptionId>,
    /// What was shown and cannot be had beside the others, or on this host.
    pub impossible: Vec<OptionId>,
    /// The choices, in the order of options.
    pub chosen: Vec<(OptionId, Value)>,
}

/// The names by which an option's own modules show: those of its parts.
fn module_names(board: &Board) -> BTreeMap<OptionId, Vec<String>> {
    let mut names: BTreeMap<OptionId, Vec<String>> = BTreeMap::new();
    for id in &board.modules {
        let part = &board.parts[*id];
        if let Some(module) = part.kind.module() {
            names.entry(module.option).or_default().push(part.name.clone());
        }
    }
    names
}

/// The files that definitions ask about.
pub fn files_asked(board: &Board) -> BTreeSet<String> {
    let signs = board.signs.values().flat_map(|signs| &signs.shown_by);
    signs.filter(|name| name.starts_with('/')).cloned().collect()
}

/// How the kernel writes a module's name.
fn kernel_name(name: &str) -> String {
    name.replace('-', "_")
}

/// Finds what shows each option that something could show; an empty list where nothing does.
pub fn signs(board: &Board, evidence: &[Evidence]) -> BTreeMap<OptionId, Vec<Sign>> {
    let modules = module_names(board);
    let options: BTreeSet<OptionId> = board.signs.keys().chain(modules.keys()).copied().collect();
    let mut found = BTreeMap::new();
    for option in options {
        let mut signs = Vec::new();
        let said = board.signs.get(&option);
        for one in evidence {
            let machine = || one.machine.clone();
            for pattern in said.into_iter().flat_map(|said| &said.serves) {
                // That it is a pattern was checked when it was read.
                let Ok(glob) = GlobBuilder::new(pattern).literal_separator(false).build() else { continue };
                let matcher = glob.compile_matcher();
                let device = one.devices.iter().find(|device| matcher.is_match(device.as_str()));
                signs.extend(device.map(|device| Sign::Device(device.clone(), machine())));
            }
            let names =
                said.into_iter().flat_map(|said| &said.shown_by).chain(modules.get(&option).into_iter().flatten());
            for name in names {
                if name.starts_with('/') {
                    signs.extend(one.files.contains(name).then(|| Sign::File(name.clone(), machine())));
                    continue;
                }
                let loaded = one.modules.iter().find(|module| kernel_name(module) == kernel_name(name));
                signs.extend(loaded.map(|module| Sign::Module(module.clone(), machine())));
                let object = format!("{name}.so");
                let mapped = one.mapped.iter().find(|mapped| *mapped == name || **mapped == object);
                signs.extend(mapped.map(|mapped| Sign::Mapped(mapped.clone(), machine())));
            }
        }
        found.insert(option, signs);
    }
    found
}

/// Proposes a profile on top of other choices, whose values are `now`. What a person wants to keep stays whatever is shown.
pub fn tailor(
    board: &Board,
    logic: &Logic,
    below: &Choices,
    (facts, now): (&Facts, &Resolution),
    evidence: &[Evidence],
    keep: &BTreeSet<OptionId>,
) -> Option<Tailored> {
    let mut shown = signs(board, evidence);
    // What is built in shows nowhere by itself: that nothing shows it says nothing.
    let silent =
        |option: OptionId| !board.signs.contains_key(&option) && *now.value(option) == Value::Module(Linkage::Builtin);
    shown.retain(|option, signs| !signs.is_empty() || !silent(*option));
    for option in keep {
        shown.entry(*option).or_default().push(Sign::Wanted);
    }
    let on = |option: OptionId| match now.value(option) {
        value if !value.is_off() => Some(value.clone()),
        Value::Module(_) => Some(Value::Module(Linkage::Loadable)),
        Value::Switch(_) => Some(Value::Switch(crate::board::Switch::On)),
        _ => None,
    };
    let off = |option: OptionId| match now.value(option) {
        Value::Module(_) => Some(Value::Module(Linkage::Off)),
        Value::Switch(_) => Some(Value::Switch(crate::board::Switch::Off)),
        _ => None,
    };
    let is_shown = |option: &OptionId| !shown[option].is_empty();
    // What is shown counts before what goes.
    let wanted_on = shown.keys().copied().filter(is_shown).filter_map(|option| Some((option, on(option)?)));
    let wanted_off = shown.keys().copied().filter(|o| !is_shown(o)).filter_map(|option| Some((option, off(option)?)));
    let wanted: Vec<(OptionId, Value)> = wanted_on.chain(wanted_off).collect();
    // What a person chose before is what this is about; the rest of their choices stays.
    let mut base = below.clone();
    base.items.retain(|choice| !shown.contains_key(&choice.option));
    let started = together(board, logic, wanted, &base, facts)?;
    let mut tailored = Tailored {
        kept: Vec::new(),
        left_out: Vec::new(),
        required: Vec::new(),
        impossible: Vec::new(),
        chosen: started.chosen.clone(),
    };
    for (option, value) in &started.chosen {
        if is_shown(option) {
            tailored.kept.push(Kept { option: *option, value: value.clone(), signs: shown[option].clone() });
        } else if !now.value(*option).is_off() {
            tailored.left_out.push(*option);
        }
    }
    for option in started.let_go {
        if is_shown(&option) { tailored.impossible.push(option) } else { tailored.required.push(option) }
    }
    Some(tailored)
}

#[cfg(test)]
mod tests;
