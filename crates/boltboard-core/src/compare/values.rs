//! Which options have another value where.

use std::collections::{BTreeMap, HashMap};

use crate::board::{Board, OptionId};
use crate::profile::Choices;
use crate::resolve::{Resolution, Resolved};
use crate::survey::Facts;

/// An option with another value on each side.
#[derive(Debug, Clone)]
pub struct ValueDifference {
    /// The option.
    pub option: OptionId,
    /// On the left.
    pub left: Resolved,
    /// On the right.
    pub right: Resolved,
}

/// Returns the options whose value or effect differs, in the order of options.
pub fn values(left: &Resolution, right: &Resolution) -> Vec<ValueDifference> {
    let differs =
        |(l, r): &((OptionId, &Resolved), (OptionId, &Resolved))| l.1.value != r.1.value || l.1.effect != r.1.effect;
    left.iter()
        .zip(right.iter())
        .filter(differs)
        .map(|(l, r)| ValueDifference { option: l.0, left: l.1.clone(), right: r.1.clone() })
        .collect()
}

/// One configuration that is compared. Sides may have boards of their own, as two versions of a tree do.
#[derive(Clone, Copy)]
pub struct Side<'a> {
    /// Its board.
    pub board: &'a Board,
    /// What was chosen.
    pub choices: &'a Choices,
    /// What the host has.
    pub facts: &'a Facts,
    /// The values that follow.
    pub resolution: &'a Resolution,
    /// Names of its options by those that they have on later boards, where these differ.
    pub renamed: Option<&'a BTreeMap<String, String>>,
}

impl Side<'_> {
    /// The name by which an option is told beside other sides.
    fn name_of(&self, option: OptionId) -> &str {
        let name = self.board.options[option].name.as_str();
        self.renamed.and_then(|renamed| renamed.get(name)).map_or(name, String::as_str)
    }
}

/// An option, by its name, as each side has it.
#[derive(Debug, Clone)]
pub struct Row {
    /// Its name.
    pub name: String,
    /// The option on each side; `None` where that side's board has none of this name.
    pub ids: Vec<Option<OptionId>>,
    /// Whether the sides do not all have the same value with the same effect.
    pub differs: bool,
}

/// All options of all sides, in the order of the first side's options, then by name.
pub struct Rows<'a> {
    /// The sides.
    pub sides: Vec<Side<'a>>,
    /// The options.
    pub rows: Vec<Row>,
    /// Where each name is.
    places: HashMap<String, usize>,
}

impl Rows<'_> {
    /// Returns what an option was resolved to on a side.
    pub fn resolved(&self, row: usize, side: usize) -> Option<&Resolved> {
        self.rows[row].ids[side].map(|option| self.sides[side].resolution.get(option))
    }

    /// Returns an option of a side by the name that it is told by.
    pub fn option(&self, name: &str, side: usize) -> Option<OptionId> {
        self.rows[*self.places.get(name)?].ids[side]
    }

    /// Returns the row of an option of a side.
    pub(super) fn row_of(&self, side: usize, option: OptionId) -> usize {
        // Every option of every board has a row.
        self.places[self.sides[side].name_of(option)]
    }

    /// Returns the rows that differ.
    pub fn differing(&self) -> impl Iterator<Item = (usize, &Row)> {
        self.rows.iter().enumerate().filter(|(_, row)| row.differs)
    }

    /// Tells whether an option is not the same on two sides.
    pub fn differs_between(&self, row: usize, one: usize, other: usize) -> bool {
        match (self.resolved(row, one), self.resolved(row, other)) {
            (Some(one), Some(other)) => one.value != other.value || one.effect != other.effect,
            (one, other) => one.is_some() != other.is_some(),
        }
    }
}

/// Lays the options of all sides beside each other.
pub fn rows<'a>(sides: &[Side<'a>]) -> Rows<'a> {
    let mut rows: Vec<Row> = Vec::new();
    let mut places: HashMap<String, usize> = HashMap::new();
    let same_board = |side: usize| std::ptr::eq(sides[side].board, sides[0].board);
    for (side, one) in sides.iter().enumerate() {
        if side > 0 && same_board(side) {
            rows.iter_mut().for_each(|row| row.ids[side] = row.ids[0]);
            continue;
        }
        let mut new: BTreeMap<&str, OptionId> = BTreeMap::new();
        for option in one.board.options.ids() {
            let name = one.name_of(option);
            match places.get(name) {
                Some(at) => rows[*at].ids[side] = Some(option),
                None if side == 0 => {
                    places.insert(name.to_string(), rows.len());
                    let mut ids = vec![None; sides.len()];
                    ids[0] = Some(option);
                    rows.push(Row { name: name.to_string(), ids, differs: false });
                }
                None => drop(new.insert(name, option)),
            }
        }
        for (name, option) in new {
            places.insert(name.to_string(), rows.len());
            let mut ids = vec![None; sides.len()];
            ids[side] = Some(option);
            rows.push(Row { name: name.to_string(), ids, differs: false });
        }
    }
    let mut all = Rows { sides: sides.to_vec(), rows, places };
    for row in 0..all.rows.len() {
        all.rows[row].differs = (1..sides.len()).any(|side| all.differs_between(row, 0, side));
    }
    all
}
