//! What a tree puts into its kit: its definitions, the values that it has, headers, and finished parts.

use std::collections::BTreeSet;

use super::fill::main_output;
use super::lower::{Lower, PlanInput, source_path};
use crate::base::{RelPath, is_header};
use crate::board::{Board, Exports, KIT_FILE, KitDef, Making, OptionId, PartDef, PartId, SourceFile};
use crate::definitions::{KitLanguage, KitPart, KitText, built_at, made_at};
use crate::resolve::Effect;
use crate::step::{Copy, Kind, Location, Write};
use crate::survey::{FactState, Language};

/// A file of a kit.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct KitFile {
    /// Where it lies in the kit.
    pub to: RelPath,
    /// The file that it is a copy of; none is the kit's own.
    pub from: Option<Location>,
}

impl PlanInput<'_> {
    /// The parts that are in a kit: those that it names, and what these use of libraries and generated files.
    fn kit_parts(&self, kit: &PartDef) -> Vec<PartId> {
        let made = |id: &PartId| self.is_made(&self.board.parts[*id]);
        let mut open: Vec<PartId> = self.uses(kit).into_iter().filter(made).collect();
        let mut all = BTreeSet::new();
        while let Some(id) = open.pop() {
            let part = &self.board.parts[id];
            if !all.insert(id) || !(part.kind.is_taken_in() || part.kind.is_shared_library()) {
                continue;
            }
            let uses = self.uses(part).into_iter().filter(made);
            open.extend(uses.filter(|used| {
                let kind = &self.board.parts[*used].kind;
                kind.is_taken_in() || kind.is_shared_library() || kind.making() == Making::Generated
            }));
        }
        all.into_iter().collect()
    }

    /// The headers that a generated part makes.
    fn made_headers(&self, part: &PartDef) -> Vec<RelPath> {
        let files = self.generated_files(part).into_iter().map(|file| source_path(&file).clone());
        files.filter(is_header).collect()
    }

    /// All files of a kit, by their places; it has these parts.
    fn kit_files(&self, kit: &KitDef, parts: &[PartId]) -> Vec<KitFile> {
        let board = self.board;
        let mut files = BTreeSet::from([KitFile { to: RelPath::root().child(KIT_FILE), from: None }]);
        let mut copy = |to: RelPath, from: Location| files.insert(KitFile { to, from: Some(from) });
        for name in board.files.names() {
            let Ok(path) = RelPath::of_file(name) else { continue };
            if Board::is_of_tree(&path) {
                copy(path, Location::of(&board.tree.definition_file(name), self.folders));
            }
        }
        for header in kit.headers.iter().flat_map(|glob| self.listing.matching(glob)) {
            copy(header.clone(), Location::Tree(header.clone()));
        }
        for used in parts.iter().map(|id| &board.parts[*id]) {
            if used.kind.making() == Making::Generated {
                self.made_headers(used).into_iter().for_each(|made| {
                    copy(made_at(&made), Location::Made(made));
                });
            } else if used.kind.is_linked() {
                copy(built_at(&used.output), main_output(used));
            }
            match &used.exports {
                Some(Exports::Named(SourceFile::Tree(path))) => {
                    copy(path.clone(), Location::Tree(path.clone()));
                }
                Some(Exports::Named(SourceFile::Beside(path))) => {
                    copy(path.clone(), Location::of(&board.tree.definition(path), self.folders));
                }
                Some(
                    Exports::Named(SourceFile::Part(_)) | Exports::Dynamic | Exports::Marked(_) | Exports::Unchecked,
                )
                | None => {}
            }
        }
        files.into_iter().collect()
    }

    /// Where all files of a kit are put together.
    pub(super) fn kit_places(&self, part: &PartDef, kit: &KitDef) -> Vec<Location> {
        let files = self.kit_files(kit, &self.kit_parts(part));
        files.iter().map(|file| PlanInput::kit_place(kit, file)).collect()
    }

    /// Where a file of a kit is put together.
    fn kit_place(kit: &KitDef, file: &KitFile) -> Location {
        Location::Made(kit.folder().child(file.to.as_str()))
    }
}

