//! In what several watched builds of one tree differ.

use std::collections::{BTreeMap, BTreeSet};

use super::align::{Run, align};
use super::kept::KeptDelta;
use super::made::Generated;
use super::model::{DrawnPart, DrawnSource};
use super::shared::Own;
use super::text::Writer;

/// Which of the builds have something, by their places in the list of builds.
pub(super) type Who = BTreeSet<usize>;

/// A key of a part whose lists can hold conditions.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Key {
    Defines,
    Flags,
    Include,
    Uses,
    LinkFlags,
    Libraries,
    Needs,
}

impl Key {
    pub fn word(self) -> &'static str {
        match self {
            Key::Defines => "defines",
            Key::Flags => "flags",
            Key::Include => "include",
            Key::Uses => "uses",
            Key::LinkFlags => "link-flags",
            Key::Libraries => "libraries",
            Key::Needs => "needs",
        }
    }
}

/// A word of a list that not all builds have there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Moved {
    pub key: Key,
    /// The word, with those that belong to it.
    pub words: Vec<String>,
    pub who: Who,
    /// The parts in whose lists it is so.
    pub parts: BTreeSet<String>,
}

/// In which sources a part differs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct SourcesDelta {
    /// Those that all builds have which have the part.
    pub common: BTreeSet<String>,
    /// The others, by the builds that have them.
    pub some: BTreeMap<Who, Vec<String>>,
}

/// A word of a command, and the builds whose command has it; all of them where there is no list.
pub(super) type CommandWord = (String, Option<Who>);

/// In what some builds differ.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Delta {
    /// Macros of compiles that are defined or not, with the builds that define them and the parts whose sources all have them there.
    pub macros: BTreeMap<(String, Who), BTreeSet<String>>,
    /// Words of lists, in their order.
    pub moved: Vec<Moved>,
    pub sources: BTreeMap<String, SourcesDelta>,
    /// Commands with other words.
    pub commands: BTreeMap<String, Vec<CommandWord>>,
    /// Parts and needs that some builds have.
    pub parts: BTreeMap<String, Who>,
    pub needs: BTreeMap<String, Who>,
    /// Texts that are kept.
    pub kept: Vec<KeptDelta>,
    /// What cannot be written as one option of what is drawn.
    pub unclear: Vec<String>,
}

/// What every build has that counts, by name, with the builds that do.
fn by_name<T>(lists: impl Iterator<Item = Vec<(String, T)>>) -> BTreeMap<String, Vec<(usize, T)>> {
    let mut all: BTreeMap<String, Vec<(usize, T)>> = BTreeMap::new();
    for (build, list) in lists.enumerate() {
        for (name, one) in list {
            all.entry(name).or_default().push((build, one));
        }
    }
    all
}

/// Words of which each stands by itself.
fn singles(words: Vec<String>) -> Vec<Vec<String>> {
    words.into_iter().map(|word| vec![word]).collect()
}

/// The words that not all of some lists have, in their order, with the builds that do.
fn some_have(lists: &[(usize, Vec<Vec<String>>)]) -> Vec<(Vec<String>, Who)> {
    let mut found: Vec<(Vec<String>, Who)> = Vec::new();
    for words in lists.iter().flat_map(|(_, list)| list) {
        if found.iter().any(|(known, _)| known == words) {
            continue;
        }
        let who = lists.iter().filter(|(_, list)| list.contains(words)).map(|(build, _)| *build).collect();
        found.push((words.clone(), who));
    }
    found.retain(|(_, who)| who.len() < lists.len());
    found
}

