//! In what two watched builds of one tree differ.

use std::collections::{BTreeMap, BTreeSet};

use super::model::{DrawnPart, DrawnSource, Model};

/// What one list has that the other has not.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Lists {
    /// Only with the setting.
    pub on: Vec<String>,
    /// Only without it.
    pub off: Vec<String>,
}

impl Lists {
    fn of(off: &[String], on: &[String]) -> Lists {
        let only = |these: &[String], those: &[String]| {
            these.iter().filter(|word| !those.contains(word)).cloned().collect::<Vec<String>>()
        };
        Lists { on: only(on, off), off: only(off, on) }
    }

    pub fn is_empty(&self) -> bool {
        self.on.is_empty() && self.off.is_empty()
    }
}

/// In what a part differs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct PartDelta {
    /// Lists by their keys: `flags`, `uses`, `libraries` and so on.
    pub lists: BTreeMap<&'static str, Lists>,
    /// Sources, as paths.
    pub sources: Lists,
    /// Sources that both have.
    pub common: BTreeSet<String>,
}

/// In what a kept text differs: it can become a text for both, in which a header of options stands for these lines.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct KeptDelta {
    /// How sources include it.
    pub file: String,
    /// The lines that both have, in parts: what is chosen stands between them.
    pub before: String,
    pub after: String,
    /// Macros that are defined with the setting, and without it.
    pub on: Vec<String>,
    pub off: Vec<String>,
}

impl KeptDelta {
    /// Compares two texts; `None` where other lines than plain definitions differ.
    fn of(file: &str, off: &str, on: &str) -> Option<KeptDelta> {
        let (a, b): (Vec<&str>, Vec<&str>) = (off.lines().collect(), on.lines().collect());
        let begin = a.iter().zip(&b).take_while(|(x, y)| x == y).count();
        let end = a[begin..].iter().rev().zip(b[begin..].iter().rev()).take_while(|(x, y)| x == y).count();
        let (mid_a, mid_b) = (&a[begin..a.len() - end], &b[begin..b.len() - end]);
        // What both have within, in whichever place, stands before.
        let common: Vec<&str> = mid_a.iter().filter(|line| mid_b.contains(line)).copied().collect();
        let only = |these: &[&str], those: &[&str]| -> Option<Vec<String>> {
            let mut names = Vec::new();
            for line in these.iter().filter(|line| !those.contains(line)) {
                names.extend(defined_plainly(line)?);
            }
            Some(names)
        };
        let (only_off, only_on) = (only(mid_a, mid_b)?, only(mid_b, mid_a)?);
        let joined = |lines: &[&str]| lines.iter().map(|line| format!("{line}\n")).collect::<String>();
        Some(KeptDelta {
            file: file.to_string(),
            before: joined(&a[..begin]) + &joined(&common),
            after: joined(&a[a.len() - end..]),
            on: only_on,
            off: only_off,
        })
    }
}

/// The macro that a line defines, as `1` or as nothing; no macro for one that says nothing, and `None` for any other line.
fn defined_plainly(line: &str) -> Option<Option<String>> {
    let line = line.trim();
    let says_nothing = line.is_empty() || line.starts_with("//") || line.starts_with("/*") && line.ends_with("*/");
    if says_nothing || line.starts_with("#undef") {
        return Some(None);
    }
    let mut words = line.strip_prefix('#')?.split_whitespace();
    let (first, name, value) = (words.next()?, words.next()?, words.next());
    let plain = first == "define" && value.is_none_or(|value| value == "1") && words.next().is_none();
    (plain && !name.contains('(')).then(|| Some(name.to_string()))
}

/// In what two builds differ.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Delta {
    /// Macros of compiles, with the parts whose sources all have them.
    pub macros_on: BTreeMap<String, BTreeSet<String>>,
    pub macros_off: BTreeMap<String, BTreeSet<String>>,
    /// Parts that both have.
    pub parts: BTreeMap<String, PartDelta>,
    /// Parts of one build alone.
    pub parts_on: Vec<String>,
    pub parts_off: Vec<String>,
    pub needs_on: Vec<String>,
    pub needs_off: Vec<String>,
    /// Texts that are kept, and differ in definitions of macros alone.
    pub kept: Vec<KeptDelta>,
    /// What cannot be written as one option of what is drawn.
    pub unclear: Vec<String>,
}

impl Delta {
    pub fn of(off: &Model, on: &Model) -> Delta {
        let mut delta = Delta::default();
        let by_name = |model: &Model| -> BTreeMap<String, DrawnPart> {
            model.parts.iter().map(|part| (part.name.clone(), part.clone())).collect()
        };
        let (without, with) = (by_name(off), by_name(on));
        let mut gained: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        let mut lost: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
        for (name, a) in &without {
            let Some(b) = with.get(name) else {
                delta.parts_off.push(name.clone());
                continue;
            };
            let part = delta.part(a, b, &mut gained, &mut lost);
            if !part.sources.is_empty() || !part.lists.is_empty() {
                delta.parts.insert(name.clone(), part);
            }
        }
        delta.parts_on = with.keys().filter(|name| !without.contains_key(*name)).cloned().collect();
        // What only one build has was compiled with its macros as well.
        for (names, parts, of) in [(&mut gained, &delta.parts_on, &with), (&mut lost, &delta.parts_off, &without)] {
            for part in parts {
                for (text, users) in names.iter_mut() {
                    let all = of[part].sources.iter().all(|source| source.ways.defines.values().any(|own| own == text));
                    if all && !of[part].sources.is_empty() {
                        users.insert(part.clone());
                    }
                }
            }
        }
        (delta.macros_on, delta.macros_off) = (gained, lost);
        delta.generated(off, on);
        let needs = |model: &Model| model.needs.iter().map(|need| need.name.clone()).collect::<Vec<String>>();
        let needs = Lists::of(&needs(off), &needs(on));
        (delta.needs_on, delta.needs_off) = (needs.on, needs.off);
        delta
    }

