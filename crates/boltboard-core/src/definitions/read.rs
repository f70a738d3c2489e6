//! The whole reading: files first, then the board that they make.

use std::path::Path;

use super::fields::Log;
use super::find::{MAX_FILES, NamedFile, ParsedFile, named_boards, parse_file, take_file};
use super::problem::{Fault, Problem};
use super::{Reading, link};
use crate::base::SourceFiles;

/// Reads all definitions of the tree at `root`. `sources` overrides where its sources lie.
pub fn read_tree(root: &Path, sources: Option<&Path>) -> Reading {
    let log = Log::default();
    let mut files = SourceFiles::default();
    let mut raw = Vec::new();
    // Paths are compared with where files really lie.
    let root = &root.canonicalize().unwrap_or_else(|_| root.to_path_buf());
    let first = parse_file(root, &NamedFile::root());
    raw.extend(take_file(first, &mut files, &log));
    let mut named = raw.first().map(|file| named_boards(root, file, &log)).unwrap_or_default();
    if named.len() >= MAX_FILES {
        let fault = Fault::Limit { what: "the number of definition files".into(), limit: MAX_FILES.to_string() };
        log.add(Problem { fault, place: None, related: None, near: vec![] });
        named.truncate(MAX_FILES - 1);
    }
    let parse = |(_, files): (usize, &[NamedFile])| {
        files.iter().map(|file| parse_file(root, file)).collect::<Vec<ParsedFile>>()
    };
    for parsed in side_by_side(&named, parse).into_iter().flatten() {
        raw.extend(take_file(parsed, &mut files, &log));
    }
    // Linking on top of unreadable files would only report their names as missing.
    let board = if log.is_empty() { link::link(root, sources, &raw, &files, &log) } else { None };
    // Giving back what was parsed takes a while, and nobody has to wait for it.
    std::thread::spawn(move || drop(raw));
    let mut problems = log.into_problems();
    problems.sort_by_key(|p| p.place.map(|place| (place.file, place.start)));
    Reading { board: board.filter(|_| problems.is_empty()), problems, files }
}

/// Does something with a list in a few parts, each in a thread of its own; the answers come in the order of the list. Each part
/// is told where it starts.
pub(super) fn side_by_side<T: Sync, A: Send>(items: &[T], work: impl Fn((usize, &[T])) -> A + Sync) -> Vec<A> {
    let jobs = std::thread::available_parallelism().map_or(1, usize::from).min(8);
    let share = items.len().div_ceil(jobs).max(64);
    if items.len() <= share {
        return vec![work((0, items))];
    }
    let work = &work;
    std::thread::scope(|scope| {
        let chunks = items.chunks(share).enumerate().map(|(index, chunk)| (index * share, chunk));
        let running: Vec<_> = chunks.map(|part| scope.spawn(move || work(part))).collect();
        // A thread that panics takes the others with it, as it would alone.
        let joined = |job: std::thread::ScopedJoinHandle<'_, A>| {
            job.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
        };
        running.into_iter().map(joined).collect()
    })
}
