//! The whole reading: files first, then the board that they make.

use std::path::Path;

use super::fields::Log;
use super::find::{MAX_FILES, ParsedFile, named_boards, parse_file, take_file};
use super::problem::{Fault, Problem};
use super::{Reading, link};
use crate::base::{Place, RelPath, SourceFiles};

/// Reads all definitions of the tree at `root`. `sources` overrides where its sources lie.
pub fn read_tree(root: &Path, sources: Option<&Path>) -> Reading {
    let log = Log::default();
    let mut files = SourceFiles::default();
    let mut raw = Vec::new();
    // Paths are compared with where files really lie.
    let root = &root.canonicalize().unwrap_or_else(|_| root.to_path_buf());
    let first = parse_file(root, &RelPath::root().child("board.toml"), None);
    raw.extend(take_file(first, &mut files, &log));
    let mut named = raw.first().map(|file| named_boards(root, file, &log)).unwrap_or_default();
    if named.len() >= MAX_FILES {
        let fault = Fault::Limit { what: "the number of definition files".into(), limit: MAX_FILES.to_string() };
        log.add(Problem { fault, place: None, related: None, near: vec![] });
        named.truncate(MAX_FILES - 1);
    }
    for parsed in parse_all(root, &named) {
        raw.extend(take_file(parsed, &mut files, &log));
    }
    // Linking on top of unreadable files would only report their names as missing.
    let board = if log.is_empty() { link::link(root, sources, &raw, &files, &log) } else { None };
    let mut problems = log.into_problems();
    problems.sort_by_key(|p| p.place.map(|place| (place.file, place.start)));
    Reading { board: board.filter(|_| problems.is_empty()), problems, files }
}

/// Reads and parses files, several at a time; in the order in which they are named.
fn parse_all(root: &Path, named: &[(RelPath, Place)]) -> Vec<ParsedFile> {
    let parse = |(path, named_at): &(RelPath, Place)| parse_file(root, path, Some(*named_at));
    let jobs = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let share = named.len().div_ceil(jobs).max(32);
    if named.len() <= share {
        return named.iter().map(parse).collect();
    }
    std::thread::scope(|scope| {
        let running: Vec<_> = named
            .chunks(share)
            .map(|files| {
                scope.spawn(move || files.iter().map(|file| parse_file(root, &file.0, Some(file.1))).collect())
            })
            .collect();
        running.into_iter().flat_map(|job| job.join().unwrap_or_else(|_| Vec::new())).collect()
    })
}
