//! What conditions look at, all over the board: found once.

use crate::board::{Atom, Board, Condition, DefaultValue, Interp, Mentions, NeedCheck, NeedId, OptionId};
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
            option.applies_while.iter().for_each(|when| mentioned.expr(&when.expr, Some(id)));
            for default in &option.defaults {
                mentioned.when(default.when.as_ref());
                if let DefaultValue::Derived(interp) = &default.value {
                    mentioned.interp(interp);
                }
            }
            option.macros.iter().for_each(|definition| mentioned.when(definition.when.as_ref()));
        }
        board.parts.iter().for_each(|(_, part)| mentioned.all(&part.mentions()));
        mentioned.all(&board.toolchains.mentions());
        for (_, test) in board.tests.iter() {
            mentioned.when(test.when.as_ref());
            test.needs.iter().for_each(|need| mentioned.needs[need.index()] = true);
            test.options.iter().for_each(|option| mentioned.options[option.index()] = true);
        }
        for (_, action) in board.actions.iter() {
            let mut all = Mentions::default();
            all.when(action.when.as_ref());
            action.run.iter().chain(&action.undo).for_each(|word| all.interp(word));
            mentioned.all(&all);
        }
        board.fetches.iter().for_each(|(_, fetch)| mentioned.when(fetch.when.as_ref()));
        for (_, smoke) in board.smokes.iter() {
            let mut all = Mentions::default();
            all.when(smoke.when.as_ref());
            for text in smoke.lists().into_iter().flatten() {
                all.when(text.when.as_ref());
                all.interp(&text.item);
            }
            mentioned.all(&all);
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

    fn all(&mut self, mentions: &Mentions) {
        mentions.options.iter().for_each(|option| self.options[option.index()] = true);
        mentions.needs.iter().for_each(|need| self.needs[need.index()] = true);
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
