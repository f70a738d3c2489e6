//! The whole reading: files first, then the board that they make.

use std::path::Path;

use super::fields::Log;
use super::find::{MAX_FILES, named_boards, read_file};
use super::problem::{Fault, Problem};
use super::{Reading, link};
use crate::base::{RelPath, SourceFiles};

/// Reads all definitions of the tree at `root`. `sources` overrides where its sources lie.
pub fn read_tree(root: &Path, sources: Option<&Path>) -> Reading {
    let log = Log::default();
    let mut files = SourceFiles::default();
    let mut raw = Vec::new();
    if let Some(file) = read_file(root, &RelPath::root().child("board.toml"), None, &mut files, &log) {
        raw.push(file);
    }
    let named = raw.first().map(|file| named_boards(root, file, &log)).unwrap_or_default();
    for (path, named_at) in named {
        if raw.len() >= MAX_FILES {
            let what = "the number of definition files".to_string();
            log.add(Problem {
                fault: Fault::Limit { what, limit: MAX_FILES.to_string() },
                place: None,
                related: None,
                near: vec![],
            });
            break;
        }
        raw.extend(read_file(root, &path, Some(named_at), &mut files, &log));
    }
    // Linking on top of unreadable files would only report their names as missing.
    let board = if log.is_empty() { link::link(root, sources, &raw, &files, &log) } else { None };
    let mut problems = log.into_problems();
    problems.sort_by_key(|p| p.place.map(|place| (place.file, place.start)));
    Reading { board: board.filter(|_| problems.is_empty()), problems, files }
}
