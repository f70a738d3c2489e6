//! Typed indices: an id of one kind cannot be passed where another kind is wanted.

use std::fmt;
use std::hash::{Hash, Hasher};
use std::marker::PhantomData;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The index of a `T` in its [`Arena`]. Ids order as their items were added.
pub struct Id<T> {
    raw: u32,
    of: PhantomData<fn() -> T>,
}

impl<T> Id<T> {
    /// Returns the id of the item at `index`.
    pub fn new(index: usize) -> Self {
        Id { raw: u32::try_from(index).unwrap_or(u32::MAX), of: PhantomData }
    }

    /// Returns the position of the item in its arena.
    pub fn index(self) -> usize {
        self.raw as usize
    }
}

impl<T> Serialize for Id<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.raw.serialize(serializer)
    }
}
impl<'de, T> Deserialize<'de> for Id<T> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        Ok(Id { raw: u32::deserialize(deserializer)?, of: PhantomData })
    }
}
impl<T> Clone for Id<T> {
    fn clone(&self) -> Self {
        *self
    }
}
impl<T> Copy for Id<T> {}
impl<T> PartialEq for Id<T> {
    fn eq(&self, other: &Self) -> bool {
        self.raw == other.raw
    }
}
impl<T> Eq for Id<T> {}
impl<T> PartialOrd for Id<T> {
    fn partial_cmp(&self, other: &Self) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}
impl<T> Ord for Id<T> {
    fn cmp(&self, other: &Self) -> std::cmp::Ordering {
        self.raw.cmp(&other.raw)
    }
}
impl<T> Hash for Id<T> {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.raw.hash(state);
    }
}
impl<T> fmt::Debug for Id<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "#{}", self.raw)
    }
}

/// Items in the order in which they were added, looked up by their [`Id`].
#[derive(Debug, Clone)]
pub struct Arena<T> {
    items: Vec<T>,
}

impl<T> Default for Arena<T> {
    fn default() -> Self {
        Arena { items: Vec::new() }
    }
}

impl<T> Arena<T> {
    /// Adds an item and returns its id.
    pub fn add(&mut self, item: T) -> Id<T> {
        self.items.push(item);
        Id::new(self.items.len() - 1)
    }

    /// Returns an item to change it.
    pub fn get_mut(&mut self, id: Id<T>) -> &mut T {
        &mut self.items[id.index()]
    }

    /// Returns how many items there are.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Tells whether there are no items.
    pub fn is_empty(&self) -> bool {
        self.items.is_empty()
    }

    /// Returns all items, in order.
    pub fn into_items(self) -> Vec<T> {
        self.items
    }

    /// Returns all ids in order.
    pub fn ids(&self) -> impl DoubleEndedIterator<Item = Id<T>> + use<T> {
        (0..self.items.len()).map(Id::new)
    }

    /// Returns all items with their ids, in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (Id<T>, &T)> {
        self.items.iter().enumerate().map(|(index, item)| (Id::new(index), item))
    }
}

impl<T> std::ops::Index<Id<T>> for Arena<T> {
    type Output = T;
    fn index(&self, id: Id<T>) -> &T {
        &self.items[id.index()]
    }
}
impl<T> std::ops::IndexMut<Id<T>> for Arena<T> {
    fn index_mut(&mut self, id: Id<T>) -> &mut T {
        &mut self.items[id.index()]
    }
}
