//! What a name stands for on a board, of whatever kind: a person rarely knows which.

use super::{Atom, Board, Kind, NeedCheck, NeedId, OptionId, PartId, SectionId, TestId};
use crate::base::RelPath;
use crate::expr::Expr;

/// Something that a name stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Named {
    /// An option.
    Option(OptionId),
    /// A value of a pick.
    Value(OptionId),
    /// The macro of an option.
    Macro(OptionId),
    /// A need.
    Need(NeedId),
    /// A library, header or program that a need looks for.
    SoughtBy(NeedId),
    /// A part.
    Part(PartId),
    /// A section.
    Section(SectionId),
    /// A test of the tree.
    Test(TestId),
}

/// Why a source is not part of a build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LeftOut {
    /// The part whose source it is.
    pub part: PartId,
    /// The conditions that would all have to hold.
    pub conditions: Vec<Expr<Atom>>,
}

impl Board {
    /// Returns all that a name stands for, in the order of the kinds.
    pub fn named(&self, name: &str) -> Vec<Named> {
        let same = |other: &str| other.eq_ignore_ascii_case(name);
        let mut found: Vec<Named> = self.option(name).map(Named::Option).into_iter().collect();
        for (id, option) in self.options.iter() {
            if option.macros.iter().any(|r#macro| r#macro.name == name) {
                found.push(Named::Macro(id));
            }
            if matches!(&option.kind, Kind::Pick(values) if values.iter().any(|value| value.name == name)) {
                found.push(Named::Value(id));
            }
        }
        found.extend(self.need(name.trim_start_matches("need:")).map(Named::Need));
        let library = name.trim_start_matches("-l").trim_start_matches("lib");
        let library = library.split(".so").next().unwrap_or_default().trim_end_matches(".a");
        for (id, need) in self.needs.iter().filter(|(_, need)| need.name != name) {
            let NeedCheck::Host(check) = &need.check else { continue };
            let tools = check.tool.iter().flat_map(|tool| &tool.names);
            let files = check.headers.iter().chain(tools).chain(&check.library);
            if files.into_iter().any(|sought| sought == name) || check.link.iter().any(|linked| linked == library) {
                found.push(Named::SoughtBy(id));
            }
        }
        found.extend(self.part(name).map(Named::Part));
        let sections = self.sections.iter().filter(|(_, section)| same(&section.name) || same(&section.title));
        found.extend(sections.map(|(id, _)| Named::Section(id)));
        found.extend(self.tests.iter().filter(|(_, test)| test.name == name).map(|(id, _)| Named::Test(id)));
        found
    }

    /// Returns the parts that a file is a source of, each with the conditions under which it is.
    pub fn source_of(&self, file: &RelPath) -> Vec<LeftOut> {
        let mut found = Vec::new();
        for (part, definition) in self.parts.iter() {
            for rule in &definition.sources {
                let of_rule = rule.globs.iter().any(|glob| glob.matches(file));
                if of_rule && !rule.except.iter().any(|glob| glob.matches(file)) {
                    let own = rule.when.iter().map(|when| when.expr.clone());
                    found.push(LeftOut { part, conditions: definition.gate().into_iter().chain(own).collect() });
                }
            }
        }
        found
    }
}

/// Returns the options that a condition names, each once, in order.
pub fn options_of(expr: &Expr<Atom>) -> Vec<OptionId> {
    let mut options = Vec::new();
    expr.for_each_atom(&mut |atom| match atom {
        Atom::On(option) | Atom::Compare(option, _, _) if !options.contains(option) => options.push(*option),
        Atom::On(_) | Atom::Compare(..) | Atom::Need(_) => {}
    });
    options
}
