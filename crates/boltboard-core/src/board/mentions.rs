//! What the making of a part looks at: the one place that knows all corners of a part's definition.

use super::lists::ListDef;
use std::collections::BTreeSet;

use super::generator::Generator;
use super::interp::{Interp, Piece};
use super::need::NeedId;
use super::option::OptionId;
use super::part::{PartDef, PartId, When};
use super::toolchain::{Toolchain, Toolchains};
use super::{Atom, Condition};

/// Options, needs and parts that something looks at, in conditions as well as for themselves.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Mentions {
    /// Options.
    pub options: BTreeSet<OptionId>,
    /// Needs.
    pub needs: BTreeSet<NeedId>,
    /// Parts.
    pub parts: BTreeSet<PartId>,
}

impl Mentions {
    /// Adds what a condition looks at.
    pub fn when(&mut self, condition: Option<&Condition>) {
        condition.into_iter().for_each(|condition| {
            condition.expr.for_each_atom(&mut |atom| match atom {
                Atom::On(option) | Atom::Compare(option, _, _) => {
                    self.options.insert(*option);
                }
                Atom::Need(need) => {
                    self.needs.insert(*need);
                }
            });
        });
    }

    /// Adds what a text looks at.
    pub fn interp(&mut self, interp: &Interp) {
        for piece in &interp.pieces {
            match piece {
                Piece::Option(option) => {
                    self.options.insert(*option);
                }
                Piece::Part(part) => {
                    self.parts.insert(*part);
                }
                Piece::Text(_)
                | Piece::Beside(_)
                | Piece::Folder(_)
                | Piece::Reads
                | Piece::Writes
                | Piece::Source(_)
                | Piece::Value(_)
                | Piece::TreeName
                | Piece::TreeVersion => {}
            }
        }
    }

    fn conditions<T>(&mut self, list: &[When<T>]) {
        list.iter().for_each(|entry| self.when(entry.when.as_ref()));
    }

    fn texts(&mut self, list: &[When<Interp>]) {
        self.conditions(list);
        list.iter().for_each(|entry| self.interp(&entry.item));
    }
}

impl PartDef {
    /// Returns all that decides how the part is made and installed, but for what a template names and the modules of its program.
    pub fn mentions(&self) -> Mentions {
        let mut all = Mentions::default();
        all.when(self.when.as_ref());
        for rule in &self.sources {
            all.when(rule.when.as_ref());
            rule.flags.iter().chain(&rule.without).for_each(|flag| all.interp(flag));
        }
        [&self.includes, &self.public_includes].into_iter().for_each(|list| all.conditions(list));
        [&self.flags, &self.defines, &self.link_flags, &self.libraries].into_iter().for_each(|list| all.texts(list));
        all.conditions(&self.lists);
        all.parts.extend(self.lists.iter().map(|list| list.item));
        if let Some(modules) = &self.modules {
            [&modules.flags, &modules.builtin_flags, &modules.link_flags].into_iter().for_each(|list| all.texts(list));
        }
        for (option, carrier) in &self.given {
            all.options.insert(*option);
            all.when(carrier.when.as_ref());
        }
        all.conditions(&self.uses);
        all.parts.extend(self.uses.iter().map(|used| used.item));
        all.conditions(&self.needs);
        all.needs.extend(self.needs.iter().map(|need| need.item));
        for (when, text) in self.values.iter().flat_map(|value| &value.cases) {
            all.when(when.as_ref());
            all.interp(text);
        }
        if let Some(rule) = &self.install {
            all.interp(&rule.to);
            rule.folders.iter().filter_map(|folder| folder.owner.as_ref()).for_each(|owner| all.interp(owner));
        }
        all.options.extend(self.kind.module().map(|role| role.option));
        all.parts.extend(self.kind.list().into_iter().flat_map(ListDef::parts));
        match self.kind.generator() {
            Some(generator @ (Generator::Command(_) | Generator::Phase { .. })) => {
                all.parts.extend(generator.parts());
                if let Generator::Command(command) = generator {
                    command.stages.iter().for_each(|stage| all.conditions(stage));
                    command.texts().for_each(|text| all.interp(text));
                }
            }
            Some(Generator::ModuleTable(table)) => {
                all.parts.insert(table.program);
            }
            Some(Generator::Record(header)) => all.parts.extend(header.of()),
            Some(Generator::Metadata { of, .. }) => {
                for text in of.lists().into_iter().flatten() {
                    all.when(text.when.as_ref());
                    all.interp(&text.item);
                }
                all.conditions(&of.public_needs);
                all.needs.extend(of.public_needs.iter().map(|need| need.item));
                all.parts.extend(of.libraries.iter().copied());
            }
            Some(Generator::Service { service, .. }) => {
                service.lists().into_iter().for_each(|list| all.conditions(list));
                all.conditions(&service.folders);
                service.texts().for_each(|text| all.interp(text));
                all.parts.insert(service.program);
            }
            // It tells all values; generated parts are planned each time.
            Some(Generator::Kit(_) | Generator::Given { .. } | Generator::Template { .. }) | None => {}
        }
        all
    }
}

impl PartDef {
    /// Returns the options that decide how its sources, and those of parts that share its ways, are compiled.
    pub fn compile_options(&self) -> BTreeSet<OptionId> {
        let mut all = Mentions::default();
        [&self.includes, &self.public_includes].into_iter().for_each(|list| all.conditions(list));
        [&self.flags, &self.defines].into_iter().for_each(|list| all.texts(list));
        if let Some(modules) = &self.modules {
            [&modules.flags, &modules.builtin_flags, &modules.link_flags].into_iter().for_each(|list| all.texts(list));
        }
        all.conditions(&self.needs);
        all.conditions(&self.uses);
        all.options.extend(self.given.iter().map(|(option, _)| *option));
        all.options
    }
}

impl Toolchain {
    /// Returns all that decides how everything is compiled.
    pub fn mentions(&self) -> Mentions {
        let mut all = Mentions::default();
        self.programs().chain([&self.assembler]).for_each(|text| all.interp(text));
        self.lists().into_iter().for_each(|list| all.texts(list));
        all
    }
}

impl Toolchains {
    /// Returns all that decides how everything is compiled, for whichever machine.
    pub fn mentions(&self) -> Mentions {
        let [mut all, host] = self.both().map(Toolchain::mentions);
        all.options.extend(host.options);
        all.needs.extend(host.needs);
        all.parts.extend(host.parts);
        all
    }
}
