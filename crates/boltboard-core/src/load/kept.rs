//! The kept form of a board, and whether it still stands.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::SystemTime;

use serde::{Deserialize, Serialize};

use super::{KeptPlace, LazySearch, Loaded, LoadedFrom};
use crate::base::files::read_regular;
use crate::base::{Arena, Digest, LazyArena, NameTable, Packed, RelPath, SourceFiles};
use crate::board::{
    Acceptance, ActionDef, AddOn, Board, FetchDef, HeaderDef, History, InKit, KIT_FILE, NeedDef, OptionDef, OptionId,
    PartId, SectionDef, Signs, SmokeDef, TestDef, Toolchains, Tree,
};
use crate::definitions::{FetchPlace, Listing, Outside, boards_named};
use crate::logic::Logic;
use crate::search::SearchIndex;
use crate::work::Stamp;

/// What the file begins with.
const MARK: &[u8] = b"boltboard board 1\n";
/// How many sections follow the lengths: head, clauses, items.
const SECTIONS: usize = 3;

/// A range of the kept bytes.
#[derive(Debug, Clone)]
pub(super) struct Section {
    bytes: Arc<Vec<u8>>,
    start: usize,
    end: usize,
}

impl Section {
    pub fn bytes(&self) -> &[u8] {
        &self.bytes[self.start..self.end]
    }
}

/// Everything but the options, rules and parts, which follow packed one by one.
#[derive(Serialize, Deserialize)]
struct Head {
    program: String,
    /// Of all that a search index is made of.
    content: Digest,
    root: PathBuf,
    sources: Option<PathBuf>,
    files: Vec<(String, Stamp)>,
    folders: Vec<(RelPath, Stamp)>,
    /// Folders of the sources whose names parts follow from.
    named_by: Vec<(RelPath, Stamp)>,
    tree: Tree,
    toolchains: Toolchains,
    builds_for_host: bool,
    sections: Vec<SectionDef>,
    needs: Vec<NeedDef>,
    headers: Vec<HeaderDef>,
    tests: Vec<TestDef>,
    actions: Vec<ActionDef>,
    smokes: Vec<SmokeDef>,
    fetches: Vec<FetchDef>,
    add_ons: Vec<AddOn>,
    kit: Option<InKit>,
    accepted: Vec<Acceptance>,
    history: History,
    signs: BTreeMap<OptionId, Signs>,
    names: NameTable<OptionDef>,
    option_ends: Vec<u32>,
    rule_ends: Vec<u32>,
    part_ends: Vec<u32>,
    modules: Vec<PartId>,
    carriers: BTreeMap<PartId, Vec<PartId>>,
}

/// Reads the kept form, if there is one that stands.
pub(super) fn recall(
    root: &Path,
    sources: Option<&Path>,
    outside: &Outside,
    place: &KeptPlace,
    started: SystemTime,
) -> Option<Loaded> {
    let bytes = Arc::new(read_regular(&place.file).ok()?);
    let [head, logic, items] = sections(&bytes)?;
    let mut head: Head = postcard::from_bytes(head.bytes()).ok()?;
    let same = head.program == place.program && head.root == root && head.sources.as_deref() == sources;
    let same = same && head.kit.is_some() == root.join(KIT_FILE).is_file();
    let grafts = outside.grafts(head.fetches.iter().map(FetchPlace::of), &head.tree.source_root);
    if !same || grafts != head.tree.grafts {
        return None;
    }
    match standing(&head, root) {
        Standing::Same => {}
        Standing::Changed => return None,
        Standing::FoldersTouched => {
            // The next start need not look at the folders' names again.
            let now =
                |folder: &RelPath| Stamp::of_any(&head.tree.definition(folder)).map(|stamp| (folder.clone(), stamp));
            let folders: Option<Vec<_>> = head.folders.iter().map(|(folder, _)| now(folder)).collect();
            let settled = |folders: &Vec<(RelPath, Stamp)>| folders.iter().all(|(_, stamp)| stamp.is_settled(started));
            if let Some(folders) = folders.filter(settled) {
                head.folders = folders;
                if let Ok(head) = postcard::to_stdvec(&head) {
                    let _ = write(&place.file, [&head, logic.bytes(), items.bytes()]);
                }
            }
        }
    }
    let logic: Logic = postcard::from_bytes(logic.bytes()).ok()?;
    let end_of = |ends: &[u32]| ends.last().map_or(0, |end| *end as usize);
    let packed = |start: usize, ends: Vec<u32>| Packed { bytes: Arc::clone(&bytes), start, ends };
    let rules_start = items.start + end_of(&head.option_ends);
    let parts_start = rules_start + end_of(&head.rule_ends);
    let board = Board {
        tree: head.tree,
        options: LazyArena::packed(packed(items.start, head.option_ends)),
        sections: arena(head.sections),
        needs: arena(head.needs),
        parts: LazyArena::packed(packed(parts_start, head.part_ends)),
        modules: head.modules,
        carriers: head.carriers,
        rules: LazyArena::packed(packed(rules_start, head.rule_ends)),
        headers: arena(head.headers),
        tests: arena(head.tests),
        actions: arena(head.actions),
        smokes: arena(head.smokes),
        fetches: arena(head.fetches),
        add_ons: head.add_ons,
        kit: head.kit,
        accepted: head.accepted,
        history: head.history,
        signs: head.signs,
        toolchains: head.toolchains,
        builds_for_host: head.builds_for_host,
        files: SourceFiles::unread(root, &grafts, head.files.iter().map(|(name, _)| name.as_str())),
        named_by: head.named_by.into_iter().map(|(folder, _)| folder).collect(),
        order: logic.order.clone(),
        option_names: head.names,
    };
    Some(Loaded { board, logic, search: LazySearch::at(&place.file, head.content), source: LoadedFrom::Kept })
}

