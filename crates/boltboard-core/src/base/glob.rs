//! Patterns over relative paths: `*` and `?` stay within a folder, `**` crosses folders.

use std::sync::OnceLock;

use globset::{GlobBuilder, GlobMatcher};
use serde::{Deserialize, Serialize};

use super::relpath::{RelPath, RelPathFault};

/// A pattern relative to a tree's root. Written and read as its text; the matcher is made when it is first wanted.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Glob {
    text: RelPath,
    sort: Sort,
    #[serde(skip)]
    matcher: OnceLock<Matcher>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
enum Sort {
    Plain,
    Pattern,
}

/// How paths are held against a pattern.
#[derive(Debug, Clone)]
enum Matcher {
    /// It is one path.
    Plain,
    /// It has one `*` and no other sign, at this byte: as nearly all have. A large tree has thousands, and an automaton for each
    /// would take most of the memory.
    OneStar(usize),
    Compiled(Box<GlobMatcher>),
    Nothing,
}

/// How deep below a folder something lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Depth {
    /// Right in it.
    Right,
    /// In it or in folders below.
    Below,
}

/// Why a text is not a pattern.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum GlobFault {
    /// The path that the pattern is written in is wrong.
    #[error(transparent)]
    Path(#[from] RelPathFault),
    /// The pattern itself is wrong.
    #[error("`{text}` is not a pattern: {reason}")]
    Pattern {
        /// The pattern as written.
        text: String,
        /// What the pattern reader says.
        reason: String,
    },
}

impl Glob {
    /// Reads a pattern relative to `folder`. A text without `*`, `?`, `[` or `{` is one plain path.
    ///
    /// # Errors
    /// See [`GlobFault`].
    pub fn parse(folder: &RelPath, text: &str) -> Result<Glob, GlobFault> {
        let path = folder.join(text)?;
        // Signs in the names of the folders above are plain names.
        let sort = if text.contains(['*', '?', '[', '{']) { Sort::Pattern } else { Sort::Plain };
        let matcher = matcher_of(&path, sort)
            .map_err(|e| GlobFault::Pattern { text: text.to_string(), reason: e.kind().to_string() })?;
        Ok(Glob { text: path, sort, matcher: OnceLock::from(matcher) })
    }

    /// Tells whether a path matches.
    pub fn matches(&self, path: &RelPath) -> bool {
        // It could be compiled when it was first read.
        match self.matcher.get_or_init(|| matcher_of(&self.text, self.sort).unwrap_or(Matcher::Nothing)) {
            Matcher::Plain => *path == self.text,
            Matcher::OneStar(at) => {
                let (before, after) = (&self.text.as_str()[..*at], &self.text.as_str()[at + 1..]);
                let rest = path.as_str().strip_prefix(before);
                rest.and_then(|rest| rest.strip_suffix(after)).is_some_and(|between| !between.contains('/'))
            }
            Matcher::Compiled(matcher) => matcher.is_match(path.as_str()),
            Matcher::Nothing => false,
        }
    }

    /// Returns the path when this pattern names exactly one.
    pub fn plain(&self) -> Option<&RelPath> {
        (self.sort == Sort::Plain).then_some(&self.text)
    }

    /// Returns what every path that matches begins with.
    pub fn beginning(&self) -> &str {
        let text = self.text.as_str();
        match self.sort {
            Sort::Plain => text,
            Sort::Pattern => text.find(['*', '?', '[', '{', '\\']).map_or(text, |end| &text[..end]),
        }
    }

    /// Returns the folder below which all paths lie that match, and whether they lie deeper than right in it.
    pub fn place(&self) -> (RelPath, Depth) {
        let text = self.text.as_str();
        let end = self.beginning().rfind('/').unwrap_or(0);
        let folder = match self.sort {
            Sort::Plain => self.text.parent(),
            Sort::Pattern => RelPath::parse(&text[..end]).unwrap_or_else(|_| RelPath::root()),
        };
        let deeper = self.sort == Sort::Pattern && text[end..].trim_start_matches('/').contains(['/', '{', '\\']);
        let deeper = deeper || self.sort == Sort::Pattern && text.contains("**");
        (folder, if deeper { Depth::Below } else { Depth::Right })
    }

    /// Returns the pattern relative to the root.
    pub fn as_str(&self) -> &str {
        self.text.as_str()
    }
}

fn matcher_of(path: &RelPath, sort: Sort) -> Result<Matcher, globset::Error> {
    if sort == Sort::Plain {
        return Ok(Matcher::Plain);
    }
    let mut signs = path.as_str().match_indices(['*', '?', '[', '{', '\\']);
    if let (Some((at, "*")), None) = (signs.next(), signs.next()) {
        return Ok(Matcher::OneStar(at));
    }
    let glob = GlobBuilder::new(path.as_str()).literal_separator(true).build()?;
    Ok(Matcher::Compiled(Box::new(glob.compile_matcher())))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_star_means_the_same_as_in_an_automaton() {
        let paths =
            ["a.c", "lamp/a.c", "lamp/ab.c", "lamp/.c", "lamp/a.h", "lamp/low/a.c", "lamp/a.cc", "lam/pa.c", "c"];
        for text in ["*.c", "lamp/*.c", "lamp/a*", "lamp/*", "*", "*/a.c", "la*p/a.c", "lamp/a*a.c", "c*c"] {
            let glob = Glob::parse(&RelPath::root(), text).unwrap();
            assert!(matches!(glob.matcher.get(), Some(Matcher::OneStar(_))), "{text}");
            let automaton = GlobBuilder::new(text).literal_separator(true).build().unwrap().compile_matcher();
            for path in paths {
                let matches = glob.matches(&RelPath::parse(path).unwrap());
                assert_eq!(matches, automaton.is_match(path), "{text} and {path}");
            }
        }
    }
}
