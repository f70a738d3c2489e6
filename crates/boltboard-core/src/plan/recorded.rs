//! What the record of each part says, see [`crate::record`].

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, OnceLock};

use super::lower::PlanInput;
use crate::base::{Digest, DigestOf, Glob, RelPath};
use crate::board::{Ending, Linkage, NeedId, OptionId, PartDef, PartId, RecordForm, RecordHeader, Switch, Value};
use crate::record::{Carried, Covers, Packed, Record, Recorded, Rest, Said, framed};
use crate::resolve::Effect;
use crate::survey::Language;

/// The languages whose flags a record tells, with their names in it.
const LANGUAGES: [(Language, &str); 3] = [(Language::C, "c"), (Language::Cxx, "c++"), (Language::Fortran, "fortran")];

/// The header by which a program reads its own record.
const OWN_RECORD: &str = include_str!("own_record.h");

/// From how many bytes of text on what many records say alike lies in a section of its own, compressed once for all.
const MUCH: usize = 48 << 10;

/// How many modules and archives tell all values; where there are more, each tells those that its definition names.
const MANY: usize = 64;

/// Puts records together.
pub struct Recorder<'a> {
    input: PlanInput<'a>,
    digest: Digest,
    /// What many records say, put together when the first is.
    common: OnceLock<Common>,
    /// Places of this machine with what stands for each, the longest first.
    hidden: Vec<(String, &'static str)>,
    /// Whether modules and archives are many.
    has_many: bool,
}

struct Common {
    record: Record,
    /// The values in a section of their own, where they are many; the record has none then, but their digest.
    rest: Option<(Record, Arc<Packed>)>,
}

impl PlanInput<'_> {
    /// The header by which a program can tell its record.
    pub(super) fn record_header(&self, header: &RecordHeader) -> String {
        let (name, of) = match &header.form {
            RecordForm::Function(name) => return OWN_RECORD.replace("@NAME@", name),
            RecordForm::Macro { name, of } => (name, &self.board.parts[*of]),
        };
        let text = Recorder::of(*self).of_part(of).text();
        let mut out = format!("/* What the record of {} says. */\n#define {name}", of.name);
        for line in text.split_inclusive('\n') {
            out.push_str(" \\\n    \"");
            out.push_str(&c_string(line));
            out.push('"');
        }
        out + "\n"
    }
}

/// A text as it stands between the quotes of a C string.
fn c_string(text: &str) -> String {
    let byte = |byte: u8| match byte {
        b'\n' => "\\n".to_string(),
        b'"' | b'\\' | b'?' => format!("\\{}", char::from(byte)),
        b' '..=b'~' => char::from(byte).to_string(),
        other => format!("\\{other:03o}"),
    };
    text.bytes().map(byte).collect()
}

