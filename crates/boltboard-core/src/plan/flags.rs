//! The words that compiles and links of a part are told, but for the files and folders.

use super::fill::Fill;
use super::lower::PlanInput;
use crate::base::RelPath;
use crate::board::PartDef;
use crate::step::{Fragment, Location, Word};
use crate::survey::{Fact, Language};

/// What the word begins with that keeps places out of results.
const MAP: &str = "-ffile-prefix-map=";

impl PlanInput<'_> {
    /// The flags of compiles of a language; `position` says whether the code must be able to lie anywhere in memory.
    pub(super) fn flag_words(&self, part: &PartDef, position: bool, language: Language, fill: Fill<'_>) -> Vec<Word> {
        let chain = self.board.toolchains.of(part.machine);
        let mut lists = vec![&chain.flags];
        match language {
            Language::C => lists.push(&chain.c_flags),
            Language::Cxx => lists.push(&chain.cxx_flags),
            Language::Fortran | Language::FortranWithCpp => lists.push(&chain.fortran_flags),
            Language::Asm | Language::AsmWithCpp => lists.push(&chain.asm_flags),
            // It takes none of the flags of compilers.
            Language::OwnAsm => return self.chain_words(self.held(&chain.assembler_flags)),
        }
        let ways = self.ways_of(part);
        lists.extend(ways.iter().map(|part| &part.flags));
        lists.extend(self.module_flags(part));
        let mut words = self.sysroot_words(part.machine);
        // The part's own flags come later, and win.
        words.extend(position.then(|| Word::text("-fPIC")));
        // The folders of modules are searched before there is anything in them.
        words.extend(language.is_fortran().then(|| Word::text("-Wno-missing-include-dirs")));
        words.extend(
            lists.into_iter().flat_map(|list| self.held(list).into_iter().flat_map(|text| self.words(text, fill))),
        );
        for need in ways.iter().flat_map(|part| self.held(&part.needs)) {
            for found in self.facts.meeting(*need).into_iter().filter_map(Fact::found) {
                words.extend(found.compile_flags.iter().map(Word::text));
            }
        }
        // The later map is tried first, and the build may lie within the tree.
        let map = |at: Location, name: &str| Word {
            fragments: vec![Fragment::Text(MAP.into()), Fragment::At(at), Fragment::Text(format!("={name}"))],
        };
        words.push(map(Location::Tree(RelPath::root()), "."));
        words.push(map(Location::Made(RelPath::root()), "made"));
        words
    }

    /// The flags of compiles of a language, as they are the same on every machine.
    pub(super) fn compile_flags(&self, part: &PartDef, language: Language) -> Vec<String> {
        let words = self.flag_words(part, false, language, Fill { part: Some(part), ..Fill::default() });
        words.iter().map(|word| word.neutral(&[])).filter(|word| !word.starts_with(MAP)).collect()
    }

    /// The flags of links, likewise, with the libraries that the definition names.
    pub(super) fn link_flags(&self, part: &PartDef) -> Vec<String> {
        let chain = self.board.toolchains.of(part.machine);
        let mut words = self.chain_words(self.held(&chain.link_flags));
        let modules = self.modules_of(part).into_iter();
        words.extend(modules.flat_map(|modules| self.plain_words(part, self.held(&modules.link_flags))));
        words.extend(self.plain_words(part, self.held(&part.link_flags)));
        let libraries = self.plain_words(part, self.held(&part.libraries));
        words.extend(libraries.iter().map(|name| Word::text(format!("-l{}", name.neutral(&[])))));
        words.iter().map(|word| word.neutral(&[])).collect()
    }
}