    fn part(
        &mut self,
        a: &DrawnPart,
        b: &DrawnPart,
        gained: &mut BTreeMap<String, BTreeSet<String>>,
        lost: &mut BTreeMap<String, BTreeSet<String>>,
    ) -> PartDelta {
        let mut delta = PartDelta::default();
        let paths = |part: &DrawnPart| part.sources.iter().map(|source| source.path.clone()).collect::<Vec<String>>();
        delta.sources = Lists::of(&paths(a), &paths(b));
        let mut common: Vec<(&DrawnSource, &DrawnSource)> = Vec::new();
        for source in &a.sources {
            common.extend(b.sources.iter().find(|other| other.path == source.path).map(|other| (source, other)));
        }
        delta.common = common.iter().map(|(source, _)| source.path.clone()).collect();
        let mut add = |key: &'static str, lists: Lists| {
            if !lists.is_empty() {
                delta.lists.insert(key, lists);
            }
        };
        add("uses", Lists::of(&a.uses, &b.uses));
        add("link-flags", Lists::of(&a.link_flags, &b.link_flags));
        add("libraries", Lists::of(&a.libraries, &b.libraries));
        add("needs", Lists::of(&a.needs, &b.needs));
        type Words = fn(&DrawnSource) -> Vec<String>;
        let kinds: [(&'static str, Words); 3] = [
            ("defines", |source| source.ways.defines.values().cloned().collect()),
            ("flags", |source| source.ways.flags.iter().map(|words| words.join(" ")).collect()),
            ("include", |source| source.ways.includes.iter().map(|(_, folder)| folder.clone()).collect()),
        ];
        for (key, words) in kinds {
            let mut all = common.iter().map(|(x, y)| Lists::of(&words(x), &words(y)));
            let Some(first) = all.next() else { continue };
            if !all.all(|other| other == first) {
                self.unclear.push(format!("the sources of {} do not all differ alike in their {key}", a.name));
                continue;
            }
            if key != "defines" {
                if !first.is_empty() {
                    delta.lists.insert(key, first);
                }
                continue;
            }
            // A value in the place of another one is no macro that comes or goes.
            let name = |text: &String| text.split('=').next().unwrap_or_default().to_string();
            let is_plain = |text: &String| !text.contains('=') || text.ends_with("=1");
            let mut others = Lists::default();
            for (texts, into, own, counterpart) in [
                (&first.on, &mut *gained, &mut others.on, &first.off),
                (&first.off, &mut *lost, &mut others.off, &first.on),
            ] {
                for text in texts {
                    if is_plain(text) && !counterpart.iter().any(|other| name(other) == name(text)) {
                        into.entry(text.clone()).or_default().insert(a.name.clone());
                    } else {
                        own.push(text.clone());
                    }
                }
            }
            if !others.is_empty() {
                delta.lists.insert("defines", others);
            }
        }
        delta
    }

    fn generated(&mut self, off: &Model, on: &Model) {
        for a in &off.made.generated {
            match on.made.generated.iter().find(|b| b.name == a.name) {
                None => self.parts_off.push(a.name.clone()),
                Some(b) if a.kept.is_some() && a.kept != b.kept => {
                    let file = a.outputs.first().map_or("", |(name, _)| name.as_str());
                    let (off, on) = (a.kept.as_deref().unwrap_or_default(), b.kept.as_deref().unwrap_or_default());
                    match KeptDelta::of(file, off, on) {
                        Some(delta) => self.kept.push(delta),
                        None => self.unclear.push(format!(
                            "the text of {file} is kept, and differs in more than macros that are defined or not: make it a template"
                        )),
                    }
                }
                Some(b) if a.stages != b.stages => {
                    let words = |stages: &[Vec<String>]| stages.concat();
                    let lists = Lists::of(&words(&a.stages), &words(&b.stages));
                    if a.stages.len() == 1 && b.stages.len() == 1 && !lists.is_empty() {
                        let delta = PartDelta { lists: [("command", lists)].into(), ..PartDelta::default() };
                        self.parts.insert(a.name.clone(), delta);
                    } else {
                        self.unclear.push(format!("the commands of {} are other ones", a.name));
                    }
                }
                Some(_) => {}
            }
        }
        let new = on.made.generated.iter().filter(|b| !off.made.generated.iter().any(|a| a.name == b.name));
        self.parts_on.extend(new.map(|part| part.name.clone()));
    }

    /// Whether there is no difference at all.
    pub fn is_empty(&self) -> bool {
        *self == Delta::default()
    }
}
