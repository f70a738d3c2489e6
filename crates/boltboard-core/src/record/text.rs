//! The record as text: TOML behind a line that tells its length and digest, so that damage shows and several can lie side by side.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::base::Digest;
use crate::board::Value;

/// What the first line begins with.
const HEAD: &[u8] = b"# boltboard record 1: ";
/// The format that is written.
const FORMAT: u32 = 1;
/// The longest text that is read, in bytes.
pub(super) const MAX_TEXT: usize = 16 << 20;
/// The most records that are read of one place.
const MAX_RECORDS: usize = 64;
/// The longest first line, in bytes.
const MAX_HEAD: usize = 128;

/// What a file says of how it was made. It holds no place of the machine that made it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Record {
    /// The version of this form.
    pub format: u32,
    /// The tree.
    pub tree: String,
    /// The tree's version.
    pub version: String,
    /// The part that the file is of.
    pub part: String,
    /// What sort of part it is.
    pub kind: String,
    /// The profile.
    pub profile: String,
    /// Which values and facts are told.
    pub covers: Covers,
    /// Changes to the sources that the profile carries.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patches: Vec<String>,
    /// Add-ons that are on, with their versions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub add_ons: Vec<String>,
    /// Switches and modules that are off, or without effect.
    #[serde(default)]
    pub off: Vec<String>,
    /// The compilers, by language.
    #[serde(default)]
    pub compilers: BTreeMap<String, String>,
    /// What the commands for this part were told, by language and for its link.
    #[serde(default)]
    pub flags: BTreeMap<String, Vec<String>>,
    /// What the host had, by need.
    #[serde(default)]
    pub facts: BTreeMap<String, String>,
    /// What people chose, by option.
    #[serde(default)]
    pub choices: BTreeMap<String, Said>,
    /// Who people chose to meet a need.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub providers: BTreeMap<String, String>,
    /// All other values that have an effect, by option.
    #[serde(default)]
    pub values: BTreeMap<String, Said>,
    /// The digest of the text with `off` and `values`, where these are many and lie in a section of their own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rest: Option<String>,
    /// The file without its record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<FileMark>,
}

/// What many records of a build say alike, where it is much.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rest {
    /// Switches and modules that are off, or without effect.
    #[serde(default)]
    pub off: Vec<String>,
    /// All values that have an effect and that nobody chose.
    #[serde(default)]
    pub values: BTreeMap<String, Said>,
}

/// Which values and facts a record tells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Covers {
    /// All of the tree.
    All,
    /// Those that the part's definition names, and no choices: where loadable modules and archives are many.
    Named,
}

/// A value as a record tells it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Said {
    /// Of a number.
    Number(i64),
    /// Of a list of words.
    Words(Vec<String>),
    /// Of any other kind, as a person types it.
    Text(String),
}

/// By which a file knows whether it is as it was made.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct FileMark {
    /// How long it was without its record, in bytes.
    pub bytes: u64,
    /// Stands for these bytes, but for the first 64 of them.
    pub digest: String,
}

/// Why a record cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RecordFault {
    /// It is not as it was written.
    #[error("it is damaged: {0}")]
    Damaged(String),
    /// It is longer than any that is written.
    #[error("it is longer than {} MB", MAX_TEXT >> 20)]
    TooLong,
    /// There are more than anyone looks at.
    #[error("there are more than {MAX_RECORDS}")]
    TooMany,
    /// It was written by a later version of this program.
    #[error("it was written by a later version of this program, in format {0}")]
    Later(u32),
}

impl Said {
    /// The value of an option.
    pub fn of(value: &Value) -> Said {
        match value {
            Value::Number(number) => Said::Number(*number),
            Value::Words(words) => Said::Words(words.clone()),
            Value::Switch(_) | Value::Module(_) | Value::Pick(_) | Value::Size(_) | Value::Text(_) | Value::Path(_) => {
                Said::Text(value.to_string())
            }
        }
    }

    /// The value with each of its texts changed.
    #[must_use]
    pub fn map(self, change: &dyn Fn(&str) -> String) -> Said {
        match self {
            Said::Number(number) => Said::Number(number),
            Said::Words(words) => Said::Words(words.iter().map(|word| change(word)).collect()),
            Said::Text(text) => Said::Text(change(&text)),
        }
    }
}

impl std::fmt::Display for Said {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Said::Number(number) => write!(f, "{number}"),
            Said::Words(words) => write!(f, "{}", words.join(" ")),
            Said::Text(text) => f.write_str(text),
        }
    }
}

impl Record {
    /// Stands for the home folder of whoever built.
    pub const HOME: &'static str = "~";
    /// Stands for the folder of the sources.
    pub const TREE: &'static str = "(tree)";
    /// Stands for the folder of the build.
    pub const BUILD: &'static str = "(build)";

    /// A record that says nothing yet but what it is about.
    pub fn new(tree: &str, version: &str, part: &str, kind: &str, profile: &str, covers: Covers) -> Record {
        Record {
            format: FORMAT,
            tree: tree.to_string(),
            version: version.to_string(),
            part: part.to_string(),
            kind: kind.to_string(),
            profile: profile.to_string(),
            covers,
            patches: Vec::new(),
            add_ons: Vec::new(),
            off: Vec::new(),
            compilers: BTreeMap::new(),
            flags: BTreeMap::new(),
            facts: BTreeMap::new(),
            choices: BTreeMap::new(),
            providers: BTreeMap::new(),
            values: BTreeMap::new(),
            rest: None,
            file: None,
        }
    }

