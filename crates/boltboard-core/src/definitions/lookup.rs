//! From names in texts to ids: conditions, texts to fill in, and plain references.

use std::collections::HashMap;

use super::fields::{Context, Fields, Found, Log, Text};
use super::problem::{Fault, Problem};
use super::sets::SetName;
use crate::base::{Id, Place, RelPath, near_matches};
use crate::board::{
    ActionDef, Atom, Condition, FetchDef, Folder, HeaderDef, Interp, Kind, KitDef, MetadataDef, NeedDef, OptionDef,
    OptionId, PartDef, Piece, SectionDef, ServiceDef, SmokeDef, SourceWord, TestDef, When,
};
use crate::expr::{self, Op, RawAtom, RawWhat};

/// Names of one sort, with their ids and places.
pub(super) struct Index<T> {
    what: &'static str,
    ids: HashMap<String, (Id<T>, Place), foldhash::fast::RandomState>,
}

impl<T> Index<T> {
    pub fn new(what: &'static str) -> Self {
        Index { what, ids: HashMap::default() }
    }

    /// Takes in a name; reports a bad or doubled one and returns `None` for it.
    pub fn add(&mut self, name: &Text, log: &Log) -> Option<Id<T>> {
        if !expr::is_name(&name.text) {
            log.add(Problem::at(name.place, Fault::BadName(name.text.clone())));
            return None;
        }
        if let Some((_, first)) = self.ids.get(&name.text) {
            let fault = Fault::Twice { what: self.what, name: name.text.clone() };
            log.add(Problem { related: Some(*first), ..Problem::at(name.place, fault) });
            return None;
        }
        let id = Id::new(self.ids.len());
        self.ids.insert(name.text.clone(), (id, name.place));
        Some(id)
    }

    /// Tells whether there is such a name.
    pub fn has(&self, name: &str) -> bool {
        self.ids.contains_key(name)
    }

    /// Returns the id of a name; reports an unknown one.
    pub fn find(&self, name: &Text, log: &Log) -> Option<Id<T>> {
        self.find_at(&name.text, name.place, log)
    }

    /// Returns the name of an id.
    pub fn name(&self, id: Id<T>) -> Option<String> {
        self.ids.iter().find(|(_, (known, _))| *known == id).map(|(name, _)| name.clone())
    }

    fn find_at(&self, name: &str, place: Place, log: &Log) -> Option<Id<T>> {
        if let Some((id, _)) = self.ids.get(name) {
            return Some(*id);
        }
        let fault = Fault::UnknownName { what: self.what, name: name.to_string() };
        log.add(Problem::at(place, fault).with_near(near_matches(name, self.ids.keys().map(String::as_str))));
        None
    }
}

/// All names of a tree.
pub(super) struct Names {
    pub options: Index<OptionDef>,
    pub kinds: Vec<Kind>,
    pub needs: Index<NeedDef>,
    pub parts: Index<PartDef>,
    pub sections: Index<SectionDef>,
    pub headers: Index<HeaderDef>,
    pub sets: Index<SetName>,
    pub tests: Index<TestDef>,
    pub actions: Index<ActionDef>,
    pub services: Index<ServiceDef>,
    pub metadata: Index<MetadataDef>,
    pub kits: Index<KitDef>,
    pub smokes: Index<SmokeDef>,
    pub fetches: Index<FetchDef>,
}

impl Names {
    /// Reads a condition.
    pub fn condition(&self, text: &Text, log: &Log) -> Option<Condition> {
        let raw = match expr::parse(&text.text) {
            Ok(raw) => raw,
            Err(fault) => {
                log.add(Problem::at(text.place.within(fault.start, fault.len.max(1)), fault.kind));
                return None;
            }
        };
        let linked = raw.try_map(&mut |atom: &RawAtom| self.atom(atom, text.place, log).ok_or(()));
        linked.ok().map(|expr| Condition { expr, place: text.place })
    }

