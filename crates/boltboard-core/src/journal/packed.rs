//! What each step last did, as people's code sees it, and packed: every text and digest is kept once and named by number.

use std::sync::Arc;

use foldhash::fast::FixedState;
use indexmap::IndexSet;
use serde::{Deserialize, Serialize};

use crate::base::Digest;
use crate::store::{Note, Output};

/// A step's last run.
#[derive(Debug, Clone, PartialEq)]
pub struct StepRecord {
    /// The step's name.
    pub step: String,
    /// The part that it belongs to; empty for what serves all.
    pub part: String,
    /// Digest of its command and tools.
    pub base_key: Digest,
    /// The command's words.
    pub command: Vec<String>,
    /// Digest of the tool that ran it.
    pub tool: Digest,
    /// What it saw and made; `None` when an input changed while it ran, so that it counts as not done.
    pub note: Option<Note>,
}

/// The number of a text or digest in a table of them.
pub type Number = u32;

/// A [`StepRecord`] with numbers for texts and digests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PackedRecord {
    /// The step's name.
    pub step: Number,
    /// The part that it belongs to.
    pub part: Number,
    /// Digest of its command and tools.
    pub base_key: Digest,
    /// The command's words.
    pub command: Box<[Number]>,
    /// Digest of the tool that ran it.
    pub tool: Number,
    /// What it saw and made.
    pub note: Option<PackedNote>,
}

/// A [`Note`] with numbers for texts and digests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PackedNote {
    /// Files and contents.
    pub inputs: Box<[(Number, Number)]>,
    /// Places.
    pub absent: Box<[Number]>,
    /// Names and values.
    pub macros: Box<[(Number, Option<Number>)]>,
    /// Digest of the names of all macros.
    pub macro_names: Number,
    /// Places, contents and permission bits.
    pub outputs: Box<[(Number, Number, u32)]>,
    /// What the step said.
    pub said: Number,
    /// How long it ran, in milliseconds.
    pub work_ms: u64,
    /// The most memory that it held, in bytes.
    pub memory: u64,
    /// Digest of the text after preprocessing.
    pub text: Option<Digest>,
    /// Whether it must be watched.
    pub closely: bool,
}

/// Things that are kept once and named by number.
#[derive(Debug)]
pub(super) struct Table<T> {
    items: IndexSet<T, FixedState>,
}

impl<T> Default for Table<T> {
    fn default() -> Table<T> {
        Table { items: IndexSet::default() }
    }
}

impl<T: Clone + Eq + std::hash::Hash> Table<T> {
    pub fn len(&self) -> usize {
        self.items.len()
    }

    fn reserve(&mut self, more: usize) {
        self.items.reserve(more);
    }

    /// Returns all items from a number on, in the order of numbers.
    pub fn since(&self, first: usize) -> impl Iterator<Item = &T> {
        self.items.iter().skip(first)
    }

    pub fn get(&self, number: Number) -> Option<&T> {
        self.items.get_index(number as usize)
    }

    pub fn find<Q>(&self, item: &Q) -> Option<Number>
    where
        T: std::borrow::Borrow<Q>,
        Q: Eq + std::hash::Hash + ?Sized,
    {
        // There are never so many that a number would not do.
        self.items.get_index_of(item).and_then(|index| Number::try_from(index).ok())
    }

    pub fn add(&mut self, item: T) -> Number {
        Number::try_from(self.items.insert_full(item).0).unwrap_or(Number::MAX)
    }
}

/// The texts and digests that packed records name.
#[derive(Debug, Default)]
pub(super) struct Tables {
    /// The texts.
    pub texts: Table<Arc<str>>,
    /// The digests.
    pub digests: Table<Digest>,
    /// Tables that these go on from: their numbers come first.
    before: Option<Arc<Tables>>,
}

/// What numbers of one pair of tables are in another one.
#[derive(Debug, Default)]
pub(super) struct Renumbering {
    texts: Vec<Number>,
    digests: Vec<Number>,
}

impl Renumbering {
    /// Returns a record with the numbers of the other tables; `None` when it names what there is not.
    pub fn of(&self, packed: &PackedRecord) -> Option<PackedRecord> {
        packed.renumbered(&mut |number| self.texts.get(number as usize).copied(), &mut |number| {
            self.digests.get(number as usize).copied()
        })
    }
}

/// Gives another number for one, if there is one.
type Renumber<'r> = dyn FnMut(Number) -> Option<Number> + 'r;

/// Does something with each; `None` as soon as that gives none. There are many lists, so none is longer than it must be.
fn each<T, U>(items: &[T], mut give: impl FnMut(&T) -> Option<U>) -> Option<Box<[U]>> {
    let mut all = Vec::with_capacity(items.len());
    for item in items {
        all.push(give(item)?);
    }
    Some(all.into_boxed_slice())
}

