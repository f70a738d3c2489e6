//! What lies behind differences: of each value that differs, the reasons that differ are followed back until a choice, a fact, a default or
//! a definition is met that nothing else explains. Many values that differ then read as the few causes behind them.

use std::collections::{BTreeMap, BTreeSet};

use super::values::{Rows, Side};
use crate::board::{Atom, Board, DefaultValue, NeedId, OptionId};
use crate::expr::Expr;
use crate::profile::Choices;
use crate::resolve::{Origin, Resolution};

/// How many choices are tried out, one by one, where reasons do not lead to a cause.
const MOST_TRIED: usize = 64;

/// What kind of thing a cause is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum CauseKind {
    /// A person chose it, on one side only or to something else.
    Choice,
    /// A person said who is to meet a need.
    Provider,
    /// A host meets a need that another does not.
    Need,
    /// The default is another one in another version of the tree.
    Default,
    /// Only some versions of the tree have the option.
    Presence,
    /// Its definition, or what it was resolved by, is another one.
    Definition,
}

impl CauseKind {
    /// Tells whether it is about a need, and not about an option.
    pub fn is_of_need(self) -> bool {
        matches!(self, CauseKind::Provider | CauseKind::Need)
    }
}

/// Something that differs by itself.
#[derive(Debug, Clone)]
pub struct RootCause {
    /// What kind of thing it is.
    pub kind: CauseKind,
    /// The option or need.
    pub name: String,
    /// The rows whose difference it brings about, its own among them, in their order.
    pub moves: Vec<usize>,
}

/// All causes, those that move most first within a kind.
#[derive(Debug, Clone, Default)]
pub struct RootCauses {
    /// The causes.
    pub causes: Vec<RootCause>,
    /// For each row that differs, its causes.
    pub of: BTreeMap<usize, Vec<usize>>,
}

/// Gives the values of other choices on a side, by its number; `None` where they do not hold.
pub type Resolving<'a> = &'a dyn Fn(usize, &Choices) -> Option<Resolution>;

type Key = (CauseKind, String);

/// A node of the graph of reasons.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Node {
    Row(usize),
    Need(usize, NeedId),
}

/// Finds the causes of all differences; every side is held against the first. `resolve` gives the values of other choices on the board of
/// the first side, where that can be asked: by trying out choice after choice causes are found where reasons do not lead to one.
pub fn causes(rows: &Rows<'_>, resolve: Option<Resolving<'_>>) -> RootCauses {
    let mut moves: BTreeMap<Key, BTreeSet<usize>> = BTreeMap::new();
    for side in 1..rows.sides.len() {
        Pair { rows, other: side }.collect(&mut moves, resolve);
    }
    let mut causes: Vec<RootCause> = moves
        .into_iter()
        .map(|((kind, name), moves)| RootCause { kind, name, moves: moves.into_iter().collect() })
        .collect();
    causes.sort_by(|a, b| (a.kind, b.moves.len(), &a.name).cmp(&(b.kind, a.moves.len(), &b.name)));
    let mut of: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
    for (index, cause) in causes.iter().enumerate() {
        for row in &cause.moves {
            of.entry(*row).or_default().push(index);
        }
    }
    RootCauses { causes, of }
}

/// The first side and another one.
struct Pair<'r, 'a> {
    rows: &'r Rows<'a>,
    other: usize,
}

