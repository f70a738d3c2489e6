//! The first description of a tree that is begun, such that it builds at once.

use std::collections::BTreeMap;

use super::paths::stem_and_ending;
use super::toml::quoted;
use crate::base::{RelPath, is_source};
use crate::definitions::Listing;

/// What is made first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FirstKind {
    /// A program.
    Program,
    /// A library that is linked in.
    StaticLibrary,
    /// A library that is shared.
    SharedLibrary,
}

/// The language of the first source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FirstLanguage {
    /// C
    C,
    /// C++
    Cxx,
}

/// What a person answers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct First {
    /// The tree's name, which its first part has too.
    pub name: String,
    /// Its version.
    pub version: String,
    /// What is made.
    pub kind: FirstKind,
    /// The language of what is written, where there are no sources yet.
    pub language: FirstLanguage,
    /// One line about it.
    pub summary: String,
}

impl FirstKind {
    /// All of them, with their words.
    pub const ALL: [(FirstKind, &'static str); 3] = [
        (FirstKind::Program, "program"),
        (FirstKind::StaticLibrary, "static-library"),
        (FirstKind::SharedLibrary, "shared-library"),
    ];

    fn word(self) -> &'static str {
        FirstKind::ALL.into_iter().find(|(kind, _)| *kind == self).map_or("", |(_, word)| word)
    }
}

/// Returns the files of a first description, by their places; `listing` is what there is already, and stays.
pub fn begin(first: &First, listing: &Listing) -> BTreeMap<String, String> {
    let sources: Vec<&RelPath> = listing.files().iter().filter(|file| is_source(file)).collect();
    let mut files = BTreeMap::new();
    let patterns: Vec<String> = if sources.is_empty() {
        let (file, text) = first_source(first);
        files.insert(format!("src/{file}"), text);
        vec![format!("src/*.{}", stem_and_ending(&file).1)]
    } else {
        let pattern = |path: &&RelPath| path.parent().child(&format!("*.{}", path.extension())).to_string();
        let mut patterns: Vec<String> = sources.iter().map(pattern).collect();
        patterns.sort();
        patterns.dedup();
        patterns
    };
    let include = ["include", "src"].into_iter().filter(|folder| {
        listing
            .files()
            .iter()
            .any(|file| file.as_str().starts_with(&format!("{folder}/")) && file.as_str().ends_with(".h"))
    });
    let include: Vec<String> = include.map(quoted).collect();
    let include = if include.is_empty() { String::new() } else { format!("include = [{}]\n", include.join(", ")) };
    let patterns: Vec<String> = patterns.iter().map(|pattern| quoted(pattern)).collect();
    let text = format!(
        "format = 1\n\n[tree]\nname = {}\nversion = {}\nsummary = {}\n\n\
         # What people can decide, and how the code knows: as a macro of this header.\n\
         [header.options]\noutput = {}\n\n\
         [option.optimise]\nkind = \"pick\"\nvalues = [\"none\", \"speed\", \"size\"]\ndefault = \"speed\"\nmacro = []\nsummary = \"What the compiler optimises for\"\n\n\
         [toolchain]\nflags = [\n    \"-Wall\",\n    {{ when = \"optimise = none\", add = [\"-O0\", \"-g\"] }},\n    {{ when = \"optimise = speed\", add = [\"-O2\"] }},\n    {{ when = \"optimise = size\", add = [\"-Os\"] }},\n]\n\n\
         [part.{}]\nkind = {}\nsources = [{}]\n{include}",
        quoted(&first.name),
        quoted(&first.version),
        quoted(&first.summary),
        quoted(&format!("{}_options.h", first.name.replace('-', "_"))),
        first.name,
        quoted(first.kind.word()),
        patterns.join(", "),
    );
    files.insert("boltboard.toml".into(), text);
    files
}

fn first_source(first: &First) -> (String, String) {
    let (ending, head) = match first.language {
        FirstLanguage::C => ("c", "#include <stdio.h>"),
        FirstLanguage::Cxx => ("cpp", "#include <cstdio>"),
    };
    let name = first.name.replace('-', "_");
    match first.kind {
        FirstKind::Program => (
            format!("main.{ending}"),
            format!("{head}\n\nint main(void)\n{{\n    std_puts\n    return 0;\n}}\n").replace(
                "std_puts",
                &format!(
                    "{}(\"{}\");",
                    if first.language == FirstLanguage::C { "puts" } else { "std::puts" },
                    first.name
                ),
            ),
        ),
        FirstKind::StaticLibrary | FirstKind::SharedLibrary => (
            format!("{name}.{ending}"),
            format!("int {name}_answer(void);\n\nint {name}_answer(void)\n{{\n    return 1;\n}}\n"),
        ),
    }
}
