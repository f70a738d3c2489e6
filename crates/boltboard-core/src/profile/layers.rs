//! From a profile and its layers to checked choices.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use toml_edit::{Document, Item};

use super::choices::{
    CHANGE_PREFIX, ChangeSort, Choice, Choices, Layer, LayerId, ProfileSource, ProviderChoice, SourceChange,
    changes_folder,
};
use super::fault::{MOST_LEVELS, ProfileFault, ProfileProblem, WrongProfile};
use super::file::ProfileName;
use super::only_with::ONLY_WITH;
use super::shelf::Shelf;
use crate::base::files::read_regular;
use crate::base::web::Address;
use crate::base::{FileId, Place, RelPath, Version, near_matches};
use crate::board::{Board, DecidedBy, Kind, NEED_PREFIX, OptionId, Provider};

/// Where results are shared.
const STORE: &str = "store";

impl Shelf {
    /// Reads a profile with all its layers and checks it against a board.
    ///
    /// # Errors
    /// Everything that is wrong.
    pub fn read(&self, name: &ProfileName, board: &Board) -> Result<Choices, WrongProfile> {
        self.read_as(name, None, board)
    }

    /// The same, as if the profile's own file held `text`: what a change would lead to, before it is saved.
    ///
    /// # Errors
    /// As for [`Shelf::read`].
    pub fn read_as(&self, name: &ProfileName, text: Option<&str>, board: &Board) -> Result<Choices, WrongProfile> {
        let drafts = text.map(|text| (name.clone(), text.to_string())).into_iter().collect();
        self.read_with(name, &drafts, board)
    }

    /// The same, as if the files of the profiles in `drafts`, whether or not there are such, held these texts.
    ///
    /// # Errors
    /// As for [`Shelf::read`].
    pub fn read_with(
        &self,
        name: &ProfileName,
        drafts: &BTreeMap<ProfileName, String>,
        board: &Board,
    ) -> Result<Choices, WrongProfile> {
        let mut reader = Reader {
            drafts,
            shelf: self,
            board,
            choices: Choices::default().in_kit(board),
            problems: vec![],
            open: vec![],
            read: BTreeSet::new(),
            chosen: BTreeMap::new(),
            older: Vec::new(),
        };
        reader.profile(name, None);
        let Reader { mut choices, problems, chosen, older, .. } = reader;
        if !problems.is_empty() {
            // What it was written for explains the rest, so it comes first.
            let problems = older.into_iter().chain(problems).collect();
            return Err(WrongProfile { problems, files: choices.files });
        }
        choices.items.extend(chosen.into_values());
        choices.items.sort_by_key(|choice| choice.option);
        Ok(choices)
    }
}

pub(super) struct Reader<'a> {
    /// Texts of profiles that are not saved.
    drafts: &'a BTreeMap<ProfileName, String>,
    shelf: &'a Shelf,
    pub(super) board: &'a Board,
    pub(super) choices: Choices,
    problems: Vec<ProfileProblem>,
    open: Vec<ProfileName>,
    /// Profiles that were read: each counts once, above all that it is based on.
    read: BTreeSet<ProfileName>,
    chosen: BTreeMap<OptionId, Choice>,
    /// Profiles that were written for an earlier version; no fault by itself.
    older: Vec<ProfileProblem>,
}

