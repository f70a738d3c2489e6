//! A profile file that is being put together from others, with the files beside it.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use toml_edit::{DocumentMut, Item, Key, Table, value};

use super::choices::{CHANGE_PREFIX, ChangeSort, Choice, Choices, ProviderChoice, SourceChange, changes_folder};
use super::document::{
    CHOOSE, PROVIDERS, REASONS, entries, patches, put, reason, reason_key, table, table_of, take_out, toml_value,
};
use super::file::{ProfileFile, ProfileName};
use super::only_with::ONLY_WITH;
use super::shelf::bases_of;
use crate::base::FileError;
use crate::base::files::{read_text, write_whole};
use crate::board::{Board, NEED_PREFIX};

/// A profile that is not saved yet, with the files of the changes that it carries.
#[derive(Debug)]
pub struct Draft {
    /// Its name.
    pub name: ProfileName,
    path: PathBuf,
    pub(super) document: DocumentMut,
    /// Files to be copied beside it, each with the name that it gets.
    copies: Vec<(PathBuf, String)>,
    /// Names of files beside it that are taken.
    taken: BTreeSet<String>,
}

/// Another profile's file, from which entries are taken with what is written around them.
pub(super) struct OtherProfile {
    document: DocumentMut,
}

impl OtherProfile {
    /// Opens a profile's file; nothing can be taken from one that is not there.
    pub fn open(path: &Path) -> Result<OtherProfile, FileError> {
        let text = read_text(path)?.unwrap_or_default();
        Ok(OtherProfile { document: text.parse().unwrap_or_default() })
    }

    /// What a draft says already.
    pub fn of(draft: &Draft) -> OtherProfile {
        OtherProfile { document: draft.document.clone() }
    }

    fn entry(&self, table: &str, name: &str) -> Option<(Key, Item)> {
        let (key, item) = table_of(&self.document, table)?.get_key_value(name)?;
        Some((key.clone(), item.clone()))
    }

    /// Tells whether it says something itself.
    pub fn has(&self, table: &str, name: &str) -> bool {
        table_of(&self.document, table).is_some_and(|table| table.contains_key(name))
    }

    /// What a person wrote around an entry, and the reason for it.
    pub fn words(&self, table: &str, name: &str) -> (String, Option<String>) {
        let around = self.entry(table, name).map_or(String::new(), |(key, item)| {
            let text =
                |raw: Option<&toml_edit::RawString>| raw.and_then(|raw| raw.as_str()).unwrap_or("").trim().to_string();
            let value = item.as_value().map(|value| value.decor().clone()).unwrap_or_default();
            text(key.leaf_decor().prefix()) + &text(value.suffix())
        });
        (around, reason(&self.document, &reason_key(table, name)).map(str::to_string))
    }
}

impl Draft {
    /// Begins a profile with nothing in it.
    pub fn new(name: &ProfileName, path: &Path, board: &Board) -> Draft {
        let document = ProfileFile::new(path, &board.tree, &[]).text().parse().unwrap_or_default();
        Draft::with(name, path, document)
    }

    fn with(name: &ProfileName, path: &Path, document: DocumentMut) -> Draft {
        Draft { name: name.clone(), path: path.into(), document, copies: Vec::new(), taken: BTreeSet::new() }
    }

    /// Begins with what another profile's file says, comments and order included. The files beside it are to be copied, unless it is the
    /// same profile.
    ///
    /// # Errors
    /// The file cannot be read.
    pub fn of_file(name: &ProfileName, path: &Path, from: &Path) -> Result<Draft, FileError> {
        let mut draft = Draft::with(name, path, OtherProfile::open(from)?.document);
        let replaced = entries(&draft.document, "replaced").filter_map(|(_, item)| item.as_str());
        draft.taken = patches(&draft.document).chain(replaced).map(str::to_string).collect();
        if path != from {
            let folder = changes_folder(from);
            draft.copies = draft.taken.iter().map(|name| (folder.join(name), name.clone())).collect();
        }
        Ok(draft)
    }

    /// The text as it would be saved.
    pub fn text(&self) -> String {
        self.document.to_string()
    }

    /// Says on which profiles it is based.
    pub(super) fn set_base(&mut self, names: &[ProfileName]) {
        if names.is_empty() {
            self.document.remove("base");
        } else if names != self.base() {
            let list: toml_edit::Array = names.iter().map(ProfileName::as_str).collect();
            match self.document.get_mut("base").and_then(Item::as_value_mut) {
                Some(old) => {
                    let decor = old.decor().clone();
                    *old = list.into();
                    *old.decor_mut() = decor;
                }
                None => {
                    self.document.insert("base", value(list));
                }
            }
        }
    }

    /// The profiles on which it is based.
    pub(super) fn base(&self) -> Vec<ProfileName> {
        bases_of(&self.text())
    }

    /// Writes an entry, like another file has it where it is new here.
    fn put(&mut self, name: &str, key: &str, given: Option<(Key, Item)>, plain: toml_edit::Value) {
        let table = table(&mut self.document, name);
        match given {
            Some((key, item)) if !table.contains_key(key.get()) => {
                table.entry_format(&key).or_insert(item);
            }
            _ => put(table, key, plain),
        }
    }

    fn reason(&mut self, key: &str, reason: Option<&str>) {
        match reason {
            Some(reason) => put(table(&mut self.document, REASONS), key, reason.into()),
            None => {
                take_out(&mut self.document, REASONS, key);
            }
        }
    }

    /// Chooses a value as another file does, with what is written around it there.
    pub(super) fn choose(&mut self, board: &Board, choice: &Choice, from: Option<&OtherProfile>) {
        let name = &board.options[choice.option].name;
        let given = from.and_then(|from| from.entry(CHOOSE, name));
        self.put(CHOOSE, name, given, toml_value(&choice.value));
        self.reason(name, choice.reason.as_deref());
    }

