//! All that lies in a shared store: how much of what, and what of it is too old.

use std::collections::HashSet;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

use serde::de::DeserializeOwned;

use super::address::SharedConfig;
use super::client::{Client, Got, PATIENCE};
use super::listing::SharedFile;
use super::others::{AT_ONCE, classes_of};
use super::wire::{self, Lead, MOST_LEAD, MOST_NOTES, MOST_PACK, Pack, SharedKind, SharedName, SharedNote};
use crate::base::web::Address;

/// Why nothing is known of what lies in a shared store, or why it stays there.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum StockFault {
    /// There is no list of it.
    #[error("{address} tells nobody what it has: {why}")]
    NotListed {
        /// The store.
        address: Address,
        /// What it said.
        why: String,
    },
    /// What stays could not be read, so that nobody knows what it stands on.
    #[error("{address} does not give {name}, which stays there, so nothing was removed{}", .why.as_ref().map_or(String::new(), |why| format!(": {why}")))]
    NotRead {
        /// The store.
        address: Address,
        /// A file that stays.
        name: SharedName,
        /// What it said.
        why: Option<String>,
    },
    /// The person only takes from it.
    #[error("nothing is removed from {0}: your own file says read-only")]
    ReadOnly(Address),
}

/// How many files, and how many bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Amount {
    /// How many.
    pub files: usize,
    /// Together.
    pub bytes: u64,
}

impl Amount {
    fn of<'f>(files: impl IntoIterator<Item = &'f SharedFile>) -> Amount {
        files
            .into_iter()
            .fold(Amount::default(), |sum, file| Amount { files: sum.files + 1, bytes: sum.bytes + file.size })
    }
}

/// What lies in a shared store.
#[derive(Debug)]
pub struct Stock {
    client: Client,
    files: Vec<SharedFile>,
}

/// Whether what is too old is removed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Pruning {
    /// It is only told.
    Preview,
    /// It is removed.
    Remove,
}

/// What is too old, and what became of it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Pruned {
    /// What was removed, or would be.
    pub removed: Amount,
    /// What is as old, and stays because something younger stands on it.
    pub needed: Amount,
    /// What stays there.
    pub left: Amount,
    /// How many are of an age that the server does not tell, and stay.
    pub ageless: usize,
    /// How many have become others meanwhile, and stay.
    pub changed: usize,
    /// Why not all of it was removed.
    pub why: Option<String>,
}

impl Stock {
    /// Lists all that lies in a store.
    ///
    /// # Errors
    /// The server lists nothing.
    pub fn of(config: SharedConfig) -> Result<Stock, StockFault> {
        let client = Client::new(config);
        match client.list() {
            Ok(mut files) => {
                files.sort_by_key(|file| file.name);
                files.dedup_by_key(|file| file.name);
                Ok(Stock { client, files })
            }
            Err(why) => Err(StockFault::NotListed { address: client.config.address.clone(), why }),
        }
    }

    /// Where it lies.
    pub fn address(&self) -> &Address {
        &self.client.config.address
    }

    /// How much there is in all.
    pub fn amount(&self) -> Amount {
        Amount::of(&self.files)
    }

    /// How much there is of each kind.
    pub fn kinds(&self) -> [(SharedKind, Amount); 5] {
        SharedKind::ALL.map(|kind| (kind, Amount::of(self.files.iter().filter(|file| file.name.kind == kind))))
    }

    /// When the first and the last of it were given, as far as the server tells that.
    pub fn given(&self) -> Option<(SystemTime, SystemTime)> {
        let given = || self.files.iter().filter_map(|file| file.given);
        Some((given().min()?, given().max()?))
    }

    /// Removes what was given before `limit`, but nothing that something younger stands on: first what names others, so that at no time
    /// something is named that is not there.
    ///
    /// # Errors
    /// Something that stays cannot be read, or the person only takes from there; nothing was removed then.
    pub fn prune(&self, limit: SystemTime, pruning: Pruning) -> Result<Pruned, StockFault> {
        if pruning == Pruning::Remove && self.client.config.read_only {
            return Err(StockFault::ReadOnly(self.address().clone()));
        }
        let is_old = |file: &&SharedFile| file.given.is_some_and(|given| given < limit);
        let (old, young): (Vec<&SharedFile>, Vec<&SharedFile>) = self.files.iter().partition(is_old);
        // Where nothing is old enough, nothing need be read.
        let named = if old.is_empty() { HashSet::new() } else { self.named_by(&young)? };
        let (needed, gone): (Vec<&SharedFile>, Vec<&SharedFile>) =
            old.into_iter().partition(|file| named.contains(&file.name));
        let kept = Pruned {
            needed: Amount::of(needed.iter().copied()),
            ageless: young.iter().filter(|file| file.given.is_none()).count(),
            ..Pruned::default()
        };
        let mut pruned = match pruning {
            Pruning::Preview => Pruned { removed: Amount::of(gone.iter().copied()), ..kept },
            Pruning::Remove => self.remove(&gone, kept),
        };
        let all = self.amount();
        pruned.left = Amount { files: all.files - pruned.removed.files, bytes: all.bytes - pruned.removed.bytes };
        Ok(pruned)
    }