impl<'a> Recorder<'a> {
    /// Begins; what stands for all that many records say is worked out at once.
    pub fn of(input: PlanInput<'a>) -> Recorder<'a> {
        let has_many = input.board.parts.iter().filter(|(_, part)| is_one_of_many(part)).count() > MANY;
        Recorder { digest: digest_of(&input), hidden: hidden(&input), common: OnceLock::new(), has_many, input }
    }

    /// What the record of a part tells. Where modules and archives are many, what they tell changes only with what they are made of.
    fn covers(&self, part: &PartDef) -> Covers {
        if self.has_many && is_one_of_many(part) { Covers::Named } else { Covers::All }
    }

    /// Stands for what many records say.
    pub fn common(&self) -> Digest {
        self.digest
    }

    /// Stands for what the record of a part says.
    pub fn says(&self, id: PartId) -> Recorded {
        let part = &self.input.board.parts[id];
        let own = if is_recorded(part) { self.own(part, empty(&self.input)).text() } else { String::new() };
        let tells_all = is_recorded(part) && self.covers(part) == Covers::All;
        Recorded { common: tells_all.then_some(self.digest), own: Digest::of(own.as_bytes()) }
    }

    /// Puts the record of a part together; `None` where its files carry none.
    pub fn record(&self, id: PartId) -> Option<Carried> {
        let part = &self.input.board.parts[id];
        if !is_recorded(part) {
            return None;
        }
        if self.covers(part) == Covers::Named {
            return Some(Carried { record: self.own(part, empty(&self.input)), rest: None });
        }
        let common = self.all();
        Some(match &common.rest {
            Some((record, rest)) => Carried { record: self.own(part, record.clone()), rest: Some(Arc::clone(rest)) },
            None => Carried { record: self.own(part, common.record.clone()), rest: None },
        })
    }

    /// What the record of a part says, whether or not its files carry one.
    pub fn of_part(&self, part: &PartDef) -> Record {
        let named = self.covers(part) == Covers::Named;
        self.own(part, if named { empty(&self.input) } else { self.all().record.clone() })
    }

    /// What many records say alike.
    pub fn common_record(&self) -> Record {
        self.all().record.clone()
    }

    fn all(&self) -> &Common {
        self.common.get_or_init(|| {
            let record = self.of_all();
            let text = Rest { off: record.off.clone(), values: record.values.clone() }.text();
            let rest = (text.len() > MUCH).then(|| {
                let digest = Digest::of(text.as_bytes()).to_string();
                let few = Record { off: vec![], values: BTreeMap::new(), rest: Some(digest), ..record.clone() };
                (few, Arc::new(Packed::of(framed(&text).as_bytes())))
            });
            Common { record, rest }
        })
    }

    /// What only the record of this part says, added to what others say.
    fn own(&self, part: &PartDef, record: Record) -> Record {
        let mut record = Record { part: part.name.clone(), kind: part.kind.name().to_string(), ..record };
        for (language, name) in languages_of(part) {
            let Ok(compiler) = self.input.tools.compiler_for(part.machine, language) else { continue };
            record.compilers.insert(name.to_string(), compiler.in_words());
            record.flags.insert(name.to_string(), self.shown(self.input.compile_flags(part, language)));
        }
        if part.kind.ending().is_some_and(|ending| ending != Ending::Archive) {
            record.flags.insert("link".to_string(), self.shown(self.input.link_flags(part)));
        }
        record.covers = self.covers(part);
        if record.covers == Covers::Named {
            // No choices: one that changes no value touches no part.
            let mentions = part.mentions();
            self.add_values(&mut record, mentions.options.into_iter(), &BTreeSet::new());
            self.add_facts(&mut record, mentions.needs.into_iter());
        }
        record
    }

    fn of_all(&self) -> Record {
        let PlanInput { board, choices, .. } = &self.input;
        let mut record = empty(&self.input);
        record.patches = choices.changes.iter().map(|change| change.name.clone()).collect();
        let on = board.add_ons.iter().filter(|add_on| !self.input.resolution.value(add_on.switch).is_off());
        record.add_ons = on.map(|add_on| format!("{} {}", add_on.name, add_on.version)).collect();
        for choice in choices.own() {
            let name = board.options[choice.option].name.clone();
            record.choices.insert(name, self.said(&choice.value));
        }
        for (need, choice) in &choices.providers {
            let name = board.needs[*need].name.clone();
            record.providers.insert(name, self.without_places(&choice.provider.text(board)));
        }
        let chosen = choices.items.iter().map(|choice| choice.option).collect();
        self.add_values(&mut record, board.options.iter().map(|(id, _)| id), &chosen);
        self.add_facts(&mut record, board.needs.iter().map(|(id, _)| id));
        record
    }

    fn add_values(&self, record: &mut Record, options: impl Iterator<Item = OptionId>, chosen: &BTreeSet<OptionId>) {
        for id in options {
            let option = &self.input.board.options[id];
            let resolved = self.input.resolution.get(id);
            let without_effect = resolved.effect == Effect::NoEffect;
            let is_switch = matches!(resolved.value, Value::Switch(_) | Value::Module(_));
            if is_switch && (resolved.value.is_off() || without_effect) {
                record.off.push(option.name.clone());
            } else if !without_effect && !chosen.contains(&id) {
                record.values.insert(option.name.clone(), self.said(&resolved.value));
            }
        }
        record.off.sort();
    }

    fn add_facts(&self, record: &mut Record, needs: impl Iterator<Item = NeedId>) {
        for need in needs {
            let fact = self.input.facts.get(need);
            let Some(text) = fact.and_then(|fact| fact.in_words(self.input.board)) else { continue };
            record.facts.insert(self.input.board.needs[need].name.clone(), text);
        }
    }

    fn said(&self, value: &Value) -> Said {
        Said::of(value).map(&|text| self.without_places(text))
    }

    fn shown(&self, words: Vec<String>) -> Vec<String> {
        words.iter().map(|word| self.without_places(word)).collect()
    }

    /// A text in which no place of this machine stands that is a person's own.
    fn without_places(&self, text: &str) -> String {
        let mut text = text.to_string();
        for (place, sign) in &self.hidden {
            if text.contains(place.as_str()) {
                text = replaced(&text, place, sign);
            }
        }
        text
    }
}

fn empty(input: &PlanInput<'_>) -> Record {
    let tree = &input.board.tree;
    let tried = if input.choices.has_tried() { " --try" } else { "" };
    Record::new(&tree.name, &tree.version, "", "", &format!("{}{tried}", input.profile), Covers::All)
}

/// Tells whether a part is of a sort of which large trees have thousands.
fn is_one_of_many(part: &PartDef) -> bool {
    part.kind.module().is_some() || part.kind.ending() == Some(Ending::Archive)
}

/// Stands for all that a record of everything says: all that it is put together of, and not the text of it, which can be long.
fn digest_of(input: &PlanInput<'_>) -> Digest {
    let PlanInput { board, resolution, facts, choices, .. } = input;
    let mut digest = DigestOf::default();
    let mut add = |text: &str| {
        digest.add(text.as_bytes());
        digest.add(&[0]);
    };
    add(&empty(input).text());
    hidden(input).iter().for_each(|(place, _)| add(place));
    choices.changes.iter().for_each(|change| add(&change.name));
    for choice in &choices.items {
        add(&board.options[choice.option].name);
    }
    for (need, choice) in &choices.providers {
        add(&board.needs[*need].name);
        add(&choice.provider.text(board));
    }
    for (id, option) in board.options.iter() {
        let resolved = resolution.get(id);
        add(&option.name);
        add(if resolved.effect == Effect::NoEffect { "no effect" } else { "" });
        match &resolved.value {
            Value::Switch(Switch::Off) | Value::Module(Linkage::Off) => add("off"),
            value => add(&value.to_string()),
        }
    }
    for fact in facts.iter() {
        add(&fact.in_words(board).unwrap_or_default());
    }
    digest.end()
}

fn hidden(input: &PlanInput<'_>) -> Vec<(String, &'static str)> {
    let folder = |path: &std::path::Path| path.display().to_string();
    let home = input.tools.variables.get("HOME").cloned().unwrap_or_default();
    let mut places = vec![
        (folder(&input.folders.build), Record::BUILD),
        (folder(&input.folders.tree), Record::TREE),
        (home.trim_end_matches('/').to_string(), Record::HOME),
    ];
    places.retain(|(place, _)| place.len() > 1);
    // What lies in another is told first.
    places.sort_by_key(|(place, _)| std::cmp::Reverse(place.len()));
    places
}

/// The languages of a part's own sources, by what their names and patterns end in: which files there are is not looked at, because a
/// record is put together for parts that nothing touches as well.
fn languages_of(part: &PartDef) -> Vec<(Language, &'static str)> {
    let named = part.sources.iter().flat_map(|rule| {
        let patterns = rule.globs.iter().map(Glob::as_str);
        patterns.chain(rule.made.iter().map(RelPath::as_str)).chain(rule.beside.iter().map(RelPath::as_str))
    });
    let of = |name: &str| match name.rsplit_once('.').map(|(_, ending)| ending) {
        Some(ending) => RelPath::parse(&format!("x.{ending}")).ok().and_then(|path| Language::of(&path)),
        None => None,
    };
    let found: Vec<Option<Language>> = named.map(of).collect();
    let has = |language: Language| match language {
        Language::C => found.is_empty() || found.iter().any(|one| matches!(one, None | Some(Language::C))),
        Language::Fortran => found.iter().flatten().any(|one| one.is_fortran()),
        other => found.contains(&Some(other)),
    };
    LANGUAGES.into_iter().filter(|(language, _)| has(*language)).collect()
}

/// Tells whether the record of a part tells of the compiler of a language.
pub fn tells_of(part: &PartDef, language: Language) -> bool {
    languages_of(part).iter().any(|(one, _)| *one == language)
}

/// Tells whether the files of a part carry a record: they are linked, or an archive, and nothing links them again.
pub fn is_recorded(part: &PartDef) -> bool {
    // What was built elsewhere says what it was built from, if anything.
    if part.prebuilt().is_some() {
        return false;
    }
    match part.kind.ending() {
        Some(Ending::Program | Ending::Shared | Ending::Archive) => true,
        Some(Ending::Partial) => !part.kind.is_taken_in(),
        Some(Ending::Loose) | None => false,
    }
}

/// Puts a sign where a folder stands in a text, and nowhere where it is only the beginning of another name.
fn replaced(text: &str, place: &str, sign: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find(place) {
        let (before, after) = (&rest[..at], &rest[at + place.len()..]);
        let goes_on = after.chars().next().is_some_and(|c| c.is_alphanumeric() || "-_.+".contains(c));
        let within = before.chars().last().is_some_and(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '/');
        out.push_str(before);
        out.push_str(if goes_on || within { place } else { sign });
        rest = after;
    }
    out + rest
}
