//! Writing values: checked while they are written, with steps for numbers, files for paths, and words one by one.

use std::path::Path;

use boltboard_core::board::{Kind, OptionId, Provider, Value};
use boltboard_core::slate::{Change, Item};

use super::cards::{Card, Told};
use super::model::{Mode, Model, Writing};

/// So many files are shown where several fit.
const FILES: usize = 12;

impl Model {
    /// Begins to write the value of the option under the cursor.
    pub fn write_value(&mut self) {
        let Some(option) = self.option() else { return };
        let value = self.now.resolution.value(option).clone();
        match (&self.session.board.options[option].kind, value) {
            (Kind::Words(_), Value::Words(words)) => {
                self.mode = Mode::Words { words, at: 0, typing: None, fault: None }
            }
            (_, value) => self.mode = Mode::Write { what: Writing::Value, text: value.to_string(), fault: None },
        }
    }

    /// Takes note of what is written so far: whether it will do, and what would come of it.
    pub fn written_so_far(&mut self, what: Writing, text: String) {
        let fault = match what {
            Writing::Value => self.fault_of(&text),
            Writing::Reason | Writing::Folder => None,
        };
        if what == Writing::Value {
            self.look_ahead(&text);
        }
        self.mode = Mode::Write { what, text, fault };
    }

    /// Lays what is written beside the value that it has now, so that what it brings is found.
    fn look_ahead(&mut self, text: &str) {
        let Some(option) = self.option() else { return };
        let board = &self.session.board;
        let now = self.now.resolution.value(option).clone();
        let mut cards = vec![Card::of_value(board, option, now.clone())];
        if let Ok(value) = board.options[option].kind.read(text)
            && value != now
        {
            cards.push(Card::of_value(board, option, value));
        }
        self.lay_out(cards);
        self.hand = self.cards.len() - 1;
    }

    /// Takes the value that was written.
    pub fn written(&mut self, text: &str) -> Result<(), String> {
        let Some(option) = self.option() else { return Ok(()) };
        let change = Change::Choose(option, self.read_value(option, text)?);
        // What clashes was found while it was written, with the ways out.
        match self.cards.iter().find(|card| card.change == change).and_then(|card| card.found.clone()) {
            Some(Told::Clash(_, ways)) if !ways.is_empty() => self.mode = Mode::Ways { ways, at: 0 },
            _ => drop(self.change([change])),
        }
        Ok(())
    }

    fn read_value(&self, option: OptionId, text: &str) -> Result<Value, String> {
        self.session.board.options[option].kind.read(text).map_err(|fault| format!("write {}", fault.expected))
    }

    /// Begins to write the folder that is to meet the need under the cursor.
    pub fn write_folder(&mut self) {
        match self.item() {
            Some(Item::Need(need)) if self.session.board.needs[need].can_come_from_a_folder() => {
                self.mode = Mode::Write { what: Writing::Folder, text: "/".into(), fault: None };
            }
            Some(Item::Need(_)) => self.said = "No folder can meet this need.".into(),
            Some(Item::Option(_)) | None => self.said = "A folder meets a need: ^V leads to the needs.".into(),
        }
    }

    /// Takes the folder that was written.
    pub fn take_folder(&mut self, text: &str) -> Result<(), String> {
        let Some(Item::Need(need)) = self.item() else { return Ok(()) };
        let folder = text.trim_end_matches('/');
        let provider = Provider::read(&self.session.board, need, folder).map_err(|fault| fault.to_string())?;
        if !Path::new(folder).is_dir() {
            return Err(format!("{folder} is no folder"));
        }
        self.change([Change::Provide(need, provider)]);
        Ok(())
    }

    /// What is wrong with a value that is being written.
    fn fault_of(&self, text: &str) -> Option<String> {
        self.read_value(self.option()?, text).err()
    }

    /// The next number or size that is written, one step up or down, within its range.
    pub fn stepped(&self, text: &str, is_up: bool) -> Option<String> {
        let kind = &self.session.board.options[self.option()?].kind;
        let value = kind.read(text).ok()?;
        let (now, range, step) = match (kind, value) {
            (Kind::Number(range), Value::Number(now)) => {
                (i128::from(now), i128::from(*range.start())..=i128::from(*range.end()), 1)
            }
            (Kind::Size(range), Value::Size(now)) => {
                // A size goes by its own unit: 4 KiB to 5 KiB, 64 MiB to 65 MiB.
                let unit = 1_u64 << (now.max(1).trailing_zeros() / 10 * 10).min(30);
                (i128::from(now), i128::from(*range.start())..=i128::from(*range.end()), i128::from(unit))
            }
            _ => return None,
        };
        let next = if is_up { now + step } else { now - step };
        kind.of_number(next.clamp(*range.start(), *range.end())).map(|value| value.to_string())
    }

    /// What a path that is written can go on with: the part that all files share, and the files where there are several.
    pub fn completed(&mut self, what: Writing, text: &str) -> String {
        if !self.is_path(what) {
            return text.to_string();
        }
        let (folder, begin) = text.rsplit_once('/').map_or(("", text), |(folder, begin)| (folder, begin));
        let root = if text.starts_with('/') { "/".to_string() + folder } else { folder.to_string() };
        let root = self.session.board.tree.source_root.join(root);
        let entries = std::fs::read_dir(root).into_iter().flatten().filter_map(Result::ok);
        let mut names: Vec<String> = entries
            .filter_map(|entry| {
                let name = entry.file_name().into_string().ok().filter(|name| name.starts_with(begin))?;
                Some(if entry.path().is_dir() { name + "/" } else { name })
            })
            .collect();
        names.sort();
        let Some(first) = names.first() else {
            self.said = "No file begins so.".into();
            return text.to_string();
        };
        let mut shared = first.clone();
        while !names.iter().all(|name| name.starts_with(&shared)) {
            shared.pop();
        }
        if names.len() > 1 {
            let more = if names.len() > FILES { format!(" and {} more", names.len() - FILES) } else { String::new() };
            self.said = names.iter().take(FILES).cloned().collect::<Vec<_>>().join("  ") + &more;
        }
        let before = &text[..text.len() - begin.len()];
        format!("{before}{shared}")
    }

    /// Whether what is written is a path.
    pub fn is_path(&self, what: Writing) -> bool {
        match what {
            Writing::Folder => true,
            Writing::Reason => false,
            Writing::Value => {
                self.option().is_some_and(|option| matches!(self.session.board.options[option].kind, Kind::Path))
            }
        }
    }

    /// What is wrong with words as they stand, if anything; what they would bring is looked for.
    pub fn words_so_far(&mut self, words: &[String]) -> Option<String> {
        let text = words.join(" ");
        self.look_ahead(&text);
        self.fault_of(&text)
    }
}
