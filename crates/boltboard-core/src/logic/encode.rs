//! From the board's rules to clauses.

use std::collections::{BTreeMap, BTreeSet};

use super::shape::{TextSort, Unit, whole};
use super::{Condition, DefaultChoice, Given, Lit, Logic, Owner, PlainDefault, Shape, Var};
use crate::board::{Atom, Board, DefaultValue, Kind, Linkage, OptionDef, OptionId, RuleId, Switch, Value};
use crate::expr::{Expr, Op};

/// How much a bare module name asks for.
#[derive(Clone, Copy, PartialEq)]
enum Strength {
    /// Not off.
    Any,
    /// Built in, because a built-in module asks.
    Builtin,
}

/// Spells all rules, defaults and conditions of a board.
pub fn encode(board: &Board) -> Logic {
    let mut encoder = Encoder::new(board);
    for option in &board.order {
        encoder.rules_of(*option);
    }
    let condition = |expr: &Expr<Atom>| encoder.spell(expr, true, Strength::Any);
    let mut defaults = Vec::with_capacity(board.options.len());
    let mut default_starts = Vec::with_capacity(board.options.len() + 1);
    let mut applies_while = Vec::new();
    for id in &board.order {
        let option = &board.options[*id];
        default_starts.push(defaults.len() as u32);
        defaults.extend(option.defaults.iter().map(|rule| {
            let gives = match &rule.value {
                DefaultValue::Fixed(value) => Given::Value(value.clone()),
                DefaultValue::Derived(interp) => Given::Text(interp.clone()),
            };
            DefaultChoice { when: rule.when.as_ref().map(|when| condition(&when.expr)), gives }
        }));
        applies_while.extend(option.applies_while.as_ref().map(|when| (*id, condition(&when.expr))));
    }
    default_starts.push(defaults.len() as u32);
    encoder.finish(defaults, default_starts, applies_while)
}

struct Encoder<'a> {
    board: &'a Board,
    shapes: Vec<Shape>,
    owners: Vec<Owner>,
    first_need: usize,
    clauses: Vec<(Vec<Lit>, RuleId)>,
}

