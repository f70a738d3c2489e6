//! From texts with `${…}` to words of commands.

use super::lower::{PlanInput, source_path};
use crate::base::RelPath;
use crate::board::{
    Folder, Interp, Kind, Machine, ModulePlace, ModuleRole, PartDef, PartId, Piece, SourceWord, Value, When,
};
use crate::step::{Fragment, Location, Word};

/// What a text is filled in with, beyond what is the same for all.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Fill<'f> {
    /// What the step reads.
    pub reads: &'f [Location],
    /// How many files the step writes.
    pub writes: usize,
    /// The source that is compiled.
    pub source: Option<&'f Location>,
    /// The part whose text it is.
    pub part: Option<&'f PartDef>,
}

impl Fill<'_> {
    fn about_source(&self, word: SourceWord) -> String {
        let path = self.source.map(source_path);
        let of_path = |about: fn(&RelPath) -> String| path.map_or(String::new(), about);
        match word {
            SourceWord::Stem => of_path(stem_of),
            SourceWord::Module => match self.part.and_then(|part| Some((part, part.kind.module()?))) {
                Some((_, ModuleRole { place: ModulePlace::Listed { name, .. }, .. })) => name.clone(),
                Some((part, _)) => part.name.clone(),
                None => of_path(stem_of),
            },
            SourceWord::Name => of_path(|path| path.name().to_string()),
            SourceWord::Path => of_path(RelPath::to_string),
            SourceWord::Part => self.part.map_or(String::new(), |part| part.name.clone()),
        }
    }
}

fn stem_of(path: &RelPath) -> String {
    let name = path.name();
    name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_string()
}

impl PlanInput<'_> {
    /// Returns the parts whose ways of compiling a part has: those whose ways it shares, the outermost first, and itself.
    pub(super) fn ways_of<'p>(&self, part: &'p PartDef) -> Vec<&'p PartDef>
    where
        Self: 'p,
    {
        let mut ways = vec![part];
        let mut at = part.base;
        while let Some(base) = at {
            ways.push(&self.board.parts[base]);
            at = self.board.parts[base].base;
        }
        ways.reverse();
        ways
    }

    /// Returns the items whose condition holds.
    pub(super) fn held<'a, T>(&self, list: &'a [When<T>]) -> Vec<&'a T> {
        list.iter().filter(|item| self.holds(item.when.as_ref())).map(|item| &item.item).collect()
    }

    /// Fills in one text. A text that is nothing but a list of words, or the step's files, becomes several words.
    pub(super) fn words(&self, interp: &Interp, fill: Fill<'_>) -> Vec<Word> {
        match interp.pieces.as_slice() {
            [Piece::Reads] => return fill.reads.iter().cloned().map(Word::place).collect(),
            [Piece::Writes] => return (0..fill.writes).map(Word::result).collect(),
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
                Piece::Beside(path) => {
                    fragments.push(Fragment::At(self.beside(fill.part, path)));
                }
                Piece::Folder(folder) => fragments.push(Fragment::At(self.folder(*folder))),
                Piece::TreeName => fragments.push(Fragment::Text(self.board.tree.name.clone())),
                Piece::TreeVersion => fragments.push(Fragment::Text(self.board.tree.version.clone())),
                Piece::Reads => joined(&mut fragments, fill.reads.iter().cloned().map(Fragment::At)),
                Piece::Writes => joined(&mut fragments, (0..fill.writes).map(Fragment::Result)),
                Piece::Source(word) => fragments.push(Fragment::Text(fill.about_source(*word))),
                Piece::Value(name) => {
                    let value = fill.part.and_then(|part| self.value_of(part, name));
                    fragments.extend(value.into_iter().flat_map(|value| {
                        // Values of values name nothing of a step.
                        self.words(value, Fill { part: None, ..fill }).into_iter().flat_map(|word| word.fragments)
                    }));
                }
            }
        }
        vec![Word { fragments }]
    }

    /// Returns the text that a part's value stands for, if any of its cases holds.
    pub(super) fn value_of<'p>(&self, part: &'p PartDef, name: &str) -> Option<&'p Interp> {
        let value = part.values.iter().find(|value| value.name == name)?;
        value.cases.iter().find(|(when, _)| self.holds(when.as_ref())).map(|(_, text)| text)
    }

    /// Fills in texts of a part that name no files of the step.
    pub(super) fn plain_words<'i>(&self, part: &PartDef, list: impl IntoIterator<Item = &'i Interp>) -> Vec<Word> {
        let fill = Fill { part: Some(part), ..Fill::default() };
        list.into_iter().flat_map(|interp| self.words(interp, fill)).collect()
    }

    /// Fills in texts of the toolchain.
    pub(super) fn chain_words<'i>(&self, list: impl IntoIterator<Item = &'i Interp>) -> Vec<Word> {
        list.into_iter().flat_map(|interp| self.words(interp, Fill::default())).collect()
    }

    /// What tells the compiler which folder stands for `/` of its target.
    pub(super) fn sysroot_words(&self, machine: Machine) -> Vec<Word> {
        let folder =
            self.board.toolchains.of(machine).sysroot.as_ref().map(|interp| self.text(interp)).unwrap_or_default();
        if folder.is_empty() { Vec::new() } else { vec![Word::text(format!("--sysroot={folder}"))] }
    }

    /// Fills in a text that is no word of a command.
    pub fn text(&self, interp: &Interp) -> String {
        self.text_with(interp, Fill::default())
    }

    /// Fills in a text that is no word of a command, of a part or source.
    pub(super) fn text_with(&self, interp: &Interp, fill: Fill<'_>) -> String {
        self.words(interp, fill).iter().map(|word| word.neutral(&[])).collect::<Vec<_>>().join(" ")
    }

    fn folder(&self, folder: Folder) -> Location {
        match folder {
            Folder::Tree => Location::Tree(RelPath::root()),
            Folder::Board => Location::of(&self.board.tree.board_root, self.folders),
            Folder::Made => Location::Made(RelPath::root()),
        }
    }

    /// Where a file beside the definitions is taken from: where it lies, if that is in the tree, else from a copy, whose place is the same on
    /// every machine.
    pub(super) fn beside(&self, part: Option<&PartDef>, path: &RelPath) -> Location {
        match Location::of(&self.board.tree.definition(path), self.folders) {
            at @ Location::Tree(_) => at,
            _ => {
                let part = part.map_or("", |part| part.name.as_str());
                let place = RelPath::root().child("beside").child(part);
                Location::Made(place.join(path.as_str()).unwrap_or(place))
            }
        }
    }

    /// Returns the file that stands for a part.
    pub fn main_output(&self, part: PartId) -> Location {
        main_output(&self.board.parts[part])
    }
}

/// Returns the file that stands for a part.
pub(super) fn main_output(part: &PartDef) -> Location {
    if let Some(generator) = part.kind.generator() {
        return Location::Made(generator.makes().first().map_or_else(RelPath::root, |file| (*file).clone()));
    }
    Location::Output(match part.kind.interface() {
        Some(interface) => part.output.parent().child(&format!("{}.{interface}", part.output.name())),
        None => part.output.clone(),
    })
}

fn joined(fragments: &mut Vec<Fragment>, more: impl Iterator<Item = Fragment>) {
    for (index, fragment) in more.enumerate() {
        if index > 0 {
            fragments.push(Fragment::Text(" ".into()));
        }
        fragments.push(fragment);
    }
}