/// What of a board is kept, packed, with the status of all that it was read from.
pub(super) struct Contents {
    items: Vec<u8>,
    option_ends: Vec<u32>,
    rule_ends: Vec<u32>,
    part_ends: Vec<u32>,
    root: PathBuf,
    files: Vec<(String, Stamp)>,
    folders: Vec<(RelPath, Stamp)>,
    named_by: Vec<(RelPath, Stamp)>,
    digest: Digest,
}

impl Contents {
    /// Packs a board that was read from `started` on. One whose files changed shortly before is not kept: a second change
    /// could leave the same status.
    pub fn of(board: &Board, listing: Option<&Listing>, root: &Path, started: SystemTime) -> Option<Contents> {
        let settled = |path: &Path| Stamp::of_any(path).filter(|stamp| stamp.is_settled(started));
        let file = |name: &str| Some((name.to_string(), settled(&board.tree.definition_file(name))?));
        let folder = |folder: &RelPath| settled(&board.tree.definition(folder)).map(|stamp| (folder.clone(), stamp));
        let files: Option<Vec<(String, Stamp)>> = board.files.names().map(file).collect();
        let folders: Option<Vec<(RelPath, Stamp)>> = watched(board, listing).map(folder).collect();
        let named = |folder: &RelPath| settled(&board.tree.source(folder)).map(|stamp| (folder.clone(), stamp));
        let named_by: Option<Vec<(RelPath, Stamp)>> = board.named_by.iter().map(named).collect();
        let (files, folders, named_by) = (files?, folders?, named_by?);
        let mut items = Vec::new();
        let option_ends = board.options.pack_into(&mut items);
        let rule_ends = board.rules.pack_into(&mut items);
        let part_ends = board.parts.pack_into(&mut items);
        let digest = Digest::of(&items);
        Some(Contents {
            items,
            option_ends,
            rule_ends,
            part_ends,
            root: root.to_path_buf(),
            files,
            folders,
            named_by,
            digest,
        })
    }
}

/// Keeps a board. When it cannot be written, it is not kept, which is no reason to stop. Returns the digest of the content.
pub(super) fn keep(
    contents: Contents,
    board: &Board,
    logic: &Logic,
    sources: Option<&Path>,
    place: &KeptPlace,
) -> Option<Digest> {
    let Contents { items, option_ends, rule_ends, part_ends, root, files, folders, named_by, digest } = contents;
    let logic = postcard::to_stdvec(logic).ok()?;
    // All that a search index is made of.
    let sections = postcard::to_stdvec(&board.sections.clone().into_items()).ok()?;
    let content = Digest::of(&[digest.to_string(), Digest::of(&sections).to_string()].concat().into_bytes());
    let head = Head {
        program: place.program.clone(),
        content,
        root,
        sources: sources.map(Path::to_path_buf),
        files,
        folders,
        named_by,
        tree: board.tree.clone(),
        toolchains: board.toolchains.clone(),
        builds_for_host: board.builds_for_host,
        sections: board.sections.clone().into_items(),
        needs: board.needs.clone().into_items(),
        headers: board.headers.clone().into_items(),
        tests: board.tests.clone().into_items(),
        actions: board.actions.clone().into_items(),
        smokes: board.smokes.clone().into_items(),
        fetches: board.fetches.clone().into_items(),
        add_ons: board.add_ons.clone(),
        kit: board.kit.clone(),
        accepted: board.accepted.clone(),
        history: board.history.clone(),
        signs: board.signs.clone(),
        names: board.option_names.clone(),
        modules: board.modules.clone(),
        carriers: board.carriers.clone(),
        option_ends,
        rule_ends,
        part_ends,
    };
    let head = postcard::to_stdvec(&head).ok()?;
    write(&place.file, [&head, &logic, &items]).ok()?;
    Some(content)
}

/// Whether what was kept is still so.
enum Standing {
    Same,
    /// Names came or went in some folder, but none of a definition.
    FoldersTouched,
    Changed,
}

