//! What can never be, what always is, and what depends on itself.

use std::collections::{BTreeSet, HashSet};

use super::{Detail, Finding, Spot, Subject};
use crate::base::{Id, components};
use crate::board::{Atom, Board, DefaultValue, FindingKind, OptionDef, OptionId, RuleKind, Value};
use crate::logic::{Condition, Given, Lit, Logic, Shape, Var};
use crate::profile::Choices;
use crate::resolve::Possible;

/// Findings about what can be, in the order of options.
pub(super) fn findings(board: &Board, logic: &Logic) -> Vec<Finding> {
    let nothing = Choices::default();
    let mut possible = Possible::new(board, logic, &nothing);
    if !possible.can(&[]) {
        let detail = proof(board, &mut possible, &[]);
        return vec![Finding { kind: FindingKind::NoWay, subject: Subject::Board, at: Spot::Tree, detail }];
    }
    let literals = logic.clauses().flat_map(|clause| logic.literals(clause));
    let spoken_of = literals.map(|lit| lit.var()).collect();
    let mut looker = Looker { board, logic, possible, spoken_of, findings: Vec::new() };
    for (id, option) in board.options.iter() {
        let before = looker.possible.undecided();
        looker.values(id);
        looker.defaults(id);
        if looker.possible.undecided() > before {
            let (kind, subject) = (FindingKind::NotDecided, Subject::Option(id));
            looker.findings.push(Finding { kind, subject, at: Spot::Definition(option.place), detail: Detail::Plain });
        }
    }
    looker.findings.extend(rings(board));
    looker.findings
}

fn proof(board: &Board, possible: &mut Possible<'_>, literals: &[Lit]) -> Detail {
    possible.impossible(board, literals).map_or(Detail::Plain, |(rules, proof)| Detail::Proof(rules, proof))
}

struct Looker<'a> {
    board: &'a Board,
    logic: &'a Logic,
    possible: Possible<'a>,
    /// Variables of which some rule speaks.
    spoken_of: HashSet<Var>,
    findings: Vec<Finding>,
}

impl Looker<'_> {
    fn values(&mut self, id: OptionId) {
        let option = &self.board.options[id];
        let place = Spot::Definition(option.place);
        match self.logic.shape(id) {
            shape @ (Shape::Switch { .. } | Shape::Module { .. }) => {
                let Some(on) = shape.on() else { return };
                if !self.possible.can(&[on]) {
                    let detail = proof(self.board, &mut self.possible, &[on]);
                    let own =
                        |rules: &[crate::board::RuleId]| rules.iter().all(|rule| self.board.rules[*rule].option == id);
                    let kind = match &detail {
                        Detail::Proof(rules, _) if own(rules) => FindingKind::Contradiction,
                        _ => FindingKind::NeverOn,
                    };
                    self.findings.push(Finding { kind, subject: Subject::Option(id), at: place, detail });
                } else if self.possible.any_bound() && !self.possible.can(&[on.opposite()]) {
                    let detail = proof(self.board, &mut self.possible, &[on.opposite()]);
                    self.findings.push(Finding {
                        kind: FindingKind::AlwaysOn,
                        subject: Subject::Option(id),
                        at: place,
                        detail,
                    });
                }
            }
            shape @ Shape::Pick { values, .. } => {
                // Values of which no rule speaks can be taken alike.
                let mut plain = None;
                for (var, value) in shape.vars().zip(values) {
                    let can = match (self.spoken_of.contains(&var), plain) {
                        (false, Some(can)) => can,
                        (spoken_of, _) => {
                            let can = self.possible.can(&[var.yes()]);
                            plain = plain.or((!spoken_of).then_some(can));
                            can
                        }
                    };
                    if !can {
                        let detail = proof(self.board, &mut self.possible, &[var.yes()]);
                        let subject = Subject::Value(id, value.clone());
                        self.findings.push(Finding {
                            kind: FindingKind::ValueNever,
                            subject,
                            at: place.clone(),
                            detail,
                        });
                    }
                }
            }
            Shape::Scale { .. } | Shape::Text { .. } | Shape::Words { .. } => {}
        }
    }

    fn defaults(&mut self, id: OptionId) {
        let option = &self.board.options[id];
        let defaults = self.logic.defaults(id);
        let mut before: Vec<Condition> = Vec::new();
        let mut always = false;
        for (index, default) in defaults.iter().enumerate() {
            // The kind's own default stands at the end of every list; nobody wrote it.
            let Some(place) = option.defaults[index].place else { continue };
            let detail = if always {
                Some(Detail::Shadowed)
            } else {
                self.doubt(id, option, default.when.as_ref(), &default.gives, &before)
            };
            if let Some(detail) = detail {
                let (kind, subject) = (FindingKind::DefaultNever, Subject::Option(id));
                self.findings.push(Finding { kind, subject, at: Spot::Definition(place), detail });
            }
            match &default.when {
                Some(when) => before.push(when.clone()),
                None => always = true,
            }
        }
    }

    fn doubt(
        &mut self,
        id: OptionId,
        option: &OptionDef,
        when: Option<&Condition>,
        gives: &Given,
        before: &[Condition],
    ) -> Option<Detail> {
        let never = Condition::always();
        let when = when.unwrap_or(&never);
        if !self.possible.can_hold(when, &[]) {
            return Some(Detail::NeverCounts);
        }
        let others: Vec<Condition> = before.iter().map(Condition::opposite).collect();
        let counts = Condition::all(others.iter().cloned().chain([when.clone()]));
        if !before.is_empty() && !self.possible.can_hold(&counts, &[]) {
            return Some(Detail::Shadowed);
        }
        let Given::Value(value) = gives else { return None };
        let starts_something = matches!(value, Value::Switch(_) | Value::Module(_) | Value::Pick(_)) && !value.is_off();
        if option.rules.is_empty() || !starts_something {
            return None;
        }
        let literals: Vec<Lit> = self.logic.shape(id).spell(value).into_iter().filter(|lit| lit.is_yes()).collect();
        let had = self.possible.can(&literals);
        // What can never be had at all is told once, about the option.
        (had && !self.possible.can_hold(when, &literals)).then_some(Detail::NeverHad)
    }
}