impl<'a> Encoder<'a> {
    fn new(board: &'a Board) -> Encoder<'a> {
        let compared = compared_values(board);
        let mut owners = vec![Owner::Always];
        let mut shapes = vec![Shape::Switch { on: Var::ALWAYS }; board.options.len()];
        // In the canonical order, so that nothing depends on the order of the files.
        for id in &board.order {
            let shape = shape(&board.options[*id], Var::at(owners.len()), compared.get(id));
            owners.extend(std::iter::repeat_n(Owner::Option(*id), shape.len()));
            shapes[id.index()] = shape;
        }
        let first_need = owners.len();
        owners.extend(board.needs.ids().map(Owner::Need));
        Encoder { board, shapes, owners, first_need, clauses: Vec::new() }
    }

    fn rules_of(&mut self, option: OptionId) {
        let board = self.board;
        for id in &board.options[option].rules {
            let rule = &board.rules[*id];
            let any = self.spell(&rule.must, true, Strength::Any);
            let shape = &self.shapes[option.index()];
            match (&rule.value, shape.on()) {
                (Some(value), _) => {
                    let Condition::Lit(guard) = shape.compares(Op::Equal, &Value::Pick(value.clone())) else {
                        continue;
                    };
                    self.guard(guard, &any, *id);
                }
                (None, Some(on)) => {
                    if let (Shape::Module { .. }, Some(full)) = (shape, shape.full()) {
                        // The stronger one first: what meets it meets the other as well.
                        let builtin = self.spell(&rule.must, true, Strength::Builtin);
                        if builtin != any {
                            self.guard(full, &builtin, *id);
                        }
                    }
                    self.guard(on, &any, *id);
                }
                (None, None) => {}
            }
        }
    }

    /// Adds the clauses that say: while the guard holds, the condition does.
    fn guard(&mut self, guard: Lit, condition: &Condition, rule: RuleId) {
        match condition {
            Condition::All(members) => members.iter().for_each(|member| self.guard(guard, member, rule)),
            Condition::Lit(lit) => self.clause(vec![guard.opposite(), *lit], rule),
            Condition::Any(members) => {
                // Its place is taken now, before the clauses of what stands within it.
                let at = self.clauses.len();
                self.clauses.push((Vec::new(), rule));
                let mut literals = vec![guard.opposite()];
                for member in members {
                    literals.push(match member {
                        Condition::Lit(lit) => *lit,
                        several => self.several(several, rule),
                    });
                }
                self.clauses[at].0 = literals;
            }
        }
    }

    /// Returns a literal that stands for several.
    fn several(&mut self, condition: &Condition, rule: RuleId) -> Lit {
        let var = Var::at(self.owners.len());
        self.owners.push(Owner::Several);
        self.guard(var.yes(), condition, rule);
        var.yes()
    }

    fn clause(&mut self, literals: Vec<Lit>, rule: RuleId) {
        self.clauses.push((literals, rule));
    }

    fn spell(&self, expr: &Expr<Atom>, positive: bool, strength: Strength) -> Condition {
        match expr {
            Expr::Atom(atom) => self.atom(atom, positive, strength),
            Expr::Not(inner) => self.spell(inner, !positive, strength),
            Expr::All(members) | Expr::Any(members) => {
                let spelt = members.iter().map(|member| self.spell(member, positive, strength));
                let all = matches!(expr, Expr::All(_)) == positive;
                if all { Condition::all(spelt) } else { Condition::any(spelt) }
            }
        }
    }

    fn atom(&self, atom: &Atom, positive: bool, strength: Strength) -> Condition {
        let as_asked = |lit: Lit| Condition::Lit(if positive { lit } else { lit.opposite() });
        match atom {
            Atom::Need(need) => as_asked(Var::at(self.first_need + need.index()).yes()),
            Atom::On(option) => {
                let shape = &self.shapes[option.index()];
                let lit = if positive && strength == Strength::Builtin { shape.full() } else { shape.on() };
                // Only switches and modules can stand by their bare name.
                lit.map_or(Condition::never(), as_asked)
            }
            Atom::Compare(option, op, value) => {
                let op = if positive { *op } else { op.opposite() };
                self.shapes[option.index()].compares(op, value)
            }
        }
    }

    fn finish(
        self,
        defaults: Vec<DefaultChoice>,
        default_starts: Vec<u32>,
        applies_while: Vec<(OptionId, Condition)>,
    ) -> Logic {
        let mut guards: Vec<Vec<u32>> = vec![Vec::new(); self.owners.len()];
        let mut clause_starts = Vec::with_capacity(self.clauses.len() + 1);
        let mut literals = Vec::new();
        let mut clause_rules = Vec::with_capacity(self.clauses.len());
        for (index, (clause, rule)) in self.clauses.iter().enumerate() {
            clause_starts.push(literals.len() as u32);
            if let Some(first) = clause.first() {
                guards[first.var().index()].push(index as u32);
            }
            literals.extend_from_slice(clause);
            clause_rules.push(rule.index() as u32);
        }
        clause_starts.push(literals.len() as u32);
        let mut guard_starts = Vec::with_capacity(guards.len() + 1);
        let mut guarded = Vec::with_capacity(self.clauses.len());
        for list in &guards {
            guard_starts.push(guarded.len() as u32);
            guarded.extend_from_slice(list);
        }
        guard_starts.push(guarded.len() as u32);
        let plain = |(at, option): (usize, &OptionId)| {
            let own = &defaults[default_starts[at] as usize..default_starts[at + 1] as usize];
            let [DefaultChoice { when: None, gives: Given::Value(value) }] = own else { return PlainDefault::Other };
            match (&self.shapes[option.index()], value) {
                (Shape::Switch { on }, Value::Switch(Switch::Off)) => PlainDefault::SwitchOff(*on),
                (Shape::Switch { on }, Value::Switch(Switch::On)) => PlainDefault::SwitchOn(*on),
                (Shape::Module { on }, Value::Module(Linkage::Off)) => PlainDefault::ModuleOff(*on),
                (Shape::Module { on }, Value::Module(Linkage::Loadable)) => PlainDefault::Loadable(*on),
                _ => PlainDefault::Other,
            }
        };
        let alone = |owner: &Owner| match owner {
            Owner::Option(option) => {
                matches!(self.shapes[option.index()], Shape::Switch { .. } | Shape::Words { .. })
            }
            Owner::Always | Owner::Need(_) | Owner::Several => true,
        };
        let mut positions = vec![0_u32; self.board.order.len()];
        self.board.order.iter().enumerate().for_each(|(at, id)| positions[id.index()] = at as u32);
        Logic {
            alone: self.owners.iter().map(alone).collect(),
            plain: self.board.order.iter().enumerate().map(plain).collect(),
            positions,
            shapes: self.board.order.iter().map(|id| self.shapes[id.index()].clone()).collect(),
            order: self.board.order.clone(),
            defaults,
            default_starts,
            applies_while,
            owners: self.owners,
            first_need: self.first_need as u32,
            clause_starts,
            literals,
            clause_rules,
            guard_starts,
            guarded,
        }
    }
}

/// The values that conditions compare each option with.
fn compared_values(board: &Board) -> BTreeMap<OptionId, Vec<(Op, Value)>> {
    let mut compared: BTreeMap<OptionId, Vec<(Op, Value)>> = BTreeMap::new();
    let mut look = |expr: &Expr<Atom>| {
        expr.for_each_atom(&mut |atom| {
            if let Atom::Compare(option, op, value) = atom {
                compared.entry(*option).or_default().push((*op, value.clone()));
            }
        });
    };
    board.rules.iter().for_each(|(_, rule)| look(&rule.must));
    for (_, option) in board.options.iter() {
        option.defaults.iter().filter_map(|rule| rule.when.as_ref()).for_each(|when| look(&when.expr));
        option.applies_while.iter().for_each(|when| look(&when.expr));
    }
    compared
}

fn shape(option: &OptionDef, first: Var, compared: Option<&Vec<(Op, Value)>>) -> Shape {
    let compared = compared.map_or(&[][..], Vec::as_slice);
    let scale = |low: i128, high: i128, unit: Unit| {
        let bounds = compared.iter().filter_map(|(op, value)| {
            let n = whole(value)?;
            Some(match op {
                Op::Equal | Op::NotEqual => vec![n, n + 1],
                Op::Less | Op::AtLeast => vec![n],
                Op::AtMost | Op::More => vec![n + 1],
            })
        });
        let cuts: BTreeSet<i128> = bounds.flatten().filter(|bound| *bound > low && *bound <= high).collect();
        Shape::Scale { first, cuts: cuts.into_iter().collect(), range: Box::new((low, high)), unit }
    };
    let text = |sort: TextSort| {
        let named = compared.iter().filter_map(|(_, value)| match value {
            Value::Text(text) | Value::Path(text) => Some(text.clone()),
            _ => None,
        });
        let mut values: BTreeSet<String> = named.collect();
        if !values.is_empty() {
            // The empty text can always be had, so a rule that forbids the default leaves a way.
            values.insert(String::new());
        }
        Shape::Text { first, values: values.into_iter().collect(), sort }
    };
    match &option.kind {
        Kind::Switch => Shape::Switch { on: first },
        Kind::Module => Shape::Module { on: first },
        Kind::Pick(values) => Shape::Pick { first, values: values.iter().map(|value| value.name.clone()).collect() },
        Kind::Number(range) => scale(i128::from(*range.start()), i128::from(*range.end()), Unit::One),
        Kind::Size(range) => scale(i128::from(*range.start()), i128::from(*range.end()), Unit::Byte),
        Kind::Text => text(TextSort::Text),
        Kind::Path => text(TextSort::Path),
        Kind::Words(_) => {
            let named: BTreeSet<String> = compared
                .iter()
                .filter_map(|(_, value)| if let Value::Words(words) = value { Some(words.clone()) } else { None })
                .flatten()
                .collect();
            Shape::Words { first, words: named.into_iter().collect() }
        }
    }
}
