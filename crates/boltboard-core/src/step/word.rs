//! Words of commands, put together from texts and places, so that they are the same on every machine until they run.

use super::location::Location;

/// A word of a command, put together from fragments.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Word {
    /// The fragments, in order.
    pub fragments: Vec<Fragment>,
}

/// A fragment of a [`Word`].
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fragment {
    /// Text as it is.
    Text(String),
    /// A file or folder.
    At(Location),
    /// One of the step's own results, by its index in the step's `writes`; while the step runs that is a file aside.
    Result(usize),
}

impl Word {
    /// Makes a word as it is.
    pub fn text(text: impl Into<String>) -> Word {
        Word { fragments: vec![Fragment::Text(text.into())] }
    }

    /// Makes a word that is a file.
    pub fn place(at: Location) -> Word {
        Word { fragments: vec![Fragment::At(at)] }
    }

    /// Makes a word such as `-Ifolder`.
    pub fn flag(before: &str, at: Location) -> Word {
        Word { fragments: vec![Fragment::Text(before.into()), Fragment::At(at)] }
    }

    /// Makes a word that is a result of the step.
    pub fn result(index: usize) -> Word {
        Word { fragments: vec![Fragment::Result(index)] }
    }

    /// Tells whether it is a file or folder and nothing else.
    pub fn is_place(&self) -> bool {
        matches!(self.fragments[..], [Fragment::At(_)])
    }

    /// Returns the file or folder when it is that and nothing else.
    pub fn as_place(&self) -> Option<Location> {
        match self.fragments.as_slice() {
            [Fragment::At(at)] => Some(at.clone()),
            _ => None,
        }
    }

    /// Returns the folder of a flag such as `-Ifolder`.
    pub fn flagged_place(&self) -> Option<Location> {
        match self.fragments.as_slice() {
            [Fragment::Text(_), Fragment::At(at)] => Some(at.clone()),
            _ => None,
        }
    }

    /// Returns its texts, without the places and results among them.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.fragments.iter().filter_map(|fragment| match fragment {
            Fragment::Text(text) => Some(text.as_str()),
            Fragment::At(_) | Fragment::Result(_) => None,
        })
    }

    /// Returns it when it is a text and nothing else.
    pub fn as_text(&self) -> Option<&str> {
        match self.fragments.as_slice() {
            [Fragment::Text(text)] => Some(text),
            _ => None,
        }
    }

    /// Tells whether it asks for code for whatever processor the compiler runs on.
    pub fn asks_for_own_processor(&self) -> bool {
        matches!(self.fragments.last(), Some(Fragment::Text(text)) if text.ends_with("=native"))
    }

    /// Returns the generated file that it names below their folder, as in `-Wl,--version-script=${path:made}/exports.map`.
    pub fn made_file(&self) -> Option<Location> {
        self.fragments.windows(2).find_map(|pair| match pair {
            [Fragment::At(Location::Made(folder)), Fragment::Text(rest)] => {
                let name = rest.strip_prefix('/')?.split(',').next()?;
                folder.join(name).ok().map(Location::Made)
            }
            _ => None,
        })
    }

    /// Returns the word the same on every machine; for keys and for people.
    pub fn neutral(&self, writes: &[Location]) -> String {
        self.spelled(|at, _| at.to_string(), |index| writes.get(index).map_or(String::new(), Location::to_string))
    }

    /// Spells it; `place` spells a place and is told whether that is the whole word, `result` a result by its index.
    pub fn spelled(&self, place: impl Fn(&Location, bool) -> String, result: impl Fn(usize) -> String) -> String {
        let whole = self.fragments.len() == 1;
        let fragment = |fragment: &Fragment| match fragment {
            Fragment::Text(text) => text.clone(),
            Fragment::At(at) => place(at, whole),
            Fragment::Result(index) => result(*index),
        };
        self.fragments.iter().map(fragment).collect()
    }
}
