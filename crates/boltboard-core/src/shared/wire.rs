//! The form of what lies in a shared store. A file is a mark and a zstd frame (RFC 8878) of what it holds; its name says what that is.

use std::collections::{BTreeSet, HashSet};
use std::io::{Read, Write};

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::keys::{PublicKey, Signed, SigningKey};
use crate::base::Digest;
use crate::step::Location;
use crate::store::{Footing, Note};

/// What each file begins with.
const MARK: &[u8] = b"boltboard shared 1\n";
/// How hard contents are compressed: fast, because a build waits.
const LEVEL: i32 = 3;
/// The longest notes of one command that are read, in bytes before compression.
pub(super) const MOST_NOTES: u64 = 16 << 20;
/// The longest content, likewise.
pub(super) const MOST_CONTENT: u64 = 1 << 30;
/// The longest pack, likewise.
pub(super) const MOST_PACK: u64 = 1 << 30;
/// How many notes of one command are given and taken.
pub(super) const MOST_OF_COMMAND: usize = 8;
/// How much is given and taken of what a class stands on.
pub(super) const MOST_OF_CLASS: usize = 16;
/// Permission bits that a result can have.
const MODES: u32 = 0o777;

/// A note as it is shared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct SharedNote {
    pub note: Note,
    /// How many bytes each of its results has.
    pub sizes: Vec<u64>,
    signed: Option<Signed>,
}

/// What is known of a class as it is shared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct SharedFooting {
    pub footing: Footing,
    signed: Option<Signed>,
}

/// Much of a build in one file: all its notes, what its classes stand on, and its small contents.
#[derive(Debug, Default, Serialize, Deserialize)]
pub(super) struct Pack {
    pub notes: Vec<(Digest, Vec<SharedNote>)>,
    pub footings: Vec<(Digest, SharedFooting)>,
    pub contents: Vec<(Digest, Vec<u8>)>,
}

/// Where the newest whole build of a tree with certain values lies, so that a little younger or older tree finds it, too.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Lead {
    /// The pack of that build.
    pub whole: Digest,
    /// Some of its commands, evenly over all of them: who has few of these has no use for the pack.
    pub some: Vec<Digest>,
}

/// How many commands a lead tells.
const MOST_OF_LEAD: usize = 64;
/// The longest lead that is read, in bytes before compression.
pub(super) const MOST_LEAD: u64 = 64 << 10;

impl Lead {
    /// Leads to a pack with results of these commands.
    pub fn to(whole: Digest, keys: &[Digest]) -> Lead {
        let sorted: BTreeSet<Digest> = keys.iter().copied().collect();
        let every = sorted.len().div_ceil(MOST_OF_LEAD).max(1);
        Lead { whole, some: sorted.into_iter().step_by(every).collect() }
    }

    /// Whether at least half of what lies there is likely to be wanted.
    pub fn is_worth(&self, wanted: &HashSet<Digest>) -> bool {
        let known = self.some.iter().filter(|key| wanted.contains(key)).count();
        known > 0 && known * 2 >= self.some.len()
    }
}

/// What files there are of, those first that name others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum SharedKind {
    /// Where the newest whole build of a tree lies.
    Lead,
    /// All of a whole build together.
    Pack,
    /// What runs of a command stood on and made.
    Notes,
    /// What programs of a class stand on.
    Footings,
    /// What something made consists of.
    Content,
}

/// The name of a file there. Nothing else there is ours.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct SharedName {
    /// What it is.
    pub kind: SharedKind,
    /// Of what.
    pub of: Digest,
}

impl SharedKind {
    /// All of them.
    pub const ALL: [SharedKind; 5] =
        [SharedKind::Lead, SharedKind::Pack, SharedKind::Notes, SharedKind::Footings, SharedKind::Content];

    /// The word that names of its files begin with.
    pub fn word(self) -> &'static str {
        match self {
            SharedKind::Lead => "lead",
            SharedKind::Pack => "pack",
            SharedKind::Notes => "notes",
            SharedKind::Footings => "footings",
            SharedKind::Content => "content",
        }
    }

    pub(super) fn of(self, digest: Digest) -> SharedName {
        SharedName { kind: self, of: digest }
    }
}

impl SharedName {
    /// Reads the name of a file.
    pub(super) fn parse(name: &str) -> Option<SharedName> {
        let (word, digest) = name.split_once('-')?;
        let kind = SharedKind::ALL.into_iter().find(|kind| kind.word() == word)?;
        Some(kind.of(digest.parse().ok()?)).filter(|read| read.to_string() == name)
    }
}

impl std::fmt::Display for SharedName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}-{}", self.kind.word(), self.of)
    }
}

impl SharedNote {
    pub fn new(key: &Digest, note: Note, sizes: Vec<u64>, signing: Option<&SigningKey>) -> SharedNote {
        let signed = signing.and_then(|signing| signing.sign(&what_is_signed("note", key, &(&note, &sizes))));
        SharedNote { note, sizes, signed }
    }

