//! What conditions look at, all over the board: found once.

use crate::board::{
    Atom, Board, Condition, DefaultValue, Generator, Interp, NeedCheck, NeedId, OptionId, PartKind, When,
};
use crate::expr::Expr;

/// Which options and needs anything looks at; an option that only looks at itself does not count.
pub(super) struct Mentioned {
    options: Vec<bool>,
    needs: Vec<bool>,
}

impl Mentioned {
    pub fn of(board: &Board) -> Mentioned {
        let mut mentioned =
            Mentioned { options: vec![false; board.options.len()], needs: vec![false; board.needs.len()] };
        for (_, rule) in board.rules.iter() {
            mentioned.expr(&rule.must, Some(rule.option));
        }
        for (id, option) in board.options.iter() {
            option.in_force.iter().for_each(|when| mentioned.expr(&when.expr, Some(id)));
            for default in &option.defaults {
                mentioned.when(default.when.as_ref());
                if let DefaultValue::Derived(interp) = &default.value {
                    mentioned.interp(interp);
                }
            }
            option.macros.iter().for_each(|definition| mentioned.when(definition.when.as_ref()));
        }
        for (_, part) in board.parts.iter() {
            mentioned.when(part.when.as_ref());
            part.sources.iter().for_each(|rule| mentioned.when(rule.when.as_ref()));
            mentioned.list(&part.uses);
            mentioned.list(&part.flags);
            mentioned.list(&part.defines);
            mentioned.list(&part.link_flags);
            mentioned.list(&part.needs);
            part.needs.iter().for_each(|entry| mentioned.needs[entry.item.index()] = true);
            for entry in [&part.flags, &part.defines, &part.link_flags, &part.libraries].into_iter().flatten() {
                mentioned.interp(&entry.item);
            }
            part.install.iter().for_each(|rule| mentioned.interp(&rule.to));
            match &part.kind {
                PartKind::Module(role) => mentioned.options[role.option.index()] = true,
                PartKind::Generated(Generator::Command { command, environment, .. }) => {
                    command.iter().chain(environment.iter().map(|(_, value)| value)).for_each(|i| mentioned.interp(i));
                }
                _ => {}
            }
        }
        for (_, test) in board.tests.iter() {
            mentioned.when(test.when.as_ref());
            test.options.iter().for_each(|option| mentioned.options[option.index()] = true);
        }
        mentioned.interp(&board.toolchain.c_compiler);
        mentioned.interp(&board.toolchain.cxx_compiler);
        board.toolchain.sysroot.iter().for_each(|interp| mentioned.interp(interp));
        let chain = &board.toolchain;
        for list in [&chain.flags, &chain.c_flags, &chain.cxx_flags, &chain.link_flags] {
            mentioned.list(list);
            list.iter().for_each(|entry| mentioned.interp(&entry.item));
        }
        for (_, need) in board.needs.iter() {
            if let NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) = &need.check {
                members.iter().for_each(|member| mentioned.needs[member.index()] = true);
            }
        }
        mentioned
    }

    pub fn option(&self, option: OptionId) -> bool {
        self.options[option.index()]
    }

    pub fn need(&self, need: NeedId) -> bool {
        self.needs[need.index()]
    }

    fn interp(&mut self, interp: &Interp) {
        interp.options().for_each(|option| self.options[option.index()] = true);
    }

    fn list<T>(&mut self, list: &[When<T>]) {
        list.iter().for_each(|entry| self.when(entry.when.as_ref()));
    }

    fn when(&mut self, condition: Option<&Condition>) {
        condition.into_iter().for_each(|condition| self.expr(&condition.expr, None));
    }

    fn expr(&mut self, expr: &Expr<Atom>, own: Option<OptionId>) {
        expr.for_each_atom(&mut |atom| match atom {
            Atom::On(option) | Atom::Compare(option, _, _) => self.options[option.index()] |= own != Some(*option),
            Atom::Need(need) => self.needs[need.index()] = true,
        });
    }
}