impl Reader<'_> {
    pub(super) fn problem(&mut self, place: Option<Place>, near: Vec<String>, fault: ProfileFault) {
        self.problems.push(ProfileProblem { fault, place, near });
    }

    fn profile(&mut self, name: &ProfileName, named_at: Option<Place>) {
        if self.open.contains(name) {
            return self.problem(named_at, vec![], ProfileFault::Ring(name.to_string()));
        }
        if self.open.len() > MOST_LEVELS {
            let top = self.open.first().unwrap_or(name).to_string();
            return self.problem(named_at, vec![], ProfileFault::TooDeep(top));
        }
        if self.read.contains(name) {
            return;
        }
        let drafted = self.drafts.get(name);
        let found = self.shelf.find(name).or_else(|| drafted.map(|_| (self.shelf.own_path(name), ProfileSource::Own)));
        let Some((path, source)) = found else {
            let known = self.shelf.list().unwrap_or_default();
            let near = near_matches(name.as_str(), known.keys().map(ProfileName::as_str));
            return self.problem(named_at, near, ProfileFault::Unknown(name.to_string()));
        };
        let Some((file, document)) = self.document(&path, drafted.map(String::as_str)) else { return };
        self.open.push(name.clone());
        self.head(file, &document);
        self.base(file, &document);
        let layer = self.choices.layers.add(Layer { name: name.to_string(), source });
        self.only_with(file, &document, layer);
        self.store(file, &document);
        self.choose(file, &document, layer);
        self.providers(file, &document, layer);
        self.changes(file, &document, layer, &changes_folder(&path));
        self.open.pop();
        self.read.insert(name.clone());
    }

    fn document(&mut self, path: &Path, given: Option<&str>) -> Option<(FileId, Document<String>)> {
        let shown = path.display().to_string();
        let text = match given.map_or_else(
            || read_regular(path).and_then(|bytes| String::from_utf8(bytes).map_err(std::io::Error::other)),
            |text| Ok(text.to_string()),
        ) {
            Ok(text) => text,
            Err(e) => {
                self.problem(None, vec![], ProfileFault::Unreadable { file: shown, reason: e.to_string() });
                return None;
            }
        };
        let file = self.choices.files.add(&shown, text.as_str());
        match Document::parse(text) {
            Ok(document) => Some((file, document)),
            Err(e) => {
                let place = Place::new(file, e.span().unwrap_or(0..0));
                self.problem(Some(place), vec![], ProfileFault::Toml(e.message().trim().replace('\n', "; ")));
                None
            }
        }
    }

    fn head(&mut self, file: FileId, document: &Document<String>) {
        const KEYS: [&str; 11] = [
            "format",
            "tree",
            "tree-version",
            "base",
            "choose",
            "providers",
            "reasons",
            "patches",
            "replaced",
            STORE,
            ONLY_WITH,
        ];
        for (key, item) in document.iter() {
            if !KEYS.contains(&key) {
                let span = document.key(key).and_then(toml_edit::Key::span);
                let place = Place::new(file, span.or(item.span()).unwrap_or(0..0));
                self.problem(Some(place), near_matches(key, KEYS), ProfileFault::UnknownKey(key.into()));
            }
        }
        let place = |key: &str| Some(Place::new(file, document.get(key).and_then(Item::span).unwrap_or(0..0)));
        if document.get("format").and_then(Item::as_integer) != Some(1) {
            let expected = "the number 1, the format that this program reads";
            self.problem(place("format"), vec![], ProfileFault::WrongType { key: "format".into(), expected });
        }
        let tree = &self.board.tree;
        match document.get("tree").and_then(Item::as_str) {
            Some(found) if found == tree.name => {}
            Some(found) => {
                let fault = ProfileFault::OtherTree { found: found.into(), tree: tree.name.clone() };
                self.problem(place("tree"), vec![], fault);
            }
            None => {
                let fault = ProfileFault::WrongType { key: "tree".into(), expected: "the name of the tree" };
                self.problem(place("tree"), vec![], fault);
            }
        }
        let Some(found) = document.get("tree-version").and_then(Item::as_str) else { return };
        match Version::new(found).cmp(&Version::new(&tree.version)) {
            std::cmp::Ordering::Greater => {
                let fault = ProfileFault::Newer { found: found.into(), tree: tree.version.clone() };
                self.problem(place("tree-version"), vec![], fault);
            }
            std::cmp::Ordering::Less => {
                let profile = self.open.last().map_or(String::new(), ToString::to_string);
                let fault = ProfileFault::Older { profile, found: found.into(), tree: tree.version.clone() };
                self.older.push(ProfileProblem { fault, place: place("tree-version"), near: vec![] });
            }
            std::cmp::Ordering::Equal => {}
        }
    }

    /// Takes in the changes to the sources that a profile carries.
    fn changes(&mut self, file: FileId, document: &Document<String>, layer: LayerId, folder: &Path) {
        let reason = |name: &str| {
            let reasons = document.get("reasons").and_then(Item::as_table_like)?;
            reasons.get(&format!("{CHANGE_PREFIX}{name}")).and_then(Item::as_str).map(str::to_string)
        };
        let plain = |text: &str| !text.is_empty() && !text.contains('/') && !text.starts_with('.');
        for (path, item) in document.get("replaced").and_then(Item::as_table_like).into_iter().flat_map(|t| t.iter()) {
            let place = Some(Place::new(file, item.span().unwrap_or(0..0)));
            let (Ok(at), Some(name)) = (RelPath::parse(path), item.as_str().filter(|name| plain(name))) else {
                let expected = "the name of the file that stands in the place of this one";
                self.problem(place, vec![], ProfileFault::WrongType { key: path.into(), expected });
                continue;
            };
            let (sort, file) = (ChangeSort::Replaced(at), folder.join(name));
            let (name, reason) = (path.to_string(), reason(path));
            self.choices.changes.push(SourceChange { name, sort, file, layer, reason });
        }
        if let Some(item) = document.get("patches") {
            let names: Option<Vec<&str>> =
                item.as_array().map(|list| list.iter().filter_map(|entry| entry.as_str()).collect());
            let sound = names.as_ref().is_some_and(|names| names.iter().all(|name| plain(name)));
            if !sound {
                let place = Some(Place::new(file, item.span().unwrap_or(0..0)));
                let expected = "a list of names of patches";
                return self.problem(place, vec![], ProfileFault::WrongType { key: "patches".into(), expected });
            }
            for name in names.unwrap_or_default() {
                let (sort, at) = (ChangeSort::Patch, folder.join(name));
                let (name, reason) = (name.to_string(), reason(name));
                self.choices.changes.push(SourceChange { name, sort, file: at, layer, reason });
            }
        }
    }

    fn base(&mut self, file: FileId, document: &Document<String>) {
        let Some(item) = document.get("base") else { return };
        let place = |span: Option<std::ops::Range<usize>>| Some(Place::new(file, span.unwrap_or(0..0)));
        let wrong = || ProfileFault::WrongType { key: "base".into(), expected: "a list of profile names" };
        let Some(list) = item.as_array() else {
            return self.problem(place(item.span()), vec![], wrong());
        };
        for entry in list {
            match entry.as_str().and_then(ProfileName::parse) {
                Some(name) => self.profile(&name, place(entry.span())),
                None => self.problem(place(entry.span()), vec![], wrong()),
            }
        }
    }

    fn store(&mut self, file: FileId, document: &Document<String>) {
        let Some(item) = document.get(STORE) else { return };
        match item.as_str().and_then(|text| Address::parse(text).ok()) {
            Some(address) => self.choices.store = Some(address),
            None => {
                let expected = "the address of a shared store, such as \"https://builds.example/team\"";
                let place = Place::new(file, item.span().unwrap_or(0..0));
                self.problem(Some(place), vec![], ProfileFault::WrongType { key: STORE.into(), expected });
            }
        }
    }

    fn choose(&mut self, file: FileId, document: &Document<String>, layer: LayerId) {
        let table = |key: &'static str| document.get(key).and_then(Item::as_table_like);
        let (reasons, chosen) = (table("reasons"), table("choose"));
        if let (None, Some(item)) = (chosen, document.get("choose")) {
            let fault = ProfileFault::WrongType { key: "choose".into(), expected: "a table [choose]" };
            self.problem(Some(Place::new(file, item.span().unwrap_or(0..0))), vec![], fault);
        }
        for (name, item) in chosen.into_iter().flat_map(|chosen| chosen.iter()) {
            let key_span = chosen.and_then(|c| c.key(name)).and_then(toml_edit::Key::span).unwrap_or(0..0);
            let value_span = item.span().unwrap_or(key_span.clone());
            let Some(option) = self.board.option(name) else {
                let near = near_matches(name, self.board.option_names.iter());
                self.problem(Some(Place::new(file, key_span)), near, ProfileFault::UnknownOption(name.into()));
                continue;
            };
            let fault = match self.board.options[option].decided_by {
                DecidedBy::People => None,
                DecidedBy::Others => Some(ProfileFault::Derived(name.into())),
                DecidedBy::Kit => Some(ProfileFault::InKit(name.into())),
            };
            if let Some(fault) = fault {
                self.problem(Some(Place::new(file, key_span)), vec![], fault);
                continue;
            }
            let kind = &self.board.options[option].kind;
            let Some(text) = item_text(item, kind) else {
                let expected = "a value in quotes; numbers stand alone, lists of words in brackets";
                let fault = ProfileFault::WrongType { key: name.into(), expected };
                self.problem(Some(Place::new(file, value_span)), vec![], fault);
                continue;
            };
            match kind.read(&text) {
                Ok(value) => {
                    let place = Place::new(file, key_span.start..value_span.end);
                    let reason = reasons.and_then(|r| r.get(name)).and_then(Item::as_str).map(str::to_string);
                    self.chosen.insert(option, Choice { option, value, layer, place, reason });
                }
                Err(fault) => {
                    let near = fault.near.clone();
                    let fault = ProfileFault::Value { option: name.into(), fault };
                    self.problem(Some(Place::new(file, value_span)), near, fault);
                }
            }
        }
        for (name, item) in reasons.into_iter().flat_map(|r| r.iter()) {
            let carried = name.strip_prefix(CHANGE_PREFIX).is_some_and(|change| {
                let patches = document.get("patches").and_then(Item::as_array);
                patches.is_some_and(|list| list.iter().any(|entry| entry.as_str() == Some(change)))
                    || table("replaced").is_some_and(|replaced| replaced.get(change).is_some())
            });
            let chosen_here = carried
                || match name.strip_prefix(NEED_PREFIX) {
                    Some(need) => table("providers").is_some_and(|providers| providers.get(need).is_some()),
                    None => chosen.is_some_and(|chosen| chosen.get(name).is_some()),
                };
            if !chosen_here {
                let place = Place::new(file, item.span().unwrap_or(0..0));
                self.problem(Some(place), vec![], ProfileFault::LooseReason(name.into()));
            }
        }
    }
}