    /// What files that stay stand on.
    fn named_by(&self, staying: &[&SharedFile]) -> Result<HashSet<SharedName>, StockFault> {
        let named = Mutex::new(HashSet::new());
        let failed = Mutex::new(None);
        at_once(staying, |file| {
            let notes = match file.name.kind {
                SharedKind::Lead => self.read::<Lead>(file.name, MOST_LEAD).map(|lead| {
                    let mut named = named.lock().unwrap_or_else(PoisonError::into_inner);
                    named.extend(lead.map(|lead| SharedKind::Pack.of(lead.whole)));
                    None
                }),
                SharedKind::Notes => self.read::<Vec<SharedNote>>(file.name, MOST_NOTES),
                SharedKind::Pack => self
                    .read::<Pack>(file.name, MOST_PACK)
                    .map(|pack| pack.map(|pack| pack.notes.into_iter().flat_map(|(_, notes)| notes).collect())),
                SharedKind::Footings | SharedKind::Content => return true,
            };
            let Ok(notes) = notes else {
                failed.lock().unwrap_or_else(PoisonError::into_inner).get_or_insert(file.name);
                return false;
            };
            let mut named = named.lock().unwrap_or_else(PoisonError::into_inner);
            for shared in notes.into_iter().flatten() {
                named.extend(classes_of(&shared.note).map(|(class, _)| SharedKind::Footings.of(class)));
                named.extend(shared.note.outputs.iter().map(|output| SharedKind::Content.of(output.digest)));
            }
            true
        });
        match failed.into_inner().unwrap_or_else(PoisonError::into_inner) {
            None => Ok(named.into_inner().unwrap_or_else(PoisonError::into_inner)),
            Some(name) => {
                Err(StockFault::NotRead { address: self.address().clone(), name, why: self.client.off.get().cloned() })
            }
        }
    }

    /// Reads a file. What is not sound is believed by nobody, so that nothing stays because of it; an error where it was not given.
    fn read<T: DeserializeOwned>(&self, name: SharedName, most: u64) -> Result<Option<T>, ()> {
        match self.client.get(name, most, PATIENCE * 30) {
            Got::Found(bytes, _) => Ok(wire::read(&bytes, most)),
            // It was listed: it is forbidden, cut off, or others remove things at this moment.
            Got::Absent | Got::Failed => Err(()),
        }
    }

    fn remove(&self, gone: &[&SharedFile], pruned: Pruned) -> Pruned {
        let outcome = Mutex::new(pruned);
        // What names others comes before these.
        for of_kind in gone.chunk_by(|one, next| one.name.kind == next.name.kind) {
            at_once(of_kind, |file| {
                let is_gone = self.client.remove(file);
                let mut outcome = outcome.lock().unwrap_or_else(PoisonError::into_inner);
                match is_gone {
                    Ok(true) => {
                        outcome.removed.files += 1;
                        outcome.removed.bytes += file.size;
                    }
                    Ok(false) => outcome.changed += 1,
                    Err(why) => drop(outcome.why.get_or_insert(why)),
                }
                outcome.why.is_none()
            });
            if outcome.lock().unwrap_or_else(PoisonError::into_inner).why.is_some() {
                break;
            }
        }
        outcome.into_inner().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Does something with each file, with a few at once, until it says that there is no use in going on.
fn at_once(files: &[&SharedFile], each: impl Fn(&SharedFile) -> bool + Sync) {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..AT_ONCE.min(files.len()) {
            scope.spawn(|| {
                while let Some(file) = files.get(next.fetch_add(1, Ordering::Relaxed)) {
                    if !each(file) {
                        next.store(files.len(), Ordering::Relaxed);
                    }
                }
            });
        }
    });
}
