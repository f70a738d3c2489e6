//! The toolchain before any fact is known: facts are asked for with it.

use std::path::PathBuf;

use super::host::{Wants, filled};
use super::open::Session;
use crate::board::{DefaultValue, Interp, Machine, NeedCheck, OptionId, Toolchain};
use crate::checks::CheckLanguage;
use crate::profile::Choices;
use crate::resolve::{Resolution, resolved};
use crate::survey::{Fact, FactSource, FactState, Facts, Found, ToolEnvironment, Tools};

/// What choices make of the toolchain's options, worked out once.
pub(super) struct Before<'a> {
    session: &'a Session,
    choices: &'a Choices,
    /// All values as if every need were met: no fact decides about the toolchain's options. `None` where the toolchain names none, or the
    /// choices clash whatever the host has.
    resolution: Option<Resolution>,
}

impl Session {
    /// Finds the compilers that choices name, before anything is resolved.
    pub fn tools_before(&self, choices: &Choices) -> Tools {
        self.before(choices).tools()
    }

    /// Returns what the environment of the toolchain sets that choices name, where it has one.
    pub fn environment_before(&self, choices: &Choices) -> Option<ToolEnvironment> {
        self.before(choices).environment()
    }

    /// Tells whether the host is asked the same under both choices, so that facts of the one hold for the other.
    pub fn asks_alike(&self, one: &Choices, other: &Choices) -> bool {
        let (before, after) = (self.before(one), self.before(other));
        let mut texts = self.board.toolchains.both().into_iter().flat_map(Toolchain::programs);
        let provided = |choices: &Choices| -> Vec<_> {
            choices.providers.iter().map(|(need, chosen)| (*need, chosen.provider.clone())).collect()
        };
        provided(one) == provided(other) && texts.all(|text| before.text(text) == after.text(text))
    }

    pub(super) fn before<'a>(&'a self, choices: &'a Choices) -> Before<'a> {
        let mut texts = self.board.toolchains.both().into_iter().flat_map(|chain| chain.programs());
        let resolve = || {
            let met = |need| Fact::plain(need, FactState::Found(Found::default()), FactSource::Assumed);
            resolved(&self.board, &self.logic, choices, &Facts::new(self.board.needs.ids().map(met).collect()))
        };
        let names_any = texts.any(|text| text.options().next().is_some());
        Before { session: self, choices, resolution: if names_any { resolve() } else { None } }
    }
}

impl Before<'_> {
    /// Finds the compilers. Those for C++ and Fortran are asked where a need is about C++, or where the tree says which ones they are.
    pub fn tools(&self) -> Tools {
        let cxx = self.session.board.needs.iter().any(|(_, need)| match &need.check {
            NeedCheck::Host(check) => check.language == CheckLanguage::Cxx,
            NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => false,
        });
        let (usual, given) = (Toolchain::plain(), &self.session.board.toolchains.target);
        let wants = Wants {
            cxx: cxx || given.cxx_compiler != usual.cxx_compiler,
            fortran: given.fortran_compiler != usual.fortran_compiler,
        };
        self.session.tools_by(&|option| self.value(option), wants)
    }

    /// Returns what the toolchain's environment sets, where it has one.
    pub fn environment(&self) -> Option<ToolEnvironment> {
        self.session.board.toolchains.target.environment.as_ref()?;
        self.session.tool_environment(&|option| self.value(option)).ok()
    }

    /// Returns the folder that stands for `/` of a machine, if there is one.
    pub fn sysroot(&self, machine: Machine) -> Option<PathBuf> {
        let folder = self.session.board.toolchains.of(machine).sysroot.as_ref().map(|text| self.text(text));
        folder.filter(|folder| !folder.is_empty()).map(PathBuf::from)
    }

    /// Fills in a text of the toolchain.
    pub fn text(&self, text: &Interp) -> String {
        filled(text, &|option| self.value(option))
    }

    fn value(&self, option: OptionId) -> String {
        if let Some(resolution) = &self.resolution {
            return resolution.value(option).to_string();
        }
        if let Some(choice) = self.choices.get(option) {
            return choice.value.to_string();
        }
        let definition = &self.session.board.options[option];
        match definition.defaults.last().map(|rule| &rule.value) {
            Some(DefaultValue::Fixed(value)) => value.to_string(),
            Some(DefaultValue::Derived(_)) => String::new(),
            None => definition.kind.own_default().to_string(),
        }
    }
}