impl Pair<'_, '_> {
    fn sides(&self) -> [(usize, &Side<'_>); 2] {
        [(0, &self.rows.sides[0]), (self.other, &self.rows.sides[self.other])]
    }

    fn differs(&self, row: usize) -> bool {
        self.rows.differs_between(row, 0, self.other)
    }

    fn collect(&self, moves: &mut BTreeMap<Key, BTreeSet<usize>>, resolve: Option<Resolving<'_>>) {
        let differing: Vec<usize> = (0..self.rows.rows.len()).filter(|row| self.differs(*row)).collect();
        // Who is a reason of whom, and what differs by itself.
        let mut leads_to: BTreeMap<Node, Vec<usize>> = BTreeMap::new();
        let mut own: BTreeMap<Node, Key> = BTreeMap::new();
        let mut unexplained = Vec::new();
        for row in &differing {
            let name = || self.rows.rows[*row].name.clone();
            if let Some(kind) = self.own_cause(*row) {
                own.insert(Node::Row(*row), (kind, name()));
                continue;
            }
            let reasons = self.reasons(*row);
            if reasons.is_empty() {
                unexplained.push(*row);
            }
            for reason in reasons {
                leads_to.entry(reason).or_default().push(*row);
                if let Node::Need(side, need) = reason {
                    let name = &self.rows.sides[side].board.needs[need].name;
                    let kind = if self.provider_differs(name) { CauseKind::Provider } else { CauseKind::Need };
                    own.insert(reason, (kind, name.clone()));
                }
            }
        }
        let mut reached: BTreeSet<usize> = BTreeSet::new();
        for (node, key) in &own {
            let moved = reach(*node, &leads_to);
            reached.extend(&moved);
            moves.entry(key.clone()).or_default().extend(moved);
        }
        // What has no reasons comes first; what is left then only has reasons that lead in a ring.
        for round in 0..2 {
            if round == 1 {
                unexplained = differing.iter().filter(|row| !reached.contains(row)).copied().collect();
            }
            for (row, key) in self.tried(&unexplained, resolve) {
                let moved = reach(Node::Row(row), &leads_to);
                reached.extend(&moved);
                moves.entry(key).or_default().extend(moved);
            }
        }
    }

    /// What makes an option differ by itself.
    fn own_cause(&self, row: usize) -> Option<CauseKind> {
        let ids = &self.rows.rows[row].ids;
        let (Some(left), Some(right)) = (ids[0], ids[self.other]) else { return Some(CauseKind::Presence) };
        let [(_, one), (_, two)] = self.sides();
        let chosen = |side: &Side<'_>, option| side.choices.get(option).map(|choice| choice.value.clone());
        match (chosen(one, left), chosen(two, right)) {
            (None, None) => None,
            (left, right) if left == right => None,
            _ => Some(CauseKind::Choice),
        }
    }

    fn provider_differs(&self, need: &str) -> bool {
        let said = |side: &Side<'_>| {
            let need = side.board.need(need)?;
            side.choices.providers.get(&need).map(|chosen| chosen.provider.text(side.board))
        };
        let [(_, one), (_, two)] = self.sides();
        said(one) != said(two)
    }

    /// What an option's value, on either side, goes back to and that differs.
    fn reasons(&self, row: usize) -> BTreeSet<Node> {
        let mut found = BTreeSet::new();
        for (side, seen) in self.sides() {
            let Some(option) = self.rows.rows[row].ids[side] else { continue };
            let mut options = BTreeSet::new();
            let mut atoms = Vec::new();
            looked_at(seen, option, &mut options, &mut atoms);
            for looked in options {
                let at = self.rows.row_of(side, looked);
                if at != row && self.differs(at) {
                    found.insert(Node::Row(at));
                }
            }
            for atom in atoms {
                match atom {
                    Atom::On(id) | Atom::Compare(id, ..) => {
                        let at = self.rows.row_of(side, *id);
                        if at != row && self.atom_differs(atom, at) {
                            found.insert(Node::Row(at));
                        }
                    }
                    Atom::Need(need) => {
                        let name = &seen.board.needs[*need].name;
                        let has = |side: &Side<'_>| side.board.need(name).is_some_and(|need| side.facts.has(need));
                        let [(_, one), (_, two)] = self.sides();
                        if has(one) != has(two) {
                            // The same need of two boards is one node.
                            let node =
                                self.sides().into_iter().find_map(|(at, side)| Some((at, side.board.need(name)?)));
                            found.extend(node.map(|(at, need)| Node::Need(at, need)));
                        }
                    }
                }
            }
        }
        found
    }

