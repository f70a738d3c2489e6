//! The names of an arena's items in one text, found without unpacking an item.

use std::marker::PhantomData;

use serde::{Deserialize, Serialize};

use super::id::Id;

/// Unique names in the order of ids, and an index that is sorted by name.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct NameTable<T> {
    text: String,
    ends: Vec<u32>,
    sorted: Vec<u32>,
    #[serde(skip)]
    of: PhantomData<fn() -> T>,
}

impl<T> NameTable<T> {
    /// Takes in names in the order of ids.
    pub fn new<'a>(names: impl IntoIterator<Item = &'a str>) -> NameTable<T> {
        let mut table = NameTable { text: String::new(), ends: Vec::new(), sorted: Vec::new(), of: PhantomData };
        for name in names {
            table.text.push_str(name);
            table.ends.push(u32::try_from(table.text.len()).unwrap_or(u32::MAX));
        }
        let mut sorted: Vec<u32> = (0..table.ends.len() as u32).collect();
        sorted.sort_by(|a, b| table.at(*a as usize).cmp(table.at(*b as usize)));
        table.sorted = sorted;
        table
    }

    /// Returns the id of a name.
    pub fn find(&self, name: &str) -> Option<Id<T>> {
        let found = self.sorted.binary_search_by(|index| self.at(*index as usize).cmp(name)).ok()?;
        Some(Id::new(self.sorted[found] as usize))
    }

    /// Returns all ids, sorted by name.
    pub fn by_name(&self) -> impl Iterator<Item = Id<T>> {
        self.sorted.iter().map(|index| Id::new(*index as usize))
    }

    /// Returns the name of an item.
    pub fn get(&self, id: Id<T>) -> &str {
        self.at(id.index())
    }

    /// Returns all names in the order of ids.
    pub fn iter(&self) -> impl Iterator<Item = &str> {
        (0..self.ends.len()).map(|index| self.at(index))
    }

    fn at(&self, index: usize) -> &str {
        let from = index.checked_sub(1).map_or(0, |before| self.ends[before] as usize);
        &self.text[from..self.ends[index] as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_found_by_text_and_by_id() {
        let names = ["horn", "bell", "", "air-tank", "air"];
        let table: NameTable<u8> = NameTable::new(names);
        for (index, name) in names.iter().enumerate() {
            assert_eq!(table.find(name), Some(Id::new(index)), "{name}");
            assert_eq!(table.get(Id::new(index)), *name);
        }
        assert_eq!(table.find("ai"), None);
        assert!(table.iter().eq(names));
    }
}
