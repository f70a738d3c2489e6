//! Items that are unpacked when they are first looked at: a command about one option need not read twenty thousand.

use std::ops::Index;
use std::sync::{Arc, OnceLock};

use serde::Serialize;
use serde::de::DeserializeOwned;

use super::id::{Arena, Id};

/// Items in packed form, one after the other.
#[derive(Debug, Clone, Default)]
pub struct Packed {
    /// What holds them; others may share it.
    pub bytes: Arc<Vec<u8>>,
    /// Where the first one starts.
    pub start: usize,
    /// Where each one ends, counted from `start`.
    pub ends: Vec<u32>,
}

/// An [`Arena`] whose items may still be packed.
#[derive(Debug, Clone)]
pub struct LazyArena<T> {
    items: Vec<OnceLock<Box<T>>>,
    packed: Packed,
}

impl<T> LazyArena<T> {
    /// Takes items that are unpacked when they are first looked at.
    pub fn packed(packed: Packed) -> LazyArena<T> {
        LazyArena { items: std::iter::repeat_with(OnceLock::new).take(packed.ends.len()).collect(), packed }
    }

    /// Returns how many items there are.
    pub fn len(&self) -> usize {
        self.items.len()
    }

    /// Tells whether there are no items.
    pub fn is_empty(&self) -> bool {
        self.items.is_empty()
    }

    /// Returns all ids in order.
    pub fn ids(&self) -> impl DoubleEndedIterator<Item = Id<T>> + use<T> {
        (0..self.items.len()).map(Id::new)
    }
}

impl<T: DeserializeOwned> LazyArena<T> {
    /// Returns all items with their ids, in order.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = (Id<T>, &T)> {
        self.ids().map(|id| (id, &self[id]))
    }

    fn unpack(&self, index: usize) -> Box<T> {
        let from = index.checked_sub(1).map_or(0, |before| self.packed.ends[before] as usize);
        let range = self.packed.start + from..self.packed.start + self.packed.ends[index] as usize;
        let item = postcard::from_bytes(&self.packed.bytes[range]);
        // Whoever hands in packed items has checked that they are whole, and of this program.
        Box::new(item.expect("packed items are checked before they are taken in"))
    }
}

impl<T: Serialize + DeserializeOwned> LazyArena<T> {
    /// Appends the packed items to `bytes`; returns where each one ends.
    pub fn pack_into(&self, bytes: &mut Vec<u8>) -> Vec<u32> {
        let start = bytes.len();
        let mut ends = Vec::with_capacity(self.len());
        for (_, item) in self.iter() {
            if let Ok(packed) = postcard::to_stdvec(item) {
                bytes.extend_from_slice(&packed);
            }
            ends.push(u32::try_from(bytes.len() - start).unwrap_or(u32::MAX));
        }
        ends
    }
}

impl<T: DeserializeOwned> Index<Id<T>> for LazyArena<T> {
    type Output = T;
    fn index(&self, id: Id<T>) -> &T {
        self.items[id.index()].get_or_init(|| self.unpack(id.index()))
    }
}

impl<T> From<Arena<T>> for LazyArena<T> {
    fn from(arena: Arena<T>) -> Self {
        arena.into_items().into_iter().map(Box::new).collect::<Vec<_>>().into()
    }
}

impl<T> From<Vec<Box<T>>> for LazyArena<T> {
    fn from(items: Vec<Box<T>>) -> Self {
        LazyArena { items: items.into_iter().map(OnceLock::from).collect(), packed: Packed::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_come_back_as_they_were_packed() {
        let mut arena = Arena::default();
        for text in ["fog", "", "a longer text"] {
            arena.add(text.to_string());
        }
        let before = LazyArena::from(arena);
        let mut bytes = vec![1, 2, 3];
        let ends = before.pack_into(&mut bytes);
        let after: LazyArena<String> = LazyArena::packed(Packed { bytes: Arc::new(bytes), start: 3, ends });
        assert!(after.iter().eq(before.iter()));
        assert_eq!(after.len(), 3);
    }
}