impl PackedRecord {
    fn renumbered(&self, text: &mut Renumber<'_>, digest: &mut Renumber<'_>) -> Option<PackedRecord> {
        let note = match &self.note {
            Some(note) => Some(note.renumbered(text, digest)?),
            None => None,
        };
        Some(PackedRecord {
            step: text(self.step)?,
            part: text(self.part)?,
            base_key: self.base_key,
            command: each(&self.command, |word| text(*word))?,
            tool: digest(self.tool)?,
            note,
        })
    }
}

impl PackedNote {
    fn renumbered(&self, text: &mut Renumber<'_>, digest: &mut Renumber<'_>) -> Option<PackedNote> {
        let macros = each(&self.macros, |(name, value)| {
            let value = match value {
                Some(value) => Some(text(*value)?),
                None => None,
            };
            Some((text(*name)?, value))
        })?;
        Some(PackedNote {
            inputs: each(&self.inputs, |(f, c)| Some((text(*f)?, digest(*c)?)))?,
            absent: each(&self.absent, |place| text(*place))?,
            macros,
            macro_names: digest(self.macro_names)?,
            outputs: each(&self.outputs, |(l, d, m)| Some((text(*l)?, digest(*d)?, *m)))?,
            said: text(self.said)?,
            work_ms: self.work_ms,
            memory: self.memory,
            text: self.text,
            closely: self.closely,
        })
    }
}