impl Delta {
    pub fn of(sides: &[Writer<'_>]) -> Delta {
        let mut delta = Delta::default();
        let parts = sides.iter().map(|side| side.model().parts.iter().map(|part| (part.name.clone(), part)).collect());
        let parts: BTreeMap<String, Vec<(usize, &DrawnPart)>> = by_name(parts);
        for (name, having) in &parts {
            if having.len() < sides.len() {
                delta.parts.insert(name.clone(), having.iter().map(|(build, _)| *build).collect());
            }
            delta.part(sides, having);
        }
        // Where a macro comes and goes, taking it away from who does not have it says nothing more.
        let names: BTreeSet<&str> = delta.macros.keys().filter_map(|(text, _)| text.split('=').next()).collect();
        delta.moved.retain(|moved| !moved.words[0].strip_prefix("-U").is_some_and(|name| names.contains(name)));
        // What only some builds have was compiled with their macros as well.
        for (name, who) in &delta.parts {
            for ((text, defining), users) in &mut delta.macros {
                let has = |build: &usize| {
                    let side = &sides[*build];
                    let parts = side.model().parts.iter().filter(|part| part.name == *name);
                    let mut sources = parts.flat_map(|part| &part.sources).peekable();
                    sources.peek().is_some() && sources.all(|source| side.of_source(source).defines.contains(text))
                };
                if who.is_subset(defining) && who.iter().all(has) {
                    users.insert(name.clone());
                }
            }
        }
        delta.generated(sides);
        let needs = |side: &Writer<'_>| side.model().needs.iter().map(|need| (need.name.clone(), ())).collect();
        for (name, having) in by_name(sides.iter().map(needs)) {
            if having.len() < sides.len() {
                delta.needs.insert(name, having.into_iter().map(|(build, ())| build).collect());
            }
        }
        delta
    }

    fn part(&mut self, sides: &[Writer<'_>], having: &[(usize, &DrawnPart)]) {
        let name = having[0].1.name.as_str();
        let mut at: BTreeMap<&str, Who> = BTreeMap::new();
        for (build, part) in having {
            for source in &part.sources {
                at.entry(&source.path).or_default().insert(*build);
            }
        }
        let mut sources = SourcesDelta::default();
        for (path, who) in &at {
            if who.len() == having.len() {
                sources.common.insert((*path).to_string());
            } else {
                sources.some.entry(who.clone()).or_default().push((*path).to_string());
            }
        }
        let common: Vec<&str> = at.iter().filter(|(_, who)| who.len() == having.len()).map(|(path, _)| *path).collect();
        if !sources.some.is_empty() {
            self.sources.insert(name.to_string(), sources);
        }
        type Words = fn(&Writer<'_>, &DrawnPart) -> Vec<String>;
        let of_parts: [(Key, Words); 4] = [
            (Key::Uses, |_, part| part.uses.clone()),
            (Key::LinkFlags, |side, part| side.link_flags(part)),
            (Key::Libraries, |_, part| part.libraries.clone()),
            (Key::Needs, |_, part| part.needs.clone()),
        ];
        for (key, words) in of_parts {
            let list = |(build, part): &(usize, &DrawnPart)| (*build, singles(words(&sides[*build], part)));
            let lists: Vec<_> = having.iter().map(list).collect();
            some_have(&lists).into_iter().for_each(|(words, who)| self.moved(key, words, who, name));
        }
        type OfSource = fn(&Own) -> Vec<Vec<String>>;
        let of_sources: [(Key, OfSource); 3] = [
            (Key::Defines, |own| singles(own.defines.clone())),
            (Key::Flags, |own| own.flags.clone()),
            (Key::Include, |own| singles(own.include.clone())),
        ];
        let source = |part: &'_ DrawnPart, path: &str| -> Option<DrawnSource> {
            part.sources.iter().find(|source| source.path == path).cloned()
        };
        for (key, words) in of_sources {
            let lists = |path: &&str| {
                let list = |(build, part): &(usize, &DrawnPart)| {
                    let own = source(part, path).map(|source| sides[*build].of_source(&source)).unwrap_or_default();
                    (*build, words(&own))
                };
                some_have(&having.iter().map(list).collect::<Vec<_>>())
            };
            let mut all = common.iter().map(lists);
            let Some(first) = all.next() else { continue };
            if !all.all(|other| other == first) {
                self.unclear.push(format!("the sources of {name} do not all differ alike in their {}", key.word()));
                continue;
            }
            for (words, who) in &first {
                let text = &words[0];
                let named = |other: &String| other.split('=').next() == text.split('=').next();
                // A value in the place of another one is no macro that comes or goes.
                let other_value = first.iter().any(|(other, _)| named(&other[0]) && other[0] != *text);
                if key == Key::Defines && !other_value && (!text.contains('=') || text.ends_with("=1")) {
                    let parts = self.macros.entry((text.clone(), who.clone())).or_default();
                    parts.insert(name.to_string());
                } else {
                    self.moved(key, words.clone(), who.clone(), name);
                }
            }
        }
    }

    fn moved(&mut self, key: Key, words: Vec<String>, who: Who, part: &str) {
        match self.moved.iter_mut().find(|moved| moved.key == key && moved.words == words && moved.who == who) {
            Some(moved) => {
                moved.parts.insert(part.to_string());
            }
            None => self.moved.push(Moved { key, words, who, parts: [part.to_string()].into() }),
        }
    }

    fn generated(&mut self, sides: &[Writer<'_>]) {
        let made = sides.iter().map(|side| &side.model().made.generated);
        let made = made.map(|all| all.iter().map(|part| (part.name.clone(), part)).collect());
        let made: BTreeMap<String, Vec<(usize, &Generated)>> = by_name(made);
        for (name, having) in made {
            if having.len() < sides.len() {
                self.parts.insert(name.clone(), having.iter().map(|(build, _)| *build).collect());
            }
            let first = having[0].1;
            if having.iter().all(|(_, part)| part.kept == first.kept && part.stages == first.stages) {
                continue;
            }
            let texts: Option<Vec<(usize, &str)>> =
                having.iter().map(|(build, part)| Some((*build, part.kept.as_deref()?))).collect();
            if let Some(texts) = texts {
                let file = first.outputs.first().map_or("", |(name, _)| name.as_str());
                match KeptDelta::of(file, &texts) {
                    Some(delta) => self.kept.push(delta),
                    None => {
                        self.unclear.push(format!("the text of {file} is kept, and is no header: make it a template"))
                    }
                }
            } else if having.iter().all(|(_, part)| part.stages.len() == 1) {
                let written = |(build, part): &(usize, &Generated)| (*build, sides[*build].stages(part).concat());
                self.commands.insert(name, command(&having.iter().map(written).collect::<Vec<_>>()));
            } else {
                self.unclear.push(format!("the commands of {name} are other ones"));
            }
        }
    }

    /// Whether there is no difference at all.
    pub fn is_empty(&self) -> bool {
        *self == Delta::default()
    }
}

fn command(written: &[(usize, Vec<String>)]) -> Vec<CommandWord> {
    let lists: Vec<Vec<&str>> = written.iter().map(|(_, words)| words.iter().map(String::as_str).collect()).collect();
    let mut words: Vec<CommandWord> = Vec::new();
    for run in align(&lists) {
        match run {
            Run::Same(same) => words.extend(same.into_iter().map(|word| (word.to_string(), None))),
            Run::Differs(each) => {
                for ((build, _), own) in written.iter().zip(each) {
                    words.extend(own.into_iter().map(|word| (word.to_string(), Some(Who::from([*build])))));
                }
            }
        }
    }
    words
}
