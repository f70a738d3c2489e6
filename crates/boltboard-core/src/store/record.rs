//! What each step last did, as people's code sees it, and packed: every text and digest is kept once and named by number.

use std::collections::HashMap;
use std::sync::Arc;

use foldhash::fast::FixedState;
use serde::{Deserialize, Serialize};

use crate::base::Digest;

/// What a step saw and made: enough to tell whether the same would come out again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// All files read, with their content, but for option headers.
    pub inputs: Vec<(String, Digest)>,
    /// Places where a header was looked for and not found before the one that was read.
    pub absent: Vec<String>,
    /// The macros that carry options and that the files read name, with what they stood for (`None`: not defined).
    pub macros: Vec<(String, Option<String>)>,
    /// Digest of the names of all such macros there were.
    pub macro_names: Digest,
    /// What was made.
    pub outputs: Vec<Output>,
    /// What the step said, such as warnings.
    pub said: String,
    /// How long it ran, in milliseconds.
    pub wall_ms: u64,
    /// The most memory that it held, in bytes; 0 where that is not known.
    #[serde(default)]
    pub memory: u64,
    /// Digest of a compile's text after preprocessing, where it was looked at.
    #[serde(default)]
    pub text: Option<Digest>,
}

/// A file that a step made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Output {
    /// Where it lies.
    pub location: String,
    /// Its content.
    pub digest: Digest,
    /// Permission bits.
    pub mode: u32,
}

/// A step's last run.
#[derive(Debug, Clone, PartialEq)]
pub struct StepRecord {
    /// The step's name.
    pub step: String,
    /// Digest of its command and tools.
    pub base_key: Digest,
    /// The command's words.
    pub command: Vec<String>,
    /// Digest of the tool that ran it.
    pub tool: Digest,
    /// What it saw and made; `None` when an input changed while it ran, so that it counts as not done.
    pub note: Option<Note>,
}

/// The number of a text or digest in a [`Table`].
pub type Number = u32;

/// A [`StepRecord`] with numbers for texts and digests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PackedRecord {
    /// The step's name.
    pub step: Number,
    /// Digest of its command and tools.
    pub base_key: Digest,
    /// The command's words.
    pub command: Vec<Number>,
    /// Digest of the tool that ran it.
    pub tool: Number,
    /// What it saw and made.
    pub note: Option<PackedNote>,
}

/// A [`Note`] with numbers for texts and digests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct PackedNote {
    /// Files and contents.
    pub inputs: Vec<(Number, Number)>,
    /// Places.
    pub absent: Vec<Number>,
    /// Names and values.
    pub macros: Vec<(Number, Option<Number>)>,
    /// Digest of the names of all macros.
    pub macro_names: Number,
    /// Places, contents and permission bits.
    pub outputs: Vec<(Number, Number, u32)>,
    /// What the step said.
    pub said: Number,
    /// How long it ran, in milliseconds.
    pub wall_ms: u64,
    /// The most memory that it held, in bytes.
    pub memory: u64,
    /// Digest of the text after preprocessing.
    pub text: Option<Digest>,
}

/// Things that are kept once and named by number.
#[derive(Debug)]
pub(super) struct Table<T> {
    items: Vec<T>,
    numbers: HashMap<T, Number, FixedState>,
}

impl<T> Default for Table<T> {
    fn default() -> Table<T> {
        Table { items: Vec::new(), numbers: HashMap::default() }
    }
}

impl<T: Clone + Eq + std::hash::Hash> Table<T> {
    pub fn len(&self) -> usize {
        self.items.len()
    }

    pub fn get(&self, number: Number) -> Option<&T> {
        self.items.get(number as usize)
    }

    pub fn find<Q>(&self, item: &Q) -> Option<Number>
    where
        T: std::borrow::Borrow<Q>,
        Q: Eq + std::hash::Hash + ?Sized,
    {
        self.numbers.get(item).copied()
    }

    pub fn add(&mut self, item: T) -> Number {
        let next = Number::try_from(self.items.len()).unwrap_or(Number::MAX);
        *self.numbers.entry(item.clone()).or_insert_with(|| {
            self.items.push(item);
            next
        })
    }
}

/// The texts and digests that packed records name.
#[derive(Debug, Default)]
pub(super) struct Tables {
    pub texts: Table<Arc<str>>,
    pub digests: Table<Digest>,
}

impl Tables {
    fn text(&mut self, text: &str) -> Number {
        match self.texts.find(text) {
            Some(number) => number,
            None => self.texts.add(text.into()),
        }
    }

    pub fn pack(&mut self, record: &StepRecord) -> PackedRecord {
        PackedRecord {
            step: self.text(&record.step),
            base_key: record.base_key,
            command: record.command.iter().map(|word| self.text(word)).collect(),
            tool: self.digests.add(record.tool),
            note: record.note.as_ref().map(|note| self.pack_note(note)),
        }
    }

    fn pack_note(&mut self, note: &Note) -> PackedNote {
        PackedNote {
            inputs: note.inputs.iter().map(|(file, content)| (self.text(file), self.digests.add(*content))).collect(),
            absent: note.absent.iter().map(|place| self.text(place)).collect(),
            macros: note
                .macros
                .iter()
                .map(|(name, value)| (self.text(name), value.as_ref().map(|value| self.text(value))))
                .collect(),
            macro_names: self.digests.add(note.macro_names),
            outputs: note
                .outputs
                .iter()
                .map(|output| (self.text(&output.location), self.digests.add(output.digest), output.mode))
                .collect(),
            said: self.text(&note.said),
            wall_ms: note.wall_ms,
            memory: note.memory,
            text: note.text,
        }
    }

    /// Unpacks a record; `None` when it names what there is not.
    pub fn unpack(&self, packed: &PackedRecord) -> Option<StepRecord> {
        let text = |number: &Number| self.texts.get(*number).map(|text| text.to_string());
        let note = match &packed.note {
            Some(note) => Some(self.unpack_note(note)?),
            None => None,
        };
        Some(StepRecord {
            step: text(&packed.step)?,
            base_key: packed.base_key,
            command: packed.command.iter().map(text).collect::<Option<_>>()?,
            tool: *self.digests.get(packed.tool)?,
            note,
        })
    }

    fn unpack_note(&self, note: &PackedNote) -> Option<Note> {
        let text = |number: &Number| self.texts.get(*number).map(|text| text.to_string());
        let digest = |number: &Number| self.digests.get(*number).copied();
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
            wall_ms: note.wall_ms,
            memory: note.memory,
            text: note.text,
        })
    }

    /// Tells whether a record names only what there is.
    pub fn hold(&self, packed: &PackedRecord) -> bool {
        let text = |number: &Number| (*number as usize) < self.texts.len();
        let digest = |number: &Number| (*number as usize) < self.digests.len();
        let note = |note: &PackedNote| {
            note.inputs.iter().all(|(f, c)| text(f) && digest(c))
                && note.absent.iter().all(text)
                && note.macros.iter().all(|(n, v)| text(n) && v.iter().all(text))
                && digest(&note.macro_names)
                && note.outputs.iter().all(|(l, d, _)| text(l) && digest(d))
                && text(&note.said)
        };
        text(&packed.step) && packed.command.iter().all(text) && digest(&packed.tool) && packed.note.iter().all(note)
    }
}
