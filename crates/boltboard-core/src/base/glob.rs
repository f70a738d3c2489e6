//! Patterns over relative paths: `*` and `?` stay within a folder, `**` crosses folders.

use globset::{GlobBuilder, GlobMatcher};

use super::relpath::{RelPath, RelPathFault};

/// A pattern relative to a tree's root.
#[derive(Debug, Clone)]
pub struct Glob {
    text: RelPath,
    matcher: Option<GlobMatcher>,
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
        if !text.contains(['*', '?', '[', '{']) {
            return Ok(Glob { text: path, matcher: None });
        }
        let glob = GlobBuilder::new(path.as_str())
            .literal_separator(true)
            .build()
            .map_err(|e| GlobFault::Pattern { text: text.to_string(), reason: e.kind().to_string() })?;
        Ok(Glob { text: path, matcher: Some(glob.compile_matcher()) })
    }

    /// Tells whether a path matches.
    pub fn matches(&self, path: &RelPath) -> bool {
        match &self.matcher {
            None => *path == self.text,
            Some(matcher) => matcher.is_match(path.as_str()),
        }
    }

    /// Returns the path when this pattern names exactly one.
    pub fn plain(&self) -> Option<&RelPath> {
        self.matcher.is_none().then_some(&self.text)
    }

    /// Returns the pattern relative to the root.
    pub fn as_str(&self) -> &str {
        self.text.as_str()
    }
}
