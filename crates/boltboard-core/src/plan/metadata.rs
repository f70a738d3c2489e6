//! The metadata file of libraries, filled in from resolved values and facts.
//!
//! Its form is the one that our own survey reads: variables, then fields; what is private is for static use only.

use std::collections::BTreeSet;

use super::fault::PlanFault;
use super::lower::PlanInput;
use crate::board::{Ending, MetadataDef, NeedId, PartDef, PartId};
use crate::survey::Fact;

/// What a list of libraries asks those to link who build on it.
#[derive(Default)]
struct Links {
    /// Names of other metadata files.
    modules: Vec<String>,
    /// Words of links.
    links: Vec<String>,
    /// Words of compiles.
    compiles: Vec<String>,
}

impl Links {
    fn need(&mut self, input: &PlanInput<'_>, need: NeedId) {
        for found in input.facts.meeting(need).into_iter().filter_map(Fact::found) {
            let module = found.place.as_ref().filter(|place| place.extension().is_some_and(|ending| ending == "pc"));
            match module.and_then(|place| place.file_stem()) {
                Some(module) => push(&mut self.modules, &module.to_string_lossy()),
                None => {
                    found.link_flags.iter().for_each(|flag| push(&mut self.links, flag));
                    found.compile_flags.iter().for_each(|flag| push(&mut self.compiles, flag));
                }
            }
        }
    }
}

fn push(list: &mut Vec<String>, text: &str) {
    if !list.iter().any(|known| known == text) {
        list.push(text.to_string());
    }
}

impl PlanInput<'_> {
    /// Words of the compiles of those who use what a metadata file tells of, beside the folders that they search.
    pub fn metadata_compiles(&self, def: &MetadataDef) -> Vec<String> {
        let mut open = Links::default();
        let mut words = self.filled(&def.flags);
        for need in self.held(&def.public_needs) {
            // Another metadata file stands for these where there is one.
            let found = self.facts.meeting(*need).into_iter().filter_map(Fact::found);
            found.for_each(|found| found.compile_flags.iter().for_each(|flag| push(&mut open.compiles, flag)));
        }
        words.extend(open.compiles);
        words
    }

    /// The text of a metadata file.
    ///
    /// # Errors
    /// A static library uses one that is not installed.
    pub(super) fn metadata(&self, def: &MetadataDef) -> Result<String, PlanFault> {
        let tree = &self.board.tree;
        let prefix = self.board.prefix().map(|id| self.resolution.value(id).to_string());
        let below = |path: &str| match prefix.as_deref().and_then(|prefix| path.strip_prefix(prefix)) {
            Some(rest) if rest.is_empty() || rest.starts_with('/') => format!("${{prefix}}{rest}"),
            _ => path.to_string(),
        };
        let public: BTreeSet<NeedId> = self.held(&def.public_needs).into_iter().copied().collect();
        let (mut open, mut private) = (Links::default(), Links::default());
        public.iter().for_each(|need| open.need(self, *need));
        let (mut folders, mut names) = (Vec::new(), Vec::new());
        for library in &def.libraries {
            let part = &self.board.parts[*library];
            let Some(rule) = &part.install else { continue };
            push(&mut folders, &below(&self.text(&rule.to)));
            push(&mut names, &format!("-l{}", link_name(part)));
            self.ask(def, *library, &public, &mut private)?;
        }
        let mut text = format!("# Made by {} {} from the values that it was built with.\n", tree.name, tree.version);
        if let Some(prefix) = &prefix {
            text += &format!("prefix={prefix}\n");
        }
        text += &format!("\nName: {}\nDescription: {}\n", def.name, one_line(&def.summary));
        if let Some(homepage) = &tree.homepage {
            text += &format!("URL: {homepage}\n");
        }
        text += &format!("Version: {}\n", tree.version);
        let mut field = |name: &str, words: &[String], between: &str| {
            if !words.is_empty() {
                text += &format!("{name}: {}\n", words.join(between));
            }
        };
        private.modules.retain(|module| !open.modules.contains(module));
        private.links.retain(|word| !open.links.contains(word));
        field("Requires", &open.modules, ", ");
        field("Requires.private", &private.modules, ", ");
        let include = self.filled(&def.include).into_iter().map(|folder| word(&format!("-I{}", below(&folder))));
        let flags = self.filled(&def.flags);
        let compiles: Vec<String> = include
            .chain(flags.iter().map(|flag| word(flag)))
            .chain(open.compiles.iter().map(|flag| word(flag)))
            .collect();
        field("Cflags", &compiles, " ");
        let links = folders.iter().map(|folder| word(&format!("-L{folder}")));
        let links: Vec<String> = links.chain(names).chain(open.links.iter().map(|flag| word(flag))).collect();
        field("Libs", &links, " ");
        let links: Vec<String> = private.links.iter().map(|flag| word(flag)).collect();
        field("Libs.private", &links, " ");
        Ok(text)
    }

    /// What is linked of a library only where it is linked statically: its own needs, and those of all that it takes in.
    fn ask(
        &self,
        def: &MetadataDef,
        library: PartId,
        public: &BTreeSet<NeedId>,
        private: &mut Links,
    ) -> Result<(), PlanFault> {
        let is_archive = |part: &PartDef| part.kind.ending() == Some(Ending::Archive);
        let outer = is_archive(&self.board.parts[library]);
        let (mut open, mut met) = (vec![library], BTreeSet::from([library]));
        while let Some(id) = open.pop() {
            let part = &self.board.parts[id];
            for need in self.held(&part.needs).into_iter().filter(|need| !public.contains(need)) {
                private.need(self, *need);
            }
            for library in self.plain_words(part, self.held(&part.libraries)) {
                push(&mut private.links, &format!("-l{}", library.neutral(&[])));
            }
            for used in self.uses(part) {
                let other = &self.board.parts[used];
                if !met.insert(used) || def.libraries.contains(&used) || !self.is_made(other) {
                    continue;
                }
                match other.kind.ending() {
                    Some(Ending::Loose | Ending::Partial) => open.push(used),
                    Some(Ending::Archive) if !outer => open.push(used),
                    Some(Ending::Archive | Ending::Shared) => match &other.install {
                        Some(rule) => {
                            push(&mut private.links, &format!("-L{}", self.text(&rule.to)));
                            push(&mut private.links, &format!("-l{}", link_name(other)));
                            open.extend(is_archive(other).then_some(used));
                        }
                        None if outer => {
                            return Err(PlanFault::NotInstalled {
                                metadata: def.name.clone(),
                                library: part.name.clone(),
                                used: other.name.clone(),
                            });
                        }
                        None => {}
                    },
                    Some(Ending::Program) | None => {}
                }
            }
        }
        Ok(())
    }
}

/// What follows `-l`.
fn link_name(part: &PartDef) -> String {
    let name = part.install.as_ref().and_then(|rule| rule.name.as_deref()).unwrap_or(part.output.name());
    let stem = name.split(".so").next().unwrap_or(name);
    let stem = stem.strip_suffix(".a").unwrap_or(stem);
    stem.strip_prefix("lib").map_or_else(|| format!(":{name}"), str::to_string)
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// A word as such files write it: a shell reads it, but for variables, which are the file's own.
fn word(text: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "-_./:=,+@%${}".contains(c);
    text.chars().map(|c| if plain(c) { c.to_string() } else { format!("\\{c}") }).collect()
}