    fn atom(&self, atom: &RawAtom, whole: Place, log: &Log) -> Option<Atom> {
        let place = whole.within(atom.span.0, atom.span.1);
        match &atom.what {
            RawWhat::Need(name) => self.needs.find_at(name, place, log).map(Atom::Need),
            RawWhat::Name(name) => {
                let option = self.options.find_at(name, place, log)?;
                let kind = &self.kinds[option.index()];
                if kind.is_on_off() {
                    return Some(Atom::On(option));
                }
                log.add(Problem::at(place, Fault::NeverOff { name: name.clone(), kind: kind.name() }));
                None
            }
            RawWhat::Compare { name, op, value } => {
                let option = self.options.find_at(name, place, log)?;
                let kind = &self.kinds[option.index()];
                if !kind.is_ordered() && !matches!(op, Op::Equal | Op::NotEqual) {
                    log.add(Problem::at(place, Fault::NoOrder { name: name.clone(), kind: kind.name() }));
                    return None;
                }
                match kind.without_range().read(value.text()) {
                    Ok(value) => Some(Atom::Compare(option, *op, value)),
                    Err(fault) => {
                        let near = fault.near.clone();
                        let fault = Fault::Value { option: name.clone(), fault };
                        log.add(Problem::at(place, fault).with_near(near));
                        None
                    }
                }
            }
        }
    }

    /// Reads a text with `${…}` in it.
    pub fn interp(&self, text: &Text, log: &Log) -> Option<Interp> {
        let mut pieces = Vec::new();
        let mut rest = text.text.as_str();
        let mut sound = true;
        while let Some(start) = rest.find("${") {
            if start > 0 && rest.as_bytes()[start - 1] == b'$' {
                // `$${` is the text `${`.
                pieces.push(Piece::Text(format!("{}{{", &rest[..start])));
                rest = &rest[start + 2..];
                continue;
            }
            if start > 0 {
                pieces.push(Piece::Text(rest[..start].to_string()));
            }
            let offset = text.text.len() - rest.len() + start;
            let Some(len) = rest[start..].find('}') else {
                log.add(Problem::at(text.place.within(offset, 2), Fault::UnclosedPlaceholder));
                return None;
            };
            let inner = &rest[start + 2..start + len];
            match self.piece(inner, text.place.within(offset, len + 1), log) {
                Some(piece) => pieces.push(piece),
                None => sound = false,
            }
            rest = &rest[start + len + 1..];
        }
        if !rest.is_empty() {
            pieces.push(Piece::Text(rest.to_string()));
        }
        sound.then_some(Interp { pieces })
    }

    /// Reads a text of what is installed: it names values only, because places of the build mean nothing there.
    pub fn lasting(&self, text: &Text, log: &Log) -> Option<Interp> {
        let interp = self.interp(text, log)?;
        let lasts =
            |piece: &Piece| matches!(piece, Piece::Text(_) | Piece::Option(_) | Piece::TreeName | Piece::TreeVersion);
        if interp.pieces.iter().all(lasts) {
            return Some(interp);
        }
        log.add(Problem::at(text.place, Fault::PlaceOfBuild(text.text.clone())));
        None
    }

    /// Reads a conditional list of such texts.
    pub fn lasting_list(&self, fields: &Fields<'_>, key: &'static str) -> Vec<When<Interp>> {
        self.when_list(fields, key, &mut |text| self.lasting(text, fields.log()))
    }