/// Defaults that look at what depends on the option itself.
fn rings(board: &Board) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut seen = vec![0_u32; board.options.len()];
    let mut round = 0;
    let next = |index: usize| leads_to(board, Id::new(index)).into_iter().map(Id::index).collect();
    let component = components(board.options.len(), &next);
    for (id, option) in board.options.iter() {
        for rule in &option.defaults {
            let (Some(when), Some(place)) = (&rule.when, rule.place) else { continue };
            let from = looked_at(&when.expr);
            // What does not lead back to each other need not be followed.
            let near = |other: OptionId| component[other.index()] == component[id.index()];
            if !from.iter().any(|other| near(*other)) {
                continue;
            }
            round += 1;
            if let Some(ring) = path_back(board, id, &from, &near, &mut seen, round) {
                let at = Spot::Definition(place);
                let detail = Detail::Ring(ring);
                findings.push(Finding { kind: FindingKind::DependsOnItself, subject: Subject::Option(id), at, detail });
            }
        }
    }
    findings
}

/// What an option looks at by its requirements and defaults.
fn leads_to(board: &Board, option: OptionId) -> BTreeSet<OptionId> {
    let definition = &board.options[option];
    let mut next = BTreeSet::new();
    for rule in definition.rules.iter().map(|rule| &board.rules[*rule]) {
        if rule.kind == RuleKind::Requires {
            next.extend(looked_at(&rule.must));
        }
    }
    for default in &definition.defaults {
        default.when.iter().for_each(|when| next.extend(looked_at(&when.expr)));
        if let DefaultValue::Derived(interp) = &default.value {
            next.extend(interp.options());
        }
    }
    next
}

fn looked_at(expr: &crate::expr::Expr<Atom>) -> BTreeSet<OptionId> {
    let mut options = BTreeSet::new();
    expr.for_each_atom(&mut |atom| match atom {
        Atom::On(option) | Atom::Compare(option, _, _) => {
            options.insert(*option);
        }
        Atom::Need(_) => {}
    });
    options
}

/// Follows what options look at, by their defaults and requirements, until it leads back to `home`.
fn path_back(
    board: &Board,
    home: OptionId,
    from: &BTreeSet<OptionId>,
    near: &dyn Fn(OptionId) -> bool,
    seen: &mut [u32],
    round: u32,
) -> Option<Vec<OptionId>> {
    let mut came: Vec<(OptionId, Option<usize>)> =
        from.iter().filter(|option| near(**option)).map(|option| (*option, None)).collect();
    let mut at = 0;
    while let Some((option, _)) = came.get(at).copied() {
        if option == home {
            let mut ring = vec![];
            let mut step = Some(at);
            while let Some(index) = step {
                ring.push(came[index].0);
                step = came[index].1;
            }
            ring.push(home);
            ring.reverse();
            return Some(ring);
        }
        if std::mem::replace(&mut seen[option.index()], round) != round {
            let next = leads_to(board, option).into_iter().filter(|other| near(*other));
            came.extend(next.map(|other| (other, Some(at))));
        }
        at += 1;
    }
    None
}