    /// Says who is to meet a need, likewise.
    pub(super) fn provide(&mut self, board: &Board, need: &str, chosen: &ProviderChoice, from: Option<&OtherProfile>) {
        let given = from.and_then(|from| from.entry(PROVIDERS, need));
        self.put(PROVIDERS, need, given, chosen.provider.text(board).into());
        self.reason(&format!("{NEED_PREFIX}{need}"), chosen.reason.as_deref());
    }

    /// Carries a change to the sources, after those that are carried already. Its file gets a name that is free.
    pub(super) fn carry(&mut self, change: &SourceChange) {
        let own = change.file.file_name().map_or_else(|| change.name.clone(), |n| n.to_string_lossy().into_owned());
        let mut file = own.clone();
        let mut number = 2;
        while self.taken.contains(&file) {
            file = format!("{number}-{own}");
            number += 1;
        }
        self.taken.insert(file.clone());
        let key = match &change.sort {
            ChangeSort::Replaced(path) => {
                self.put("replaced", path.as_str(), None, file.as_str().into());
                path.to_string()
            }
            ChangeSort::Patch => {
                let mut list = self.document.get("patches").and_then(Item::as_array).cloned().unwrap_or_default();
                list.push(file.as_str());
                self.document.insert("patches", value(list));
                file.clone()
            }
        };
        self.reason(&format!("{CHANGE_PREFIX}{key}"), change.reason.as_deref());
        self.copies.push((change.file.clone(), file));
    }

    /// Takes all changes to the sources out.
    pub(super) fn drop_changes(&mut self) {
        self.document.remove("patches");
        self.document.remove("replaced");
        let carried = entries(&self.document, REASONS).map(|(key, _)| key.to_string());
        let carried: Vec<String> = carried.filter(|key| key.starts_with(CHANGE_PREFIX)).collect();
        for key in &carried {
            take_out(&mut self.document, REASONS, key);
        }
        self.copies.clear();
        self.taken.clear();
    }

    /// Says once more what another file says that it is only for.
    pub(super) fn only_with(&mut self, from: &OtherProfile) {
        let tables = |item: &Item| -> Vec<Table> {
            let one = item.as_table_like().map(|table| table.iter().map(|(k, i)| (k.to_string(), i.clone())).collect());
            one.map_or_else(
                || item.as_array_of_tables().into_iter().flat_map(|list| list.iter().cloned()).collect(),
                |table| vec![table],
            )
        };
        let Some(more) = from.document.get(ONLY_WITH).map(tables) else { return };
        let mut list = self.document.get(ONLY_WITH).map(tables).unwrap_or_default();
        list.extend(more);
        let mut together = toml_edit::ArrayOfTables::new();
        for mut table in list {
            table.set_position(None);
            table.decor_mut().clear();
            table.set_implicit(false);
            if together.iter().all(|known| known.to_string() != table.to_string()) {
                together.push(table);
            }
        }
        self.document.remove(ONLY_WITH);
        self.document.insert(ONLY_WITH, Item::ArrayOfTables(together));
    }

    /// Takes an entry out, with its reason.
    pub(super) fn drop_entry(&mut self, table: &str, name: &str) {
        take_out(&mut self.document, table, name);
        take_out(&mut self.document, REASONS, &reason_key(table, name));
    }

    /// The names in a table.
    pub(super) fn names(&self, table: &str) -> Vec<String> {
        entries(&self.document, table).map(|(name, _)| name.to_string()).collect()
    }

    /// Puts a line before the first entry that is there beyond the first `before` of a table.
    pub(super) fn remark(&mut self, table: &str, before: usize, remark: &str) {
        let Some(table) = self.document.get_mut(table).and_then(Item::as_table_like_mut) else { return };
        let Some(first) = table.iter().nth(before).map(|(name, _)| name.to_string()) else { return };
        let Some(mut key) = table.key_mut(&first) else { return };
        let decor = key.leaf_decor_mut();
        let old = decor.prefix().and_then(|raw| raw.as_str()).unwrap_or("").to_string();
        decor.set_prefix(format!("{}# {remark}\n{}", if before > 0 { "\n" } else { "" }, old.trim_start_matches('\n')));
    }

    /// Saves the files beside the profile, then the profile, each written aside and moved into place.
    ///
    /// # Errors
    /// A file cannot be read or written; the profile is then as it was.
    pub fn save(&self) -> Result<(), FileError> {
        let folder = changes_folder(&self.path);
        for (from, name) in &self.copies {
            let bytes = std::fs::read(from).map_err(FileError::on("read", from))?;
            std::fs::create_dir_all(&folder).map_err(FileError::on("make", &folder))?;
            write_whole(&folder.join(name), &bytes)?;
        }
        write_whole(&self.path, self.text().as_bytes())
    }
}

/// Tells whether two sets of choices say the same, wherever they say it.
pub(super) fn say_the_same(one: &Choices, other: &Choices) -> bool {
    let items = |choices: &Choices| choices.items.iter().map(|c| (c.option, c.value.clone())).collect::<Vec<_>>();
    let providers =
        |choices: &Choices| choices.providers.iter().map(|(need, p)| (*need, p.provider.clone())).collect::<Vec<_>>();
    items(one) == items(other) && providers(one) == providers(other) && sorts_of_changes(one) == sorts_of_changes(other)
}

/// The changes in the order in which they come to the sources, whatever their files are called.
pub(super) fn sorts_of_changes(choices: &Choices) -> Vec<&ChangeSort> {
    choices.changes.iter().map(|change| &change.sort).collect()
}
