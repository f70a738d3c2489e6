//! Which parts a part uses, directly and through others.

use std::collections::{HashMap, HashSet, VecDeque};

use super::lower::PlanInput;
use crate::board::{Ending, Generator, ListDef, Making, PartDef, PartId, Piece};
use crate::survey::FactState;

/// What the parts of a plan use, each worked out once.
#[derive(Default)]
pub(super) struct Used {
    direct: HashMap<PartId, Vec<PartId>>,
    /// Parts that compiles of their users look at, and those that lead to such a part.
    leading: HashSet<PartId>,
}

impl PlanInput<'_> {
    /// Returns the parts that a part uses now, bundled copies of its needs among them.
    pub fn uses(&self, part: &PartDef) -> Vec<PartId> {
        let mut uses: Vec<PartId> = self.held(&part.uses).into_iter().copied().collect();
        for need in self.held(&part.needs) {
            for fact in self.facts.meeting(*need) {
                if let FactState::Bundled(copy) = &fact.state
                    && !uses.contains(copy)
                {
                    uses.push(*copy);
                }
            }
        }
        uses
    }

    /// Parts whose steps must be planned before those of a part.
    pub(super) fn waits_for(&self, id: PartId, part: &PartDef) -> Vec<PartId> {
        let mut parts = self.uses(part);
        let made = |id: &PartId| self.is_made(&self.board.parts[*id]);
        parts.extend(self.held(&part.lists).into_iter().copied().filter(made));
        let bases = self.ways_of(part);
        for base in &bases[..bases.len() - 1] {
            parts.extend(self.uses(base).into_iter().filter(|used| self.is_seen_by_compiles(&self.board.parts[*used])));
        }
        if part.kind.ending() == Some(Ending::Program) {
            parts.extend(self.builtin_modules(id));
        }
        parts.extend(part.kind.list().into_iter().flat_map(ListDef::parts).filter(made));
        if let Some(generator) = part.kind.generator() {
            parts.extend(generator.parts());
            if let Generator::Command(command) = generator {
                parts.extend(command.pieces().filter_map(|piece| match piece {
                    Piece::Part(part) => Some(*part),
                    _ => None,
                }));
            }
        }
        parts
    }

    /// Tells whether the compiles of those that use a part look at it.
    fn is_seen_by_compiles(&self, part: &PartDef) -> bool {
        part.kind.making() == Making::Generated || !part.public_includes.is_empty()
    }
}

impl Used {
    /// Takes in a part; those that it uses and that are made are there already.
    pub fn add(&mut self, input: PlanInput<'_>, id: PartId) {
        let part = &input.board.parts[id];
        let direct = input.uses(part);
        if input.is_seen_by_compiles(part) || direct.iter().any(|used| self.leads(*used)) {
            self.leading.insert(id);
        }
        self.direct.insert(id, direct);
    }

    /// What is not there is not made, and nobody knows what it leads to.
    fn leads(&self, id: PartId) -> bool {
        self.leading.contains(&id) || !self.direct.contains_key(&id)
    }

    /// Returns what a part uses directly.
    pub fn direct(&self, id: PartId) -> &[PartId] {
        self.direct.get(&id).map_or(&[], Vec::as_slice)
    }

    /// Returns the parts that the compiles of a part look at, of all that it uses, nearest first, without repeats. Only what leads to such
    /// a part is walked through, so that a long chain of others costs nothing.
    pub fn seen_by_compiles(&self, input: PlanInput<'_>, id: PartId) -> Vec<PartId> {
        let leading = |id: PartId| {
            let direct = match self.direct.get(&id) {
                Some(direct) => direct.clone(),
                None => input.uses(&input.board.parts[id]),
            };
            direct.into_iter().filter(|used| self.leads(*used))
        };
        let mut waiting: VecDeque<PartId> = leading(id).collect();
        let mut at = input.board.parts[id].base;
        while let Some(base) = at {
            waiting.extend(leading(base));
            at = input.board.parts[base].base;
        }
        let (mut met, mut seen) = (HashSet::new(), Vec::new());
        while let Some(next) = waiting.pop_front() {
            if met.insert(next) {
                if input.is_seen_by_compiles(&input.board.parts[next]) {
                    seen.push(next);
                }
                waiting.extend(leading(next));
            }
        }
        seen
    }

    /// Returns the parts to link into one that is made of `roots`, users before what they use, as linkers want archives. What a shared
    /// library is made of is in it, and an archive holds the objects of the object sets that it uses.
    pub fn linked(&self, input: PlanInput<'_>, roots: &[PartId]) -> Vec<PartId> {
        /// A part whose uses are walked.
        struct Frame<'a> {
            uses: &'a [PartId],
            archive: bool,
            /// Comes into the list after what it uses.
            listed: Option<PartId>,
        }
        let kind = |id: PartId| &input.board.parts[id].kind;
        let frame = |id: PartId, listed: Option<PartId>| {
            let archive = matches!(kind(id).ending(), Some(Ending::Archive | Ending::Partial));
            Frame { uses: self.direct(id), archive, listed }
        };
        let mut after = Vec::new();
        let mut met: HashSet<PartId> = roots.iter().copied().collect();
        let mut through = HashSet::new();
        for root in roots.iter().rev() {
            let mut open = vec![Frame { archive: false, ..frame(*root, None) }];
            while let Some(top) = open.last_mut() {
                let Some((used, rest)) = top.uses.split_last() else {
                    after.extend(top.listed);
                    open.pop();
                    continue;
                };
                top.uses = rest;
                if top.archive && matches!(kind(*used).ending(), Some(Ending::Loose | Ending::Partial)) {
                    if through.insert(*used) {
                        open.push(frame(*used, None));
                    }
                } else if met.insert(*used) {
                    if kind(*used).is_shared_library() {
                        after.push(*used);
                    } else {
                        open.push(frame(*used, Some(*used)));
                    }
                }
            }
        }
        after.reverse();
        after
    }
}