    /// Returns what it says of an option; `None` where it says nothing.
    pub fn value(&self, option: &str) -> Option<Said> {
        if self.off.iter().any(|off| off == option) {
            // A choice may have no effect.
            return Some(Said::Text("off".into()));
        }
        self.values.get(option).or_else(|| self.choices.get(option)).cloned()
    }

    /// Returns all options that it says something of, with their values, by name.
    pub fn all_values(&self) -> BTreeMap<&str, Said> {
        let off = self.off.iter().map(|name| (name.as_str(), Said::Text("off".into())));
        let said = self.choices.iter().chain(&self.values).map(|(name, said)| (name.as_str(), said.clone()));
        said.chain(off).collect()
    }

    /// The text of it.
    pub fn text(&self) -> String {
        toml_edit::ser::to_string_pretty(self).expect("its keys are texts, and its tables come last")
    }
}

/// Puts the line before a text by which it is known again.
pub fn framed(text: &str) -> String {
    let head = String::from_utf8_lossy(HEAD);
    format!("{head}{} bytes, {}\n{text}", text.len(), Digest::of(text.as_bytes()))
}

impl Rest {
    /// The text of it.
    pub fn text(&self) -> String {
        toml_edit::ser::to_string_pretty(self).expect("its keys are texts, and its tables come last")
    }
}

/// Reads all records that lie side by side, as linkers put them. What lies between them does not count. `rests` are the texts that records
/// share, by their digests.
pub fn records_in(bytes: &[u8], rests: &BTreeMap<String, String>) -> Vec<Result<Record, RecordFault>> {
    texts_in(bytes).into_iter().map(|found| whole(read(&found?.1)?, rests)).collect()
}

/// Puts a record together with what it shares with others.
fn whole(record: Record, rests: &BTreeMap<String, String>) -> Result<Record, RecordFault> {
    let Some(digest) = &record.rest else { return Ok(record) };
    let damaged = |why: &str| RecordFault::Damaged(why.to_string());
    let text = rests.get(digest).ok_or_else(|| damaged("the list of its values is missing"))?;
    let Rest { off, values } = toml_edit::de::from_str(text).map_err(|e| damaged(e.message()))?;
    Ok(Record { off, values, rest: None, ..record })
}

/// Reads all texts that lie side by side, with their digests.
pub(super) fn texts_in(bytes: &[u8]) -> Vec<Result<(String, String), RecordFault>> {
    let mut texts = Vec::new();
    let mut rest = bytes;
    while let Some(at) = find(rest, HEAD) {
        if texts.len() == MAX_RECORDS {
            texts.push(Err(RecordFault::TooMany));
            break;
        }
        let (text, after) = one(&rest[at + HEAD.len()..]);
        texts.push(text);
        rest = after;
    }
    if texts.is_empty() && bytes.iter().any(|byte| *byte != 0) {
        texts.push(Err(RecordFault::Damaged("its first line is not there".into())));
    }
    texts
}

fn find(bytes: &[u8], what: &[u8]) -> Option<usize> {
    bytes.windows(what.len()).position(|window| window == what)
}

/// Reads the text that begins here, behind what its first line begins with. Returns also what comes after it.
fn one(bytes: &[u8]) -> (Result<(String, String), RecordFault>, &[u8]) {
    let damaged = |why: &str| Err(RecordFault::Damaged(why.to_string()));
    let line_end = bytes.iter().take(MAX_HEAD).position(|byte| *byte == b'\n');
    let Some(line_end) = line_end else { return (damaged("its first line has no end"), bytes) };
    let body = &bytes[line_end + 1..];
    let told = std::str::from_utf8(&bytes[..line_end]).ok().and_then(|line| line.split_once(" bytes, "));
    let Some((length, digest)) = told.and_then(|(length, digest)| Some((length.parse::<usize>().ok()?, digest))) else {
        return (damaged("its first line says no length"), body);
    };
    if length > MAX_TEXT {
        return (Err(RecordFault::TooLong), body);
    }
    let Some(text) = body.get(..length) else { return (damaged("its end is missing"), body) };
    // A wrong length may reach over the next one, so that what follows is looked for from here on.
    if Digest::of(text).to_string() != digest {
        return (damaged("its digest is not that of its text"), body);
    }
    let text = std::str::from_utf8(text).map_err(|e| RecordFault::Damaged(e.to_string()));
    (text.map(|text| (digest.to_string(), text.to_string())), &body[length..])
}

fn read(text: &str) -> Result<Record, RecordFault> {
    #[derive(Deserialize)]
    struct Format {
        format: u32,
    }
    let damaged = |e: &dyn std::fmt::Display| RecordFault::Damaged(e.to_string());
    let Format { format } = toml_edit::de::from_str(text).map_err(|e| damaged(&e.message()))?;
    if format > FORMAT {
        return Err(RecordFault::Later(format));
    }
    toml_edit::de::from_str(text).map_err(|e| damaged(&e.message()))
}