    fn piece(&self, inner: &str, place: Place, log: &Log) -> Option<Piece> {
        match inner.split_once(':') {
            None => self.options.find_at(inner, place, log).map(Piece::Option),
            Some(("part", name)) => self.parts.find_at(name, place, log).map(Piece::Part),
            Some(("beside", path)) => match RelPath::parse(path) {
                Ok(path) => Some(Piece::Beside(path)),
                Err(fault) => {
                    log.add(Problem::at(place, fault));
                    None
                }
            },
            Some(("path", "tree")) => Some(Piece::Folder(Folder::Tree)),
            Some(("path", "board")) => Some(Piece::Folder(Folder::Board)),
            Some(("path", "made")) => Some(Piece::Folder(Folder::Made)),
            Some(("step", "reads")) => Some(Piece::Reads),
            Some(("step", "output")) => Some(Piece::Writes),
            Some(("tree", "name")) => Some(Piece::TreeName),
            Some(("tree", "version")) => Some(Piece::TreeVersion),
            Some(("source", word)) if SourceWord::ALL.iter().any(|(name, _)| *name == word) => {
                SourceWord::ALL.into_iter().find(|(name, _)| *name == word).map(|(_, word)| Piece::Source(word))
            }
            Some(("value", name)) => Some(Piece::Value(name.to_string())),
            Some((_, name)) => {
                let known = [
                    "path:tree",
                    "path:board",
                    "path:made",
                    "step:reads",
                    "step:output",
                    "source:stem",
                    "source:name",
                    "source:path",
                    "source:part",
                    "tree:name",
                    "tree:version",
                ];
                let problem = Problem::at(place, Fault::Placeholder(inner.to_string()));
                // What stands after the colon is often a part.
                let part = self.parts.ids.contains_key(name).then(|| vec![format!("part:{name}")]);
                log.add(problem.with_near(part.unwrap_or_else(|| near_matches(inner, known))));
                None
            }
        }
    }

    /// Reads the `when` of a table.
    pub fn when(&self, fields: &Fields<'_>) -> Option<Condition> {
        self.condition(&fields.text("when")?, fields.log())
    }

    /// Reads a list whose members are texts or `{ when = "…", add = […] }`.
    pub fn when_list<T>(
        &self,
        fields: &Fields<'_>,
        key: &'static str,
        read: &mut dyn FnMut(&Text) -> Option<T>,
    ) -> Vec<When<T>> {
        self.when_members(fields, fields.list(key), read)
    }

    /// Reads the members of a list that are texts or `{ when = "…", add = […] }`.
    pub fn when_members<'a, T>(
        &self,
        fields: &Fields<'a>,
        members: Vec<Found<'a>>,
        read: &mut dyn FnMut(&Text) -> Option<T>,
    ) -> Vec<When<T>> {
        let mut list = Vec::new();
        for found in members {
            if let Some(text) = found.text() {
                list.extend(read(&text).map(|item| When { when: None, item }));
            } else if let Some(sub) = self.conditional(fields, &found) {
                let when = self.when(&sub);
                let items: Vec<T> = sub.texts("add").iter().filter_map(&mut *read).collect();
                list.extend(items.into_iter().map(|item| When { when: when.clone(), item }));
                sub.finish();
            }
        }
        list
    }

    /// Reads a conditional list of texts to fill in.
    pub fn interp_list(&self, fields: &Fields<'_>, key: &'static str) -> Vec<When<Interp>> {
        self.when_list(fields, key, &mut |text| self.interp(text, fields.log()))
    }

    /// Returns the table of a conditional member; reports anything else.
    pub fn conditional<'a>(&self, fields: &Fields<'a>, found: &Found<'a>) -> Option<Fields<'a>> {
        let sub = fields.sub(found, Context::Named("an entry of", found.key));
        if sub.is_none() {
            fields.wrong_type(found, "a string or { when = \"…\", add = […] }");
        }
        sub
    }

    /// Reads a default or a listed value as TOML writes it.
    pub fn value_text(&self, option: OptionId, found: &Found<'_>) -> Option<Text> {
        if let Some(text) = found.text() {
            return Some(text);
        }
        let kind = &self.kinds[option.index()];
        let number = || found.integer().filter(|_| kind.is_number()).map(|n| n.to_string());
        let words = || {
            let members = found.members().filter(|_| matches!(kind, Kind::Words(_)))?;
            let words: Option<Vec<String>> = members.iter().map(|m| m.text().map(|t| t.text)).collect();
            words.map(|words| words.join(" "))
        };
        let text = number().or_else(words);
        text.map(|text| Text { text, place: found.place })
    }
}
