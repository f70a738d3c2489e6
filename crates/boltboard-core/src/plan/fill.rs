//! From texts with `${…}` to words of commands.

use super::lower::PlanInput;
use crate::base::RelPath;
use crate::board::{Folder, Generator, Interp, Kind, PartDef, PartId, PartKind, Piece, Value, When};
use crate::step::{Fragment, Location, Word};

impl PlanInput<'_> {
    /// Returns the items whose condition holds.
    pub(super) fn held<'a, T>(&self, list: &'a [When<T>]) -> Vec<&'a T> {
        let holds = |item: &&When<T>| item.when.as_ref().is_none_or(|w| self.resolution.holds(self.facts, &w.expr));
        list.iter().filter(holds).map(|item| &item.item).collect()
    }

    /// Fills in one text. A text that is nothing but a list of words, or the step's files, becomes several words.
    pub(super) fn words(&self, interp: &Interp, reads: &[Location], writes: &[Location]) -> Vec<Word> {
        match interp.pieces.as_slice() {
            [Piece::Reads] => return reads.iter().cloned().map(Word::place).collect(),
            [Piece::Writes] => return (0..writes.len()).map(Word::result).collect(),
            [Piece::Option(option)] if matches!(self.board.options[*option].kind, Kind::Words(_)) => {
                let Value::Words(words) = self.resolution.value(*option) else { return vec![] };
                return words.iter().map(Word::text).collect();
            }
            // An empty text option gives no empty word.
            [Piece::Option(option)] if self.resolution.value(*option).to_string().is_empty() => return vec![],
            _ => {}
        }
        let mut fragments = Vec::new();
        for piece in &interp.pieces {
            match piece {
                Piece::Text(text) => fragments.push(Fragment::Text(text.clone())),
                Piece::Option(option) => fragments.push(Fragment::Text(self.resolution.value(*option).to_string())),
                Piece::Part(part) => fragments.push(Fragment::At(self.main_output(*part))),
                Piece::Folder(folder) => fragments.push(Fragment::At(self.folder(*folder))),
                Piece::TreeName => fragments.push(Fragment::Text(self.board.tree.name.clone())),
                Piece::TreeVersion => fragments.push(Fragment::Text(self.board.tree.version.clone())),
                Piece::Reads => joined(&mut fragments, reads.iter().cloned().map(Fragment::At)),
                Piece::Writes => joined(&mut fragments, (0..writes.len()).map(Fragment::Result)),
            }
        }
        vec![Word { fragments }]
    }

    /// Fills in texts that name no files of the step.
    pub(super) fn plain_words<'a>(&self, list: impl IntoIterator<Item = &'a Interp>) -> Vec<Word> {
        list.into_iter().flat_map(|interp| self.words(interp, &[], &[])).collect()
    }

    /// What tells the compiler which folder stands for `/` of its target.
    pub(super) fn sysroot_words(&self) -> Vec<Word> {
        let folder = self.board.toolchain.sysroot.as_ref().map(|interp| self.text(interp)).unwrap_or_default();
        if folder.is_empty() { Vec::new() } else { vec![Word::text(format!("--sysroot={folder}"))] }
    }

    /// Fills in a text that is no word of a command.
    pub fn text(&self, interp: &Interp) -> String {
        self.words(interp, &[], &[]).iter().map(|word| word.neutral(&[])).collect::<Vec<_>>().join(" ")
    }

    fn folder(&self, folder: Folder) -> Location {
        match folder {
            Folder::Tree => Location::Tree(RelPath::root()),
            Folder::Board => Location::of(&self.board.tree.board_root, self.folders),
            Folder::Made => Location::Made(RelPath::root()),
        }
    }

    /// Returns the file that stands for a part.
    pub fn main_output(&self, part: PartId) -> Location {
        main_output(&self.board.parts[part])
    }
}

/// Returns the file that stands for a part.
pub(super) fn main_output(part: &PartDef) -> Location {
    match &part.kind {
        PartKind::Generated(Generator::Command { writes, .. }) => {
            Location::Made(writes.first().cloned().unwrap_or_else(RelPath::root))
        }
        PartKind::Generated(Generator::Template { to, .. }) => Location::Made(to.clone()),
        PartKind::Generated(Generator::ModuleTable(table)) => Location::Made(table.to.clone()),
        PartKind::SharedLibrary { interface: Some(interface) } => {
            let versioned = format!("{}.{interface}", part.output.name());
            Location::Output(part.output.parent().child(&versioned))
        }
        PartKind::Program
        | PartKind::StaticLibrary
        | PartKind::SharedLibrary { interface: None }
        | PartKind::Module(_)
        | PartKind::Objects
        | PartKind::Data => Location::Output(part.output.clone()),
    }
}

fn joined(fragments: &mut Vec<Fragment>, more: impl Iterator<Item = Fragment>) {
    for (index, fragment) in more.enumerate() {
        if index > 0 {
            fragments.push(Fragment::Text(" ".into()));
        }
        fragments.push(fragment);
    }
}
