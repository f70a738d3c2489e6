//! `[set.NAME]`: what several parts share of flags, macros, folders and needs, written once.

use super::entry::Entry;
use super::fields::{Fields, Text};
use super::lookup::Names;
use crate::base::RelPath;
use crate::board::{Condition, Interp, NeedId, PartDef, PartId, When};
use crate::expr::Expr;

/// What a part can say of its compiles and its link, and a set as well.
#[derive(Debug, Clone, Default)]
pub(super) struct Shared {
    pub includes: Vec<When<RelPath>>,
    pub public_includes: Vec<When<RelPath>>,
    pub uses: Vec<When<PartId>>,
    pub flags: Vec<When<Interp>>,
    pub defines: Vec<When<Interp>>,
    pub link_flags: Vec<When<Interp>>,
    pub libraries: Vec<When<Interp>>,
    pub needs: Vec<When<NeedId>>,
    /// The numbers of the sets that it is made of.
    pub sets: Vec<usize>,
}

/// The name of one, for lists of names.
pub(super) struct SetName;

impl Shared {
    /// Reads it from the table of a part or a set, but for the parts that it uses.
    pub fn read(fields: &Fields<'_>, folder: &RelPath, names: &Names) -> Shared {
        let log = fields.log();
        let joined = |text: &Text| match folder.join(&text.text) {
            Ok(path) => Some(path),
            Err(fault) => {
                fields.problem(text.place, fault);
                None
            }
        };
        Shared {
            includes: names.when_list(fields, "include", &mut |text| joined(text)),
            public_includes: names.when_list(fields, "public-include", &mut |text| joined(text)),
            uses: Vec::new(),
            flags: names.interp_list(fields, "flags"),
            defines: names.interp_list(fields, "defines"),
            link_flags: names.interp_list(fields, "link-flags"),
            libraries: names.interp_list(fields, "libraries"),
            needs: names.when_list(fields, "needs", &mut |text| names.needs.find(text, log)),
            sets: Vec::new(),
        }
    }

    /// Reads a set.
    pub fn of_set(entry: &Entry<'_>, names: &Names) -> Shared {
        let fields = entry.fields("set");
        let mut shared = Shared::read(&fields, entry.folder, names);
        shared.uses = names.when_list(&fields, "uses", &mut |text| names.parts.find(text, fields.log()));
        fields.text("summary");
        fields.finish();
        shared
    }

    /// Puts the sets that a table names before what it says itself.
    pub fn with_sets(self, fields: &Fields<'_>, names: &Names, sets: &[Shared]) -> Shared {
        let named = names.when_list(fields, "sets", &mut |text| names.sets.find(text, fields.log()));
        let mut all = Shared::default();
        for When { when, item } in named {
            if let Some(set) = sets.get(item.index()) {
                all.add(set, when.as_ref());
                all.sets.push(item.index());
            }
        }
        all.add(&self, None);
        all
    }

    /// Puts it into a part.
    pub fn into_part(self, part: &mut PartDef) {
        part.includes = self.includes;
        part.public_includes = self.public_includes;
        part.uses = self.uses;
        part.flags = self.flags;
        part.defines = self.defines;
        part.link_flags = self.link_flags;
        part.libraries = self.libraries;
        part.needs = self.needs;
    }

    /// Adds another one, while a condition holds.
    fn add(&mut self, more: &Shared, when: Option<&Condition>) {
        fn extend<T: Clone>(list: &mut Vec<When<T>>, more: &[When<T>], when: Option<&Condition>) {
            list.extend(
                more.iter().map(|entry| When { when: both(when, entry.when.as_ref()), item: entry.item.clone() }),
            );
        }
        extend(&mut self.includes, &more.includes, when);
        extend(&mut self.public_includes, &more.public_includes, when);
        extend(&mut self.uses, &more.uses, when);
        extend(&mut self.flags, &more.flags, when);
        extend(&mut self.defines, &more.defines, when);
        extend(&mut self.link_flags, &more.link_flags, when);
        extend(&mut self.libraries, &more.libraries, when);
        extend(&mut self.needs, &more.needs, when);
    }
}

/// The condition under which both hold.
pub(super) fn both(first: Option<&Condition>, second: Option<&Condition>) -> Option<Condition> {
    let place = second.or(first)?.place;
    let expr = Expr::all(first.into_iter().chain(second).map(|condition| condition.expr.clone()))?;
    Some(Condition { expr, place })
}
