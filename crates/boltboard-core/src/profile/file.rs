//! One profile file.

use std::fmt;
use std::path::{Path, PathBuf};

use toml_edit::{Array, DocumentMut, Item, Table, value};

use super::choices::CHANGE_PREFIX;
use super::document::{CHOOSE, PROVIDERS, REASONS, entries, plain_text, put, table, take_out, toml_value};
use crate::base::FileError;
use crate::base::files::{read_text, write_whole};
use crate::board::{Board, NEED_PREFIX, Tree, Value};

/// The name of a profile: letters, digits, `-`, `_` and `.`, so that it is a file name everywhere.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ProfileName(String);

impl ProfileName {
    /// Takes a text as a name, if it can be one.
    pub fn parse(text: &str) -> Option<ProfileName> {
        let starts = text.starts_with(|c: char| c.is_ascii_alphanumeric());
        let sound = text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'));
        (starts && sound && text.len() <= 100).then(|| ProfileName(text.to_string()))
    }

    /// Returns what the profile in a file is called: like the file, without its ending.
    pub fn of_file(path: &Path) -> Option<ProfileName> {
        path.file_stem()?.to_str().and_then(ProfileName::parse)
    }

    /// Returns the name.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl fmt::Display for ProfileName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// A profile of the person's own, open for changes. Comments and order stay as they are.
#[derive(Debug)]
pub struct ProfileFile {
    path: PathBuf,
    document: DocumentMut,
}

impl ProfileFile {
    /// Starts a profile for a tree, on top of others.
    pub fn new(path: &Path, tree: &Tree, base: &[ProfileName]) -> ProfileFile {
        let mut document = DocumentMut::new();
        document["format"] = value(1);
        document["tree"] = value(&tree.name);
        document["tree-version"] = value(&tree.version);
        if !base.is_empty() {
            document["base"] = value(base.iter().map(ProfileName::as_str).collect::<Array>());
        }
        document["choose"] = Item::Table(Table::new());
        ProfileFile { path: path.into(), document }
    }

    /// Opens a profile that was checked before; `None` when it is not there or is not TOML.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn open(path: &Path) -> Result<Option<ProfileFile>, FileError> {
        let Some(text) = read_text(path)? else { return Ok(None) };
        Ok(text.parse().ok().map(|document| ProfileFile { path: path.into(), document }))
    }

    /// Takes a text for what the file holds; `None` when it is not TOML.
    pub fn of_text(path: &Path, text: &str) -> Option<ProfileFile> {
        text.parse().ok().map(|document| ProfileFile { path: path.into(), document })
    }

    /// Chooses a value, with a reason if there is one.
    pub fn set(&mut self, option: &str, chosen: &Value, reason: Option<&str>) {
        put(table(&mut self.document, CHOOSE), option, toml_value(chosen));
        if let Some(reason) = reason {
            put(table(&mut self.document, REASONS), option, reason.into());
        }
    }

    /// Says who is to meet a need, with a reason if there is one.
    pub fn set_provider(&mut self, need: &str, provider: &str, reason: Option<&str>) {
        put(table(&mut self.document, PROVIDERS), need, provider.into());
        if let Some(reason) = reason {
            put(table(&mut self.document, REASONS), &format!("{NEED_PREFIX}{need}"), reason.into());
        }
    }

    /// Takes a choice and its reason out. Returns whether it was there.
    pub fn unset(&mut self, option: &str) -> bool {
        let was = take_out(&mut self.document, CHOOSE, option);
        take_out(&mut self.document, REASONS, option);
        was
    }

    /// Takes out who is to meet a need, with the reason. Returns whether it was there.
    pub fn unset_provider(&mut self, need: &str) -> bool {
        let was = take_out(&mut self.document, PROVIDERS, need);
        take_out(&mut self.document, REASONS, &format!("{NEED_PREFIX}{need}"));
        was
    }

    /// Takes out what is entered under a name, whether or not a board knows it: a choice, who meets a need, or a reason of nothing.
    /// Returns whether it was there.
    pub fn take_out(&mut self, name: &str) -> bool {
        let was = match name.strip_prefix(NEED_PREFIX) {
            Some(need) => self.unset_provider(need),
            None => take_out(&mut self.document, CHOOSE, name),
        };
        // A reason may stand there without what it is for.
        take_out(&mut self.document, REASONS, name) || was
    }

    /// Returns all that is chosen, and who is to meet needs, as it stands there.
    pub fn entries(&self) -> Vec<(String, String)> {
        let chosen = entries(&self.document, CHOOSE).map(|(name, item)| (name.to_string(), plain_text(item)));
        let provided = entries(&self.document, PROVIDERS);
        let provided = provided.map(|(name, item)| (format!("{NEED_PREFIX}{name}"), plain_text(item)));
        chosen.chain(provided).collect()
    }

    /// Says for which version of the tree it is written.
    pub fn set_version(&mut self, version: &str) {
        put(self.document.as_table_mut(), "tree-version", version.into());
    }

    /// Returns for which version of the tree it is written, where it says so.
    pub fn version(&self) -> Option<&str> {
        self.document.get("tree-version").and_then(Item::as_str)
    }

    /// Returns the profiles that it is based on.
    pub fn base(&self) -> Vec<ProfileName> {
        let list = self.document.get("base").and_then(Item::as_array);
        list.into_iter().flatten().filter_map(|entry| entry.as_str().and_then(ProfileName::parse)).collect()
    }

    /// Carries a patch, after all others, with a reason if there is one.
    pub fn add_patch(&mut self, name: &str, reason: Option<&str>) {
        let mut list = self.document.get("patches").and_then(Item::as_array).cloned().unwrap_or_default();
        if list.iter().all(|entry| entry.as_str() != Some(name)) {
            list.push(name);
        }
        self.document["patches"] = value(list);
        self.give_reason(name, reason);
    }

    /// Carries another file in the place of one of the sources, with a reason if there is one.
    pub fn replace_file(&mut self, path: &str, name: &str, reason: Option<&str>) {
        put(table(&mut self.document, "replaced"), path, name.into());
        self.give_reason(path, reason);
    }

    /// Takes a change to the sources out, with its reason. Returns whether it was there.
    pub fn drop_change(&mut self, name: &str) -> bool {
        let mut was = take_out(&mut self.document, "replaced", name);
        if let Some(list) = self.document.get_mut("patches").and_then(Item::as_array_mut) {
            let before = list.len();
            list.retain(|entry| entry.as_str() != Some(name));
            was |= list.len() < before;
            if list.is_empty() {
                self.document.remove("patches");
            }
        }
        take_out(&mut self.document, REASONS, &format!("{CHANGE_PREFIX}{name}"));
        was
    }

    fn give_reason(&mut self, name: &str, reason: Option<&str>) {
        if let Some(reason) = reason {
            put(table(&mut self.document, REASONS), &format!("{CHANGE_PREFIX}{name}"), reason.into());
        }
    }

    /// Saves the file, written aside and moved into place.
    ///
    /// # Errors
    /// The file cannot be written; the old one is then still there.
    pub fn save(&self) -> Result<(), FileError> {
        write_whole(&self.path, self.document.to_string().as_bytes())
    }

    /// Returns the text as it would be saved.
    pub fn text(&self) -> String {
        self.document.to_string()
    }

    /// Returns the options that the file chooses and the board does not know.
    pub fn strangers(&self, board: &Board) -> Vec<String> {
        let names = entries(&self.document, CHOOSE).map(|(name, _)| name.to_string());
        names.filter(|name| board.option(name).is_none()).collect()
    }
}
