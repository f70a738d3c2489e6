//! The whole reading: files first, then the board that they make.

use std::path::Path;

use super::fields::Log;
use super::find::{MAX_FILES, NamedFile, RawFile, named_boards, parse_file, read_text, take_text};
use super::problem::{Fault, Problem};
use super::sources::Listing;
use super::{Outside, Reading, link, order};
use crate::base::{FileId, SourceFiles};
use crate::board::Board;

/// Reads all definitions of the tree at `root`, with what comes from outside of it. `sources` overrides where its sources lie.
pub fn read_tree(root: &Path, sources: Option<&Path>, outside: &Outside) -> Reading {
    let log = Log::default();
    let mut files = SourceFiles::default();
    // Paths are compared with where files really lie.
    let root = &root.canonicalize().unwrap_or_else(|_| root.to_path_buf());
    let first = NamedFile::root();
    let first_id = take_text(&first, read_text(root, &first), &mut files, &log);
    let (named, listing) = first_id.map_or((Vec::new(), None), |id| named_by(id, root, &files, &log));
    let texts = side_by_side(&named, |(_, named)| named.iter().map(|file| read_text(root, file)).collect::<Vec<_>>());
    let mut ids: Vec<FileId> = first_id.into_iter().collect();
    for (file, text) in named.iter().zip(texts.into_iter().flatten()) {
        ids.extend(take_text(file, text, &mut files, &log));
    }
    let board = read_texts(&ids, root, (sources, outside), &files, &log);
    let mut problems = log.into_problems();
    problems.sort_by_key(|p| p.place.map(|place| (place.file, place.start)));
    Reading { board: board.filter(|_| problems.is_empty()), problems, files, listing }
}

/// See [`named_boards`].
fn named_by(first: FileId, root: &Path, files: &SourceFiles, log: &Log) -> (Vec<NamedFile>, Option<Listing>) {
    // What is wrong with the root file is logged when it is read with the others.
    let Some(file) = parse_file(first, files, &Log::default()) else { return (Vec::new(), None) };
    let (mut named, listing) = named_boards(root, &file, log);
    if named.len() >= MAX_FILES {
        let fault = Fault::Limit { what: "the number of definition files".into(), limit: MAX_FILES.to_string() };
        log.add(Problem { fault, place: None, related: None, near: vec![] });
        named.truncate(MAX_FILES - 1);
    }
    (named, listing)
}

fn read_texts(
    ids: &[FileId],
    root: &Path,
    (sources, outside): (Option<&Path>, &Outside),
    files: &SourceFiles,
    log: &Log,
) -> Option<Board> {
    let parse =
        |(_, ids): (usize, &[FileId])| ids.iter().filter_map(|id| parse_file(*id, files, log)).collect::<Vec<_>>();
    let raw: Vec<RawFile<'_>> = side_by_side(ids, parse).into_iter().flatten().collect();
    // Linking on top of unreadable files would only report their names as missing.
    let mut board = if log.is_empty() { link::link(root, sources, outside, &raw, files, log)? } else { return None };
    let order = std::thread::scope(|scope| {
        let linked = &board;
        scope.spawn(move || {
            drop(raw);
            order::check_cycles(linked, log);
            order::check_toolchain(linked, log);
        });
        order::canonical(linked)
    });
    board.order = order;
    Some(board)
}

/// Does something with a list in a few parts, each in a thread of its own; the answers come in the order of the list. Each part
/// is told where it starts.
pub(super) fn side_by_side<'i, T: Sync, A: Send>(
    items: &'i [T],
    work: impl Fn((usize, &'i [T])) -> A + Sync,
) -> Vec<A> {
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