/// Looks at every file and folder. A folder that has changed may still hold the same definitions.
fn standing(head: &Head, root: &Path) -> Standing {
    if head.named_by.iter().any(|(folder, stamp)| Stamp::of_any(&head.tree.source(folder)) != Some(*stamp)) {
        return Standing::Changed;
    }
    let half = head.files.len() / 2;
    let same = |files: &[(String, Stamp)]| {
        files.iter().all(|(name, stamp)| Stamp::of(&head.tree.definition_file(name)) == Some(*stamp))
    };
    // Looking up status is all that a warm start waits for, and it waits for the kernel.
    let (files, folders) = std::thread::scope(|scope| {
        let other = scope.spawn(|| same(&head.files[half..]));
        let folders =
            head.folders.iter().all(|(folder, stamp)| Stamp::of_any(&head.tree.definition(folder)) == Some(*stamp));
        (same(&head.files[..half]) && other.join().unwrap_or(false), folders)
    });
    match (files, folders) {
        (true, true) => Standing::Same,
        (true, false) if same_boards(head, root) => Standing::FoldersTouched,
        (true | false, _) => Standing::Changed,
    }
}

fn same_boards(head: &Head, root: &Path) -> bool {
    let listing = Listing::with_grafts(root, &head.tree.grafts);
    let named = boards_named(&head.tree.more, &listing);
    let before =
        head.files.iter().map(|(name, _)| name.as_str()).filter(|name| !["boltboard.toml", KIT_FILE].contains(name));
    named.iter().map(RelPath::as_str).eq(before)
}

/// The folders in which a further definition file could appear; without a listing nothing is named by pattern.
fn watched<'a>(board: &'a Board, listing: Option<&'a Listing>) -> impl Iterator<Item = &'a RelPath> {
    let patterns: Vec<&String> = board.tree.more.iter().filter(|text| text.contains(['*', '?', '[', '{'])).collect();
    let depth = |path: &str| path.split('/').filter(|part| !part.is_empty()).count();
    let counts = move |folder: &&RelPath| {
        patterns.iter().any(|pattern| pattern.contains("**") || depth(folder.as_str()) < depth(pattern))
    };
    listing.map_or(&[][..], Listing::folders).iter().filter(counts)
}

/// Parts the file into its sections, if it is whole.
fn sections(bytes: &Arc<Vec<u8>>) -> Option<[Section; SECTIONS]> {
    let rest = bytes.strip_prefix(MARK)?;
    let (digest, content) = rest.split_at_checked(64)?;
    if Digest::of(content).to_string().as_bytes() != digest {
        return None;
    }
    let lengths = content.get(..8 * SECTIONS)?;
    let mut start = bytes.len() - content.len() + 8 * SECTIONS;
    let mut parts = Vec::with_capacity(SECTIONS);
    for length in lengths.as_chunks::<8>().0 {
        let end = start.checked_add(usize::try_from(u64::from_le_bytes(*length)).ok()?)?;
        parts.push(Section { bytes: Arc::clone(bytes), start, end });
        start = end;
    }
    (start == bytes.len()).then(|| parts.try_into().ok()).flatten()
}

fn write(file: &Path, sections: [&[u8]; SECTIONS]) -> std::io::Result<()> {
    let mut content = Vec::with_capacity(sections.iter().map(|section| section.len() + 8).sum());
    for section in sections {
        content.extend_from_slice(&(section.len() as u64).to_le_bytes());
    }
    sections.iter().for_each(|section| content.extend_from_slice(section));
    write_aside(file, &[MARK, Digest::of(&content).to_string().as_bytes(), &content])
}

/// Not synced: after a power cut a torn file is told by its digest, and made anew.
fn write_aside(file: &Path, parts: &[&[u8]]) -> std::io::Result<()> {
    let mut aside = tempfile::Builder::new().prefix(".new-").tempfile_in(file.parent().unwrap_or(Path::new(".")))?;
    for part in parts {
        aside.write_all(part)?;
    }
    aside.persist(file)?;
    Ok(())
}

/// Reads the search index of a content, if it was kept and is whole.
pub(super) fn recall_index(file: &Path, content: Digest) -> Option<SearchIndex> {
    let bytes = read_regular(file).ok()?;
    let rest = bytes.strip_prefix(content.to_string().as_bytes())?;
    let (digest, index) = rest.split_at_checked(64)?;
    (Digest::of(index).to_string().as_bytes() == digest).then(|| postcard::from_bytes(index).ok()).flatten()
}

/// Keeps a search index. Where that cannot be, it is made again.
pub(super) fn keep_index(file: &Path, content: Digest, index: &SearchIndex) {
    let Ok(index) = postcard::to_stdvec(index) else { return };
    let mut bytes = format!("{content}{}", Digest::of(&index)).into_bytes();
    bytes.extend(index);
    let _ = write_aside(file, &[&bytes]);
}

fn arena<T>(items: Vec<T>) -> Arena<T> {
    let mut arena = Arena::default();
    items.into_iter().for_each(|item| {
        arena.add(item);
    });
    arena
}