    /// Whether an atom, of either side's board, comes out differently on the two sides.
    fn atom_differs(&self, atom: &Atom, row: usize) -> bool {
        if !self.differs(row) {
            return false;
        }
        let [(_, one), (_, two)] = self.sides();
        if std::ptr::eq(one.board, two.board) {
            return one.resolution.atom_holds(one.facts, atom) != two.resolution.atom_holds(two.facts, atom)
                || self.effect_differs(row);
        }
        let against = |at: usize, seen: &Side<'_>| {
            let option = self.rows.rows[row].ids[at]?;
            let value = seen.resolution.value(option);
            Some(match atom {
                Atom::Compare(_, op, wanted) => value.compares(*op, wanted),
                Atom::On(_) | Atom::Need(_) => !value.is_off(),
            })
        };
        let [left, right] = self.sides().map(|(at, seen)| against(at, seen));
        left != right
    }

    fn effect_differs(&self, row: usize) -> bool {
        let effect = |side: usize| self.rows.resolved(row, side).map(|resolved| resolved.effect);
        effect(0) != effect(self.other)
    }

    /// Finds by trying what reasons do not lead to: each choice that differs is made as on the first side.
    fn tried(&self, unexplained: &[usize], resolve: Option<Resolving<'_>>) -> Vec<(usize, Key)> {
        let [(_, one), (_, two)] = self.sides();
        let same_board = std::ptr::eq(one.board, two.board);
        let by_definition = |row: &usize| (*row, (self.unexplained_kind(*row), self.rows.rows[*row].name.clone()));
        let Some(resolve) = resolve.filter(|_| same_board && !unexplained.is_empty()) else {
            return unexplained.iter().map(by_definition).collect();
        };
        let differing: BTreeSet<OptionId> =
            one.choices.items.iter().chain(&two.choices.items).map(|c| c.option).collect();
        let differing = differing.into_iter().filter(|option| {
            let value = |side: &Side<'_>| side.choices.get(*option).map(|choice| choice.value.clone());
            value(one) != value(two)
        });
        let mut found = Vec::new();
        for option in differing.take(MOST_TRIED) {
            let mut choices = two.choices.clone();
            choices.items.retain(|choice| choice.option != option);
            if let Some(choice) = one.choices.get(option) {
                let at = choices.items.partition_point(|other| other.option < option);
                choices.items.insert(at, choice.clone());
            }
            let Some(values) = resolve(self.other, &choices) else { continue };
            for row in unexplained {
                let Some(id) = self.rows.rows[*row].ids[0] else { continue };
                if values.value(id) != two.resolution.value(id) {
                    found.push((*row, (CauseKind::Choice, one.board.options[option].name.clone())));
                }
            }
        }
        let told: BTreeSet<usize> = found.iter().map(|(row, _)| *row).collect();
        found.extend(unexplained.iter().filter(|row| !told.contains(row)).map(by_definition));
        found
    }

    /// What a difference without reasons goes back to: on boards of their own the default, else something in the definitions.
    fn unexplained_kind(&self, row: usize) -> CauseKind {
        let [(left, one), (right, two)] = self.sides();
        let ids = &self.rows.rows[row].ids;
        let defaults = |side: usize, seen: &Side<'_>| -> Vec<String> {
            let rules = ids[side].map_or(&[][..], |option| &seen.board.options[option].defaults);
            let said = |value: &DefaultValue| match value {
                DefaultValue::Fixed(value) => value.to_string(),
                DefaultValue::Derived(text) => format!("{text:?}"),
            };
            rules.iter().map(|rule| said(&rule.value)).collect()
        };
        let own_boards = !std::ptr::eq(one.board, two.board);
        if own_boards && defaults(left, one) != defaults(right, two) {
            CauseKind::Default
        } else {
            CauseKind::Definition
        }
    }
}

/// All rows that a node leads to, itself among them where it is one.
fn reach(from: Node, leads_to: &BTreeMap<Node, Vec<usize>>) -> BTreeSet<usize> {
    let mut seen = BTreeSet::new();
    let mut open = vec![from];
    while let Some(node) = open.pop() {
        if let Node::Row(row) = node
            && !seen.insert(row)
        {
            continue;
        }
        open.extend(leads_to.get(&node).into_iter().flatten().map(|row| Node::Row(*row)));
    }
    seen
}

/// Collects what the resolving of an option's value looked at: options whose value counts as a whole, and conditions.
fn looked_at<'b>(side: &Side<'b>, option: OptionId, options: &mut BTreeSet<OptionId>, atoms: &mut Vec<&'b Atom>) {
    let board: &'b Board = side.board;
    let definition = &board.options[option];
    let resolved = side.resolution.get(option);
    let mut all = |expr: &'b Expr<Atom>| expr.for_each_atom(&mut |atom| atoms.push(atom));
    if let Some(while_) = &definition.applies_while {
        all(&while_.expr);
    }
    let last_default = match &resolved.origin {
        Origin::Default(rule) => Some(*rule),
        // The default that does not hold is looked at, too.
        Origin::Blocked { .. } => definition.defaults.len().checked_sub(1),
        Origin::Chosen | Origin::PulledIn(_) => None,
    };
    for rule in definition.defaults.iter().take(last_default.map_or(0, |last| last + 1)) {
        if let Some(when) = &rule.when {
            all(&when.expr);
        }
    }
    if let Some(DefaultValue::Derived(text)) =
        last_default.and_then(|last| definition.defaults.get(last)).map(|rule| &rule.value)
    {
        options.extend(text.options());
    }
    if let Origin::PulledIn(rule) | Origin::Blocked { by: rule, .. } = &resolved.origin {
        let rule = &board.rules[*rule];
        all(&rule.must);
        options.insert(rule.option);
    }
}