impl Tables {
    /// Takes in texts and digests that go by their own numbers.
    pub fn adopt<'a>(
        &mut self,
        texts: impl Iterator<Item = &'a Arc<str>>,
        digests: impl Iterator<Item = &'a Digest>,
    ) -> Renumbering {
        Renumbering {
            texts: texts.map(|text| self.share_text(text)).collect(),
            digests: digests.map(|digest| self.add_digest(*digest)).collect(),
        }
    }

    /// Makes room for so many more.
    pub fn reserve(&mut self, texts: usize, digests: usize) {
        self.texts.reserve(texts);
        self.digests.reserve(digests);
    }

    /// Packs what other tables hold packed; both share the texts.
    pub fn repack(&mut self, packed: &PackedRecord, other: &Tables) -> Option<PackedRecord> {
        let (first_text, first_digest) = self.counts_before();
        let (first_text, first_digest) = (Number::try_from(first_text).ok()?, Number::try_from(first_digest).ok()?);
        let Tables { texts, digests, before } = self;
        let mut text = |number| {
            let text = other.text(number)?;
            let known = before.as_ref().and_then(|before| before.find_text(text));
            known.or_else(|| first_text.checked_add(texts.add(Arc::clone(text))))
        };
        let mut digest = |number| {
            let digest = other.digest(number)?;
            let known = before.as_ref().and_then(|before| before.find_digest(&digest));
            known.or_else(|| first_digest.checked_add(digests.add(digest)))
        };
        packed.renumbered(&mut text, &mut digest)
    }

    /// Returns all texts and digests of its own, by number.
    pub fn into_items(self) -> (Vec<Arc<str>>, Vec<Digest>) {
        (self.texts.items.into_iter().collect(), self.digests.items.into_iter().collect())
    }

    /// Makes tables that go on from others.
    pub fn after(before: Arc<Tables>) -> Tables {
        Tables { texts: Table::default(), digests: Table::default(), before: Some(before) }
    }

    fn counts_before(&self) -> (usize, usize) {
        self.before.as_ref().map_or((0, 0), |before| before.counts())
    }

    /// Returns how many texts and digests it holds beyond those that it goes on from.
    pub fn own_counts(&self) -> (usize, usize) {
        (self.texts.len(), self.digests.len())
    }

    /// Returns how many texts and digests there are.
    pub fn counts(&self) -> (usize, usize) {
        let (texts, digests) = self.counts_before();
        (texts + self.texts.len(), digests + self.digests.len())
    }

    /// Returns a text by its number.
    pub fn text(&self, number: Number) -> Option<&Arc<str>> {
        let (texts, _) = self.counts_before();
        match (number as usize).checked_sub(texts) {
            Some(own) => self.texts.get(Number::try_from(own).ok()?),
            None => self.before.as_ref()?.text(number),
        }
    }

    /// Returns a digest by its number.
    pub fn digest(&self, number: Number) -> Option<Digest> {
        let (_, digests) = self.counts_before();
        match (number as usize).checked_sub(digests) {
            Some(own) => self.digests.get(Number::try_from(own).ok()?).copied(),
            None => self.before.as_ref()?.digest(number),
        }
    }

    /// Returns the number of a text.
    pub fn find_text(&self, text: &str) -> Option<Number> {
        let known = self.before.as_ref().and_then(|before| before.find_text(text));
        known.or_else(|| Some(self.texts.find(text)? + Number::try_from(self.counts_before().0).ok()?))
    }

    fn find_digest(&self, digest: &Digest) -> Option<Number> {
        let known = self.before.as_ref().and_then(|before| before.find_digest(digest));
        known.or_else(|| Some(self.digests.find(digest)? + Number::try_from(self.counts_before().1).ok()?))
    }

    /// Takes in a text that others hold as well.
    fn share_text(&mut self, text: &Arc<str>) -> Number {
        let first = Number::try_from(self.counts_before().0).unwrap_or(Number::MAX);
        self.find_text(text).unwrap_or_else(|| first.saturating_add(self.texts.add(Arc::clone(text))))
    }

    pub fn add_text(&mut self, text: &str) -> Number {
        let first = Number::try_from(self.counts_before().0).unwrap_or(Number::MAX);
        self.find_text(text).unwrap_or_else(|| first.saturating_add(self.texts.add(text.into())))
    }

    fn add_digest(&mut self, digest: Digest) -> Number {
        let first = Number::try_from(self.counts_before().1).unwrap_or(Number::MAX);
        self.find_digest(&digest).unwrap_or_else(|| first.saturating_add(self.digests.add(digest)))
    }

    pub fn pack(&mut self, record: &StepRecord) -> PackedRecord {
        PackedRecord {
            step: self.add_text(&record.step),
            part: self.add_text(&record.part),
            base_key: record.base_key,
            command: record.command.iter().map(|word| self.add_text(word)).collect(),
            tool: self.add_digest(record.tool),
            note: record.note.as_ref().map(|note| self.pack_note(note)),
        }
    }

    fn pack_note(&mut self, note: &Note) -> PackedNote {
        PackedNote {
            inputs: note
                .inputs
                .iter()
                .map(|(file, content)| (self.add_text(file), self.add_digest(*content)))
                .collect(),
            absent: note.absent.iter().map(|place| self.add_text(place)).collect(),
            macros: note
                .macros
                .iter()
                .map(|(name, value)| (self.add_text(name), value.as_ref().map(|value| self.add_text(value))))
                .collect(),
            macro_names: self.add_digest(note.macro_names),
            outputs: note
                .outputs
                .iter()
                .map(|output| (self.add_text(&output.location), self.add_digest(output.digest), output.mode))
                .collect(),
            said: self.add_text(&note.said),
            work_ms: note.work_ms,
            memory: note.memory,
            text: note.text,
            closely: note.closely,
        }
    }

    /// Unpacks a record; `None` when it names what there is not.
    pub fn unpack(&self, packed: &PackedRecord) -> Option<StepRecord> {
        let text = |number: &Number| self.text(*number).map(|text| text.to_string());
        let note = match &packed.note {
            Some(note) => Some(self.unpack_note(note)?),
            None => None,
        };
        Some(StepRecord {
            step: text(&packed.step)?,
            part: text(&packed.part)?,
            base_key: packed.base_key,
            command: packed.command.iter().map(text).collect::<Option<_>>()?,
            tool: self.digest(packed.tool)?,
            note,
        })
    }

    fn unpack_note(&self, note: &PackedNote) -> Option<Note> {
        let text = |number: &Number| self.text(*number).map(|text| text.to_string());
        let digest = |number: &Number| self.digest(*number);
        let value = |value: &Option<Number>| match value {
            Some(number) => text(number).map(Some),
            None => Some(None),
        };
        Some(Note {
            inputs: note.inputs.iter().map(|(f, c)| Some((text(f)?, digest(c)?))).collect::<Option<_>>()?,
            absent: note.absent.iter().map(text).collect::<Option<_>>()?,
            macros: note.macros.iter().map(|(n, v)| Some((text(n)?, value(v)?))).collect::<Option<_>>()?,
            macro_names: digest(&note.macro_names)?,
            outputs: note
                .outputs
                .iter()
                .map(|(l, d, mode)| Some(Output { location: text(l)?, digest: digest(d)?, mode: *mode }))
                .collect::<Option<_>>()?,
            said: text(&note.said)?,
            work_ms: note.work_ms,
            memory: note.memory,
            text: note.text,
            closely: note.closely,
        })
    }

    /// Tells whether a record names only what there is.
    pub fn hold(&self, packed: &PackedRecord) -> bool {
        let (texts, digests) = self.counts();
        let text = |number: &Number| (*number as usize) < texts;
        let digest = |number: &Number| (*number as usize) < digests;
        let note = |note: &PackedNote| {
            note.inputs.iter().all(|(f, c)| text(f) && digest(c))
                && note.absent.iter().all(text)
                && note.macros.iter().all(|(n, v)| text(n) && v.iter().all(text))
                && digest(&note.macro_names)
                && note.outputs.iter().all(|(l, d, _)| text(l) && digest(d))
                && text(&note.said)
        };
        text(&packed.step)
            && text(&packed.part)
            && packed.command.iter().all(text)
            && digest(&packed.tool)
            && packed.note.iter().all(note)
    }
}