    /// Tells whether it is sound, and of one whose results are taken.
    pub fn is_taken(&self, key: &Digest, trusted: &[PublicKey]) -> bool {
        let is_place = |location: &str| {
            let place: Result<Location, _> = location.parse();
            place.is_ok_and(|at| matches!(at, Location::Object(_) | Location::Made(_) | Location::Output(_)))
        };
        let is_sound = |output: &crate::store::Output| is_place(&output.location) && output.mode & !MODES == 0;
        self.sizes.len() == self.note.outputs.len()
            && self.note.outputs.iter().all(is_sound)
            && is_signed(self.signed.as_ref(), trusted, || what_is_signed("note", key, &(&self.note, &self.sizes)))
    }
}

impl SharedFooting {
    pub fn new(class: &Digest, footing: Footing, signing: Option<&SigningKey>) -> SharedFooting {
        let signed = signing.and_then(|signing| signing.sign(&what_is_signed("footing", class, &footing)));
        SharedFooting { footing, signed }
    }

    /// Tells whether it is of one whose results are taken.
    pub fn is_taken(&self, class: &Digest, trusted: &[PublicKey]) -> bool {
        is_signed(self.signed.as_ref(), trusted, || what_is_signed("footing", class, &self.footing))
    }
}

/// Where no key is named, everything is taken.
fn is_signed(signed: Option<&Signed>, trusted: &[PublicKey], content: impl Fn() -> Vec<u8>) -> bool {
    let Some(signed) = signed else { return trusted.is_empty() };
    (trusted.is_empty() || trusted.contains(&signed.by)) && signed.is_of(&content())
}

/// What a signature is of: what it is, of what, and all of it.
fn what_is_signed<T: Serialize>(what: &str, of: &Digest, content: &T) -> Vec<u8> {
    let mut bytes = format!("{what} {of}\n").into_bytes();
    bytes.extend(postcard::to_stdvec(content).unwrap_or_default());
    bytes
}

/// Puts bytes into their form.
pub(super) fn wrapped(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut encoder = zstd::Encoder::new(MARK.to_vec(), LEVEL).ok()?;
    encoder.write_all(bytes).ok()?;
    encoder.finish().ok()
}

/// Takes bytes out of their form, at most so many.
pub(super) fn unwrapped(bytes: &[u8], most: u64) -> Option<Vec<u8>> {
    let decoder = zstd::Decoder::new(bytes.strip_prefix(MARK)?).ok()?;
    let mut content = Vec::new();
    decoder.take(most + 1).read_to_end(&mut content).ok()?;
    (content.len() as u64 <= most).then_some(content)
}

/// The same for values.
pub(super) fn written<T: Serialize>(value: &T) -> Option<Vec<u8>> {
    wrapped(&postcard::to_stdvec(value).ok()?)
}

pub(super) fn read<T: DeserializeOwned>(bytes: &[u8], most: u64) -> Option<T> {
    postcard::from_bytes(&unwrapped(bytes, most)?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn digests(count: usize) -> Vec<Digest> {
        (0..count).map(|number| Digest::of(number.to_string().as_bytes())).collect()
    }

    #[test]
    fn names_say_what_files_are() {
        for kind in SharedKind::ALL {
            let name = kind.of(Digest::of(b"fog"));
            assert_eq!(SharedName::parse(&name.to_string()), Some(name));
            assert_eq!(SharedName::parse(&name.to_string().to_uppercase()), None, "each file has one name");
        }
        for foreign in ["", "notes", "notes-", "notes-12", "index.html", "pack-../../etc"] {
            assert_eq!(SharedName::parse(foreign), None, "{foreign}");
        }
    }

    #[test]
    fn files_are_read_within_limits() {
        let bytes = wrapped(&[7; 1000]).expect("it fits");
        assert!(bytes.len() < 100, "they are compressed");
        assert_eq!(unwrapped(&bytes, 1000), Some(vec![7; 1000]));
        assert_eq!(unwrapped(&bytes, 999), None, "too long");
        assert_eq!(unwrapped(&bytes[..bytes.len() - 5], 1000), None, "cut off");
        assert_eq!(unwrapped(&bytes[1..], 1000), None, "another form");
        assert_eq!(read::<Vec<Digest>>(&wrapped(&[255; 40]).expect("it fits"), 1000), None, "something else");
        assert_eq!(read::<Vec<Digest>>(&written(&digests(3)).expect("it fits"), 1000), Some(digests(3)));
    }

    #[test]
    fn a_lead_is_worth_following_where_half_of_it_is_wanted() {
        for all in [1, 5, MOST_OF_LEAD, MOST_OF_LEAD + 1, 1000] {
            let keys = digests(all);
            let lead = Lead::to(Digest::of(b"whole"), &keys);
            assert!(lead.some.len() <= MOST_OF_LEAD && lead.some.len() * 2 >= all.min(MOST_OF_LEAD), "of {all}");
            let half = |from: usize| lead.some.iter().skip(from).step_by(2).copied().collect::<HashSet<_>>();
            assert!(lead.is_worth(&keys.iter().copied().collect()));
            assert!(lead.is_worth(&half(0)), "of {all}");
            let few: HashSet<Digest> = lead.some.iter().copied().take(lead.some.len().div_ceil(2) - 1).collect();
            assert!(!lead.is_worth(&few), "of {all}");
            let mut shuffled = keys.clone();
            shuffled.reverse();
            assert_eq!(Lead::to(Digest::of(b"whole"), &shuffled), lead, "whatever their order");
        }
        assert!(!Lead::to(Digest::of(b"whole"), &[]).is_worth(&digests(3).into_iter().collect()));
    }
}
