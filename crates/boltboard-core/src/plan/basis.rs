//! What a plan followed from, beyond files: kept with the seal of a build, so that the next plan need only be made for the parts
//! that a change touches.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use super::lower::PlanInput;
use super::macros::MacroTable;
use crate::base::Digest;
use crate::board::{Generator, OptionId, PartId, PartKind};
use crate::resolve::Resolution;
use crate::survey::{FactState, Facts};

/// What a plan followed from.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Basis {
    facts: Digest,
    /// The options' values and whether they are in force, in the order of the board.
    values: Vec<String>,
    /// The parts whose definition looks at each option.
    lookers: Vec<Vec<PartId>>,
    /// The options that the toolchain looks at.
    common: BTreeSet<OptionId>,
    /// The parts whose plan may look at that of each part.
    followers: Vec<BTreeSet<PartId>>,
    /// Generated parts: every plan has them.
    pub(super) generated: BTreeSet<PartId>,
    macros: Vec<KnownMacro>,
}

/// A macro of the option headers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct KnownMacro {
    name: String,
    stands_for: Option<String>,
    /// The parts with files that name it.
    parts: BTreeSet<PartId>,
}

impl Basis {
    /// Looks at the whole board.
    pub fn of(input: &PlanInput<'_>, macros: &MacroTable) -> Basis {
        let board = input.board;
        let mut lookers = vec![Vec::new(); board.options.len()];
        let mut followers = vec![BTreeSet::new(); board.parts.len()];
        let mut generated = BTreeSet::new();
        for (id, part) in board.parts.iter() {
            let mentions = part.mentions();
            mentions.options.iter().for_each(|option| lookers[option.index()].push(id));
            mentions.parts.iter().for_each(|used| {
                followers[used.index()].insert(id);
            });
            for fact in part.needs.iter().flat_map(|need| input.facts.meeting(need.item)) {
                if let FactState::Bundled(copy) = &fact.state {
                    followers[copy.index()].insert(id);
                }
            }
            match &part.kind {
                PartKind::Module(role) => {
                    followers[id.index()].insert(role.program);
                }
                PartKind::Generated(generator) => {
                    generated.insert(id);
                    if let Generator::ModuleTable(table) = generator {
                        followers[table.program.index()].insert(id);
                    }
                }
                PartKind::Program
                | PartKind::StaticLibrary
                | PartKind::SharedLibrary { .. }
                | PartKind::Objects
                | PartKind::Data => {}
            }
        }
        let known = |(name, entry): (&String, &super::macros::MacroEntry)| KnownMacro {
            name: name.clone(),
            stands_for: entry.stands_for.clone(),
            parts: BTreeSet::new(),
        };
        Basis {
            facts: digest_of(input.facts),
            values: values_of(input.resolution, lookers.len()),
            lookers,
            common: board.toolchain.mentions().options,
            followers,
            generated,
            macros: macros.entries.iter().map(known).collect(),
        }
    }

    /// Notes that files of a part name a macro.
    pub fn names(&mut self, part: PartId, name: &str) {
        if let Ok(at) = self.macros.binary_search_by(|known| known.name.as_str().cmp(name)) {
            self.macros[at].parts.insert(part);
        }
    }

    /// Returns some parts with all those that their plan may look at.
    pub(super) fn with_looked_at(&self, parts: &BTreeSet<PartId>) -> BTreeSet<PartId> {
        let mut looks_at: BTreeMap<PartId, Vec<PartId>> = BTreeMap::new();
        for (used, followers) in self.followers.iter().enumerate() {
            followers.iter().for_each(|part| looks_at.entry(*part).or_default().push(PartId::new(used)));
        }
        let mut all = parts.clone();
        let mut waiting: Vec<PartId> = parts.iter().copied().collect();
        while let Some(part) = waiting.pop() {
            let used = looks_at.get(&part).into_iter().flatten();
            waiting.extend(used.copied().filter(|used| all.insert(*used)));
        }
        all
    }

    /// Returns the parts that other values or macros touch, and takes these in; `None` when they touch everything.
    pub(super) fn follow(&mut self, resolution: &Resolution, facts: &Facts, macros: &MacroTable) -> Option<Follows> {
        let values = values_of(resolution, self.values.len());
        let names = macros.entries.keys().map(String::as_str);
        if self.facts != digest_of(facts) || !self.macros.iter().map(|known| known.name.as_str()).eq(names) {
            return None;
        }
        let mut parts = BTreeSet::new();
        let mut waiting = Vec::new();
        for (at, (before, now)) in self.values.iter().zip(&values).enumerate() {
            if before != now {
                if self.common.contains(&OptionId::new(at)) {
                    return None;
                }
                waiting.extend(self.lookers[at].iter().copied());
            }
        }
        while let Some(part) = waiting.pop() {
            if parts.insert(part) {
                waiting.extend(self.followers[part.index()].iter().copied());
            }
        }
        self.values = values;
        let mut headers = HeaderTexts::Same;
        for (known, entry) in self.macros.iter_mut().zip(macros.entries.values()) {
            if known.stands_for != entry.stands_for {
                known.stands_for.clone_from(&entry.stands_for);
                parts.extend(known.parts.iter().copied());
                headers = HeaderTexts::Other;
            }
        }
        Some(Follows { parts, headers })
    }

    /// Packs it.
    pub fn packed(&self) -> Vec<u8> {
        postcard::to_stdvec(self).unwrap_or_default()
    }

    /// Unpacks one; `None` when it is none.
    pub fn unpacked(bytes: &[u8]) -> Option<Basis> {
        postcard::from_bytes(bytes).ok()
    }
}

/// What other values touch.
pub(super) struct Follows {
    pub parts: BTreeSet<PartId>,
    pub headers: HeaderTexts,
}

/// Whether option headers come out another way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum HeaderTexts {
    Same,
    Other,
}

fn values_of(resolution: &Resolution, options: usize) -> Vec<String> {
    let value = |at| resolution.get(OptionId::new(at));
    (0..options).map(value).map(|resolved| format!("{} {:?}", resolved.value, resolved.effect)).collect()
}

fn digest_of(facts: &Facts) -> Digest {
    Digest::of(&serde_json::to_vec(facts).unwrap_or_default())
}