impl Reader<'_> {
    fn providers(&mut self, file: FileId, document: &Document<String>, layer: LayerId) {
        let Some(item) = document.get("providers") else { return };
        let at = |span: Option<std::ops::Range<usize>>| Place::new(file, span.unwrap_or(0..0));
        let Some(table) = item.as_table_like() else {
            let fault = ProfileFault::WrongType { key: "providers".into(), expected: "a table [providers]" };
            return self.problem(Some(at(item.span())), vec![], fault);
        };
        let reasons = document.get("reasons").and_then(Item::as_table_like);
        for (name, item) in table.iter() {
            let key_place = at(table.key(name).and_then(toml_edit::Key::span));
            let Some(need) = self.board.need(name) else {
                let near = self.board.needs_near(name);
                self.problem(Some(key_place), near, ProfileFault::UnknownNeed(name.into()));
                continue;
            };
            let Some(text) = item.as_str() else {
                let expected = "a string such as \"system\"";
                let fault = ProfileFault::WrongType { key: name.into(), expected };
                self.problem(Some(at(item.span())), vec![], fault);
                continue;
            };
            match Provider::read(self.board, need, text) {
                Ok(provider) => {
                    let key = format!("{NEED_PREFIX}{name}");
                    let reason = reasons.and_then(|r| r.get(&key)).and_then(Item::as_str).map(str::to_string);
                    let chosen = ProviderChoice { provider, layer, place: key_place, reason };
                    self.choices.providers.insert(need, chosen);
                }
                Err(fault) => self.problem(Some(at(item.span())), vec![], ProfileFault::Provider(fault)),
            }
        }
    }
}

fn item_text(item: &Item, kind: &Kind) -> Option<String> {
    let value = item.as_value()?;
    match (value, kind) {
        (toml_edit::Value::String(text), _) => Some(text.value().clone()),
        (toml_edit::Value::Integer(number), kind) if kind.is_number() => Some(number.value().to_string()),
        (toml_edit::Value::Array(array), Kind::Words(_)) => {
            let words: Option<Vec<&str>> = array.iter().map(toml_edit::Value::as_str).collect();
            words.map(|words| words.join(" "))
        }
        _ => None,
    }
}