impl Lower<'_> {
    /// Plans the kit of the tree; returns its files, its own first.
    pub(super) fn kit(&mut self, id: PartId, part: &PartDef, kit: &KitDef) -> Vec<Location> {
        let mut outputs = Vec::new();
        let parts = self.input.kit_parts(part);
        for file in self.input.kit_files(kit, &parts) {
            let place = PlanInput::kit_place(kit, &file);
            let (kind, reads) = match file.from {
                Some(from) => (Kind::Copy(Copy::default()), vec![from]),
                None => (Kind::Write(Write { content: self.kit_text(kit, &parts) }), vec![]),
            };
            self.add(Some(id), part.place, kind, reads, vec![place.clone()], None);
            outputs.push(place);
        }
        outputs
    }

    /// What the kit says of how the tree was built.
    fn kit_text(&self, kit: &KitDef, parts: &[PartId]) -> String {
        let PlanInput { board, resolution, facts, .. } = self.input;
        let mut text: KitText<String> = KitText::of(&board.tree);
        let name = |id: &OptionId| board.options[*id].name.clone();
        text.interface = kit.interface.iter().map(name).collect();
        text.open = kit.open.iter().map(name).collect();
        text.follows = kit.follows.iter().map(RelPath::to_string).collect();
        for (id, option) in board.options.iter().filter(|(_, option)| board.is_written_in_tree(option.place)) {
            let resolved = resolution.get(id);
            if resolved.effect == Effect::Applies {
                text.values.insert(option.name.clone(), resolved.value.to_string());
            }
        }
        for (need, definition) in board.needs.iter() {
            let meeting = facts.meeting(need).into_iter();
            let mut copies = meeting.filter_map(|fact| match &fact.state {
                FactState::Bundled(copy) => Some(copy),
                _ => None,
            });
            if copies.any(|copy| parts.contains(copy)) {
                text.needs.insert(definition.name.clone(), "bundled".into());
            }
        }
        for id in parts {
            let part = &board.parts[*id];
            let made = if part.kind.making() == Making::Generated { self.input.made_headers(part) } else { vec![] };
            let languages = self.languages_of(*id);
            let languages = [(Language::Cxx, KitLanguage::Cxx), (Language::Fortran, KitLanguage::Fortran)]
                .into_iter()
                .filter(|(language, _)| languages.contains(language));
            let given = KitPart {
                file: part.kind.is_linked().then(|| built_at(&part.output).to_string()),
                made: made.iter().map(RelPath::to_string).collect(),
                languages: languages.map(|(_, language)| language).collect(),
            };
            text.part.insert(part.name.clone(), given);
        }
        let told =
            toml_edit::ser::to_string_pretty(&text).expect("texts, lists and tables of them can always be written");
        format!(
            "# What {} {} was built as. Add-ons are built against it; it is not for editing.\n{told}",
            text.tree, text.version
        )
    }

    /// Plans a part that a kit has: its file is copied.
    pub(super) fn prebuilt(&mut self, id: PartId, part: &PartDef) -> Vec<Location> {
        let Some(prebuilt) = part.prebuilt() else { return vec![] };
        let objects = self.objects.entry(id).or_default();
        let has = [(prebuilt.has_cxx, Language::Cxx), (prebuilt.has_fortran, Language::Fortran)];
        objects.languages.extend(has.into_iter().filter(|(has, _)| *has).map(|(_, language)| language));
        let Some(file) = &prebuilt.file else { return vec![] };
        let outputs = super::link::linked_files(part);
        let copy = Kind::Copy(Copy { can_run: part.kind.is_code() });
        let reads = vec![Location::Tree(file.clone())];
        let copied = self.add(Some(id), part.place, copy, reads, vec![outputs[0].clone()], None);
        self.further_names(id, part, &outputs, copied);
        outputs
    }
}
