//! What a plan followed from, beyond files: kept with the seal of a build, so that the next plan need only be made for the parts
//! that a change touches.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::base::{Digest, json_text, packed_bytes};
use crate::board::{Board, Generator, ModulePlace, OptionId, PartId};
use crate::plan::{MacroEntry, MacroTable, PlanInput, macro_table};
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
    /// Whether it is as it was unpacked.
    #[serde(skip)]
    alike: bool,
}

/// A macro of the option headers.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
struct KnownMacro {
    name: String,
    entry: MacroEntry,
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
        // What many parts share of their compiles counts as what all share.
        let mut common = board.toolchains.mentions().options;
        let mut bases = BTreeSet::new();
        for (used, carriers) in &board.carriers {
            // Whether its code must be able to lie anywhere follows from who takes it in.
            carriers.iter().for_each(|carrier| {
                followers[carrier.index()].insert(*used);
            });
        }
        for (id, part) in board.parts.iter() {
            let mentions = part.mentions();
            if let Some(base) = part.base.filter(|base| bases.insert(*base)) {
                common.extend(board.parts[base].compile_options());
            }
            mentions.options.iter().for_each(|option| lookers[option.index()].push(id));
            mentions.parts.iter().for_each(|used| {
                followers[used.index()].insert(id);
            });
            for fact in part.needs.iter().flat_map(|need| input.facts.meeting(need.item)) {
                if let FactState::Bundled(copy) = &fact.state {
                    followers[copy.index()].insert(id);
                }
            }
            // One in a list comes to its program through that.
            let alone = part.kind.module().filter(|role| role.place == ModulePlace::Alone);
            followers[id.index()].extend(alone.map(|role| role.program));
            if let Some(generator) = part.kind.generator() {
                generated.insert(id);
                if let Generator::ModuleTable(table) = generator {
                    followers[table.program.index()].insert(id);
                }
            }
        }
        let known = |(name, entry): (&String, &MacroEntry)| KnownMacro {
            name: name.clone(),
            entry: entry.clone(),
            parts: BTreeSet::new(),
        };
        Basis {
            facts: digest_of(input.facts),
            values: values_of(input.resolution, lookers.len()),
            lookers,
            common,
            followers,
            generated,
            macros: macros.entries.iter().map(known).collect(),
            alike: false,
        }
    }

    /// Tells whether it is known that files of a part name a macro, or that does not count.
    pub fn knows(&self, part: PartId, name: &str) -> bool {
        let at = self.macros.binary_search_by(|known| known.name.as_str().cmp(name));
        at.map_or(true, |at| self.macros[at].parts.contains(&part))
    }

    /// Notes that files of a part name a macro.
    pub fn names(&mut self, part: PartId, name: &str) {
        if let Ok(at) = self.macros.binary_search_by(|known| known.name.as_str().cmp(name)) {
            self.alike &= !self.macros[at].parts.insert(part);
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

    /// Returns the parts that other values touch, with the macros as they are now, and takes both in; `None` when they touch
    /// everything.
    pub(super) fn follow(&mut self, board: &Board, resolution: &Resolution, facts: &Facts) -> Option<Follows> {
        if self.facts != digest_of(facts) {
            return None;
        }
        let values = values_of(resolution, self.values.len());
        let mut waiting = Vec::new();
        for (at, (before, now)) in self.values.iter().zip(&values).enumerate() {
            if before != now {
                if self.common.contains(&OptionId::new(at)) {
                    return None;
                }
                self.alike = false;
                waiting.extend(self.lookers[at].iter().copied());
            }
        }
        if self.alike {
            let entries = self.macros.iter().map(|known| (known.name.clone(), known.entry.clone()));
            let macros = MacroTable::of(entries.collect());
            return Some(Follows { parts: BTreeSet::new(), headers: HeaderTexts::Same, macros });
        }
        self.values = values;
        let mut parts = BTreeSet::new();
        while let Some(part) = waiting.pop() {
            if parts.insert(part) {
                waiting.extend(self.followers[part.index()].iter().copied());
            }
        }
        let macros = macro_table(board, resolution, facts);
        if !self.macros.iter().map(|known| &known.name).eq(macros.entries.keys()) {
            return None;
        }
        let mut headers = HeaderTexts::Same;
        for (known, entry) in self.macros.iter_mut().zip(macros.entries.values()) {
            if known.entry != *entry {
                known.entry = entry.clone();
                parts.extend(known.parts.iter().copied());
                headers = HeaderTexts::Other;
            }
        }
        Some(Follows { parts, headers, macros })
    }

    /// Packs it.
    pub fn packed(&self) -> Vec<u8> {
        packed_bytes(self)
    }

    /// Unpacks one; `None` when it is none.
    pub fn unpacked(bytes: &[u8]) -> Option<Basis> {
        postcard::from_bytes(bytes).ok().map(|basis| Basis { alike: true, ..basis })
    }

    /// Tells whether nothing in it is other than it was when it was unpacked.
    pub fn is_as_unpacked(&self) -> bool {
        self.alike
    }
}

/// What other values touch.
pub(super) struct Follows {
    pub parts: BTreeSet<PartId>,
    pub headers: HeaderTexts,
    pub macros: MacroTable,
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
    Digest::of(json_text(facts).as_bytes())
}
