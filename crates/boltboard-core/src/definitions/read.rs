//! The whole reading: files first, then the board that they make.

use std::path::Path;

use super::fields::Log;
use super::find::{MAX_FILES, NamedFile, RawFile, named_boards, parse_file, read_text, take_text};
use super::kit_file::ReadKit;
use super::problem::{Fault, Problem};
use super::sources::Listing;
use super::{AddOnPlace, Outside, Reading, link, order};
use crate::base::{FileId, Grafts, RelPath, SourceFiles};
use crate::board::{Board, KIT_FILE};

/// Reads all definitions of the tree at `root`, with what comes from outside of it. `sources` overrides where its sources lie.
pub fn read_tree(root: &Path, sources: Option<&Path>, outside: &Outside) -> Reading {
    let log = Log::default();
    let mut files = SourceFiles::default();
    // Paths are compared with where files really lie.
    let root = &root.canonicalize().unwrap_or_else(|_| root.to_path_buf());
    let grafts = &outside.folders();
    files.grafted(grafts);
    let own = NamedFile::root_of(&RelPath::root());
    let mut ids: Vec<FileId> = Vec::new();
    ids.extend(take_text(&own, read_text(root, grafts, &own), &mut files, &log));
    for add_on in &outside.add_ons {
        let file = NamedFile::root_of(&add_on.at());
        let text = read_text(root, grafts, &file).map_err(|fault| not_there(add_on, fault));
        ids.extend(take_text(&file, text, &mut files, &log));
    }
    let is_kit = root.join(KIT_FILE).is_file();
    let kit = NamedFile::of_kit();
    let kit = is_kit.then(|| take_text(&kit, read_text(root, grafts, &kit), &mut files, &log)).flatten();
    let (named, listing) = named_by(&ids, (root, grafts), &files, &log);
    let read = |file| read_text(root, grafts, file);
    let texts = side_by_side(&named, |(_, named)| named.iter().map(read).collect::<Vec<_>>());
    for (file, text) in named.iter().zip(texts.into_iter().flatten()) {
        ids.extend(take_text(file, text, &mut files, &log));
    }
    let kit = kit.and_then(|id| ReadKit::of(id, &files, &log));
    let board = read_texts(&ids, root, (sources, outside, kit.as_ref()), &files, &log);
    let mut problems = log.into_problems();
    problems.sort_by_key(|p| p.place.map(|place| (place.file, place.start)));
    Reading { board: board.filter(|_| problems.is_empty()), problems, files, listing }
}

fn not_there(add_on: &AddOnPlace, fault: Fault) -> Fault {
    match fault {
        Fault::Unreadable { reason, .. } => {
            let (name, place) = (add_on.name.clone(), add_on.folder.join("boltboard.toml"));
            let text = format!("the add-on `{name}` cannot be read: {}: {reason}", place.display());
            Fault::AddOn { name, text }
        }
        other => other,
    }
}

/// See [`named_boards`].
fn named_by(
    roots: &[FileId],
    at: (&Path, &Grafts),
    files: &SourceFiles,
    log: &Log,
) -> (Vec<NamedFile>, Option<Listing>) {
    let (mut named, mut listing) = (Vec::new(), None);
    for id in roots {
        // What is wrong with a root file is logged when it is read with the others.
        let Some(file) = parse_file(*id, files, &Log::default()) else { continue };
        named.extend(named_boards(at, &file, &mut listing, log));
    }
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
    (sources, outside, kit): (Option<&Path>, &Outside, Option<&ReadKit>),
    files: &SourceFiles,
    log: &Log,
) -> Option<Board> {
    let parse =
        |(_, ids): (usize, &[FileId])| ids.iter().filter_map(|id| parse_file(*id, files, log)).collect::<Vec<_>>();
    let raw: Vec<RawFile<'_>> = side_by_side(ids, parse).into_iter().flatten().collect();
    // Linking on top of unreadable files would only report their names as missing.
    let mut board =
        if log.is_empty() { link::link(root, sources, (outside, kit), &raw, files, log)? } else { return None };
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
