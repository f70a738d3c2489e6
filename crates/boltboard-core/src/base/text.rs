//! Files as they were read, and places in them.

use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};

use super::id::{Arena, Id};
use super::{Grafts, RelPath};

/// A text file: its name as shown to people, and its content, which may be read when it is first wanted.
#[derive(Debug, Clone)]
pub struct SourceFile {
    name: Arc<str>,
    text: OnceLock<Arc<str>>,
    /// Where its lines begin, once a place in it was shown: with a board of one file, ten thousand places may be.
    lines: OnceLock<Arc<[usize]>>,
}

/// The id of a [`SourceFile`].
pub type FileId = Id<SourceFile>;

/// A span of bytes in one file; offsets are zero-based.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
pub struct Place {
    /// The file.
    pub file: FileId,
    /// Offset of the first byte.
    pub start: u32,
    /// Length in bytes.
    pub len: u32,
}

impl Place {
    /// Returns the place of `range` in `file`.
    pub fn new(file: FileId, range: std::ops::Range<usize>) -> Place {
        let start = u32::try_from(range.start).unwrap_or(u32::MAX);
        let len = u32::try_from(range.end.saturating_sub(range.start)).unwrap_or(0);
        Place { file, start, len }
    }

    /// Returns the place `len` bytes long that lies `offset` bytes into this one.
    pub fn within(self, offset: usize, len: usize) -> Place {
        let start = self.start as usize + offset;
        Place::new(self.file, start..start + len)
    }
}

/// All files known so far.
#[derive(Debug, Clone, Default)]
pub struct SourceFiles {
    files: Arena<SourceFile>,
    /// Where files that were not read yet lie.
    root: PathBuf,
    grafts: Grafts,
}

/// A place made ready to be shown: one line of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Excerpt {
    /// The file's name as people see it.
    pub file: Arc<str>,
    /// One-based line.
    pub line: usize,
    /// One-based column, in characters.
    pub column: usize,
    /// How many characters the span covers on this line; at least one.
    pub width: usize,
    /// The whole line, without its end.
    pub text: String,
}

impl SourceFiles {
    /// Takes in a file.
    pub fn add(&mut self, name: &str, text: impl Into<Arc<str>>) -> FileId {
        self.files.add(SourceFile { name: name.into(), text: OnceLock::from(text.into()), lines: OnceLock::new() })
    }

    /// Takes files below `root` that are read when their text is first wanted; one that is gone by then is empty.
    pub fn unread<'a>(root: &Path, grafts: &Grafts, names: impl IntoIterator<Item = &'a str>) -> SourceFiles {
        let mut files = SourceFiles { files: Arena::default(), root: root.to_path_buf(), grafts: grafts.clone() };
        for name in names {
            files.files.add(SourceFile { name: name.into(), text: OnceLock::new(), lines: OnceLock::new() });
        }
        files
    }

    /// Returns a file's name.
    pub fn name(&self, file: FileId) -> &str {
        &self.files[file].name
    }

    /// Returns all names, in the order of files.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.files.iter().map(|(_, file)| &*file.name)
    }

    /// Returns a file's whole text.
    pub fn text(&self, file: FileId) -> &str {
        let file = &self.files[file];
        file.text.get_or_init(|| std::fs::read_to_string(self.place(&file.name)).unwrap_or_default().into())
    }

    /// Lets files count as lying where they do.
    pub fn grafted(&mut self, grafts: &Grafts) {
        self.grafts = grafts.clone();
    }

    /// Where a file lies; relative to the root where that is not known.
    fn place(&self, name: &str) -> PathBuf {
        RelPath::of_file(name).map_or_else(|_| self.root.join(name), |path| self.grafts.real(&path, &self.root))
    }

    /// Returns a file's name as people know it: of one that lies elsewhere, where that is.
    fn shown(&self, name: &str) -> String {
        let of_graft = RelPath::of_file(name).ok().filter(|path| self.grafts.over(path).is_some());
        of_graft.map_or_else(|| name.to_string(), |_| self.place(name).display().to_string())
    }

    /// Returns the text that a place covers.
    pub fn covered(&self, place: Place) -> &str {
        let text = self.text(place.file);
        let start = place.start as usize;
        text.get(start..start + place.len as usize).unwrap_or("")
    }

    /// Returns the line of a place, ready to be shown.
    pub fn excerpt(&self, place: Place) -> Excerpt {
        let file = &self.files[place.file];
        let text = self.text(place.file);
        let mut start = (place.start as usize).min(text.len());
        while !text.is_char_boundary(start) {
            start -= 1;
        }
        let lines = file.lines.get_or_init(|| text.match_indices('\n').map(|(at, _)| at + 1).collect());
        let before = lines.partition_point(|line| *line <= start);
        let line_start = before.checked_sub(1).map_or(0, |last| lines[last]);
        let line_end = lines.get(before).map_or(text.len(), |next| next - 1);
        let column = text[line_start..start].chars().count() + 1;
        let mut end = (start + place.len as usize).min(line_end).max(start);
        while !text.is_char_boundary(end) {
            end -= 1;
        }
        Excerpt {
            file: self.shown(&file.name).into(),
            line: before + 1,
            column,
            width: text[start..end].chars().count().max(1),
            text: text[line_start..line_end].trim_end_matches('\r').to_string(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_shown_by_their_lines() {
        let mut files = SourceFiles::default();
        let text = "one\r\ntw\u{f6} three\n\nlast";
        let file = files.add("t", text);
        let shown = |start: usize, len: usize| {
            let excerpt = files.excerpt(Place::new(file, start..start + len));
            (excerpt.line, excerpt.column, excerpt.width, excerpt.text)
        };
        let at = |word: &str| text.find(word).unwrap();
        assert_eq!(shown(0, 3), (1, 1, 3, "one".into()));
        assert_eq!(shown(at("three"), 5), (2, 5, 5, "tw\u{f6} three".into()));
        // A place that goes on past its line, the end of a line, an empty one, and what lies past the end.
        assert_eq!(shown(at("three"), 50), (2, 5, 5, "tw\u{f6} three".into()));
        assert_eq!(shown(at("\n\n"), 1), (2, 10, 1, "tw\u{f6} three".into()));
        assert_eq!(shown(at("\n\n") + 1, 1), (3, 1, 1, String::new()));
        assert_eq!(shown(at("last"), 4), (4, 1, 4, "last".into()));
        assert_eq!(shown(text.len() + 9, 1), (4, 5, 1, "last".into()));
        // Within a letter, the letter counts.
        assert_eq!(shown(at("\u{f6}") + 1, 1), (2, 3, 1, "tw\u{f6} three".into()));
    }

    #[test]
    fn each_line_is_as_if_it_were_counted() {
        let text: String = (0..300).map(|line| format!("{}\n", "x".repeat(line % 7))).collect();
        let mut files = SourceFiles::default();
        let file = files.add("t", text.as_str());
        for start in 0..=text.len() {
            let excerpt = files.excerpt(Place::new(file, start..start));
            let before = &text[..start];
            let counted = before.matches('\n').count() + 1;
            let column = before.rsplit('\n').next().unwrap_or_default().len() + 1;
            assert_eq!((excerpt.line, excerpt.column), (counted, column), "{start}");
        }
    }
}
