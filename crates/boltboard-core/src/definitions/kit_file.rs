//! The file that makes a folder a kit: how the tree was built that is installed. The plan writes it, and only kits have one.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde::{Deserialize, Serialize};
use toml::Spanned;

use super::entry::RuleSink;
use super::fields::{Log, Text};
use super::find::MAX_FILE;
use super::lookup::Names;
use super::problem::{Fault, Problem};
use crate::base::files::read_regular;
use crate::base::{FileId, Op, Place, RelPath, SourceFiles};
use crate::board::{
    Atom, BUILT, Board, DecidedBy, DefaultRule, DefaultValue, Generator, InKit, Kind, Linkage, Making, OptionDef,
    OptionId, PartDef, PartKind, PartOrigin, Prebuilt, Provider, Rule, RuleKind, Tree, Value,
};
use crate::expr::Expr;

/// The form of kits that we write and read.
const FORMAT: u32 = 1;

/// What stands in the file; values are texts, or texts with their places.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct KitText<T> {
    /// The form of the file.
    pub format: u32,
    /// The tree.
    pub tree: String,
    /// Its version.
    pub version: String,
    /// Options that what is built against it depends on.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub interface: Vec<String>,
    /// Options that are chosen anew.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
    /// Files of the sources that parts follow from.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub follows: Vec<String>,
    /// The values of all options that were in force.
    #[serde(default = "BTreeMap::new", skip_serializing_if = "BTreeMap::is_empty")]
    pub values: BTreeMap<String, T>,
    /// Who met needs, where the tree's own copy did.
    #[serde(default = "BTreeMap::new", skip_serializing_if = "BTreeMap::is_empty")]
    pub needs: BTreeMap<String, T>,
    /// The parts that are in it.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub part: BTreeMap<String, KitPart>,
}

/// A part in a kit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) struct KitPart {
    /// Its file, as a path of the kit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The headers that it makes, below the folder of generated files.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub made: Vec<String>,
    /// The languages that ask more of a link than C does.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub languages: BTreeSet<KitLanguage>,
}

/// A language that asks more of a link than C does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub(crate) enum KitLanguage {
    /// C++.
    #[serde(rename = "c++")]
    Cxx,
    /// Fortran.
    #[serde(rename = "fortran")]
    Fortran,
}

impl<T> KitText<T> {
    /// Begins one for a tree.
    pub fn of(tree: &Tree) -> KitText<T> {
        KitText {
            format: FORMAT,
            tree: tree.name.clone(),
            version: tree.version.clone(),
            interface: Vec::new(),
            open: Vec::new(),
            follows: Vec::new(),
            values: BTreeMap::new(),
            needs: BTreeMap::new(),
            part: BTreeMap::new(),
        }
    }
}

/// Returns where a part of a kit lies that comes to lie there among the finished parts.
pub(crate) fn built_at(output: &RelPath) -> RelPath {
    RelPath::root().child(BUILT).child(output.as_str())
}

/// Returns where a generated header of a kit lies.
pub(crate) fn made_at(made: &RelPath) -> RelPath {
    RelPath::root().child(BUILT).child("made").child(made.as_str())
}

/// Reads the values that a kit tells; nothing where it cannot be read.
pub(crate) fn kit_values(file: &Path) -> Option<BTreeMap<String, String>> {
    let bytes = read_regular(file).ok().filter(|bytes| bytes.len() as u64 <= MAX_FILE)?;
    let text = String::from_utf8(bytes).ok()?;
    toml_edit::de::from_str::<KitText<String>>(&text).ok().map(|text| text.values)
}

/// A kit as it was read.
pub(super) struct ReadKit {
    text: KitText<Spanned<String>>,
    /// The files of the sources that parts follow from.
    pub follows: Vec<RelPath>,
    file: FileId,
    place: Place,
}

impl ReadKit {
    /// Reads the file; reports what is wrong with it.
    pub fn of(file: FileId, files: &SourceFiles, log: &Log) -> Option<ReadKit> {
        match toml_edit::de::from_str::<KitText<Spanned<String>>>(files.text(file)) {
            Ok(text) if text.format == FORMAT => {
                let mut kit = ReadKit { text, follows: Vec::new(), file, place: Place::new(file, 0..0) };
                kit.follows = kit.text.follows.iter().filter_map(|path| kit.path(path, log)).collect();
                Some(kit)
            }
            Ok(text) => {
                log.add(Problem::at(Place::new(file, 0..0), Fault::Format(i64::from(text.format))));
                None
            }
            Err(e) => {
                let place = Place::new(file, e.span().unwrap_or(0..0));
                log.add(Problem::at(place, Fault::Toml(e.message().trim().replace('\n', "; "))));
                None
            }
        }
    }

    /// A path that the file names; none leads out of the kit.
    fn path(&self, text: &str, log: &Log) -> Option<RelPath> {
        let path = RelPath::parse(text);
        path.map_err(|fault| log.add(Problem::at(self.place, fault))).ok()
    }

    /// Reports a kit of another tree than the one whose definitions lie beside it.
    pub fn check(&self, tree: &Tree, log: &Log) {
        if self.text.tree != tree.name || self.text.version != tree.version {
            let (own, version) = (&self.text.tree, &self.text.version);
            let text = format!("this kit is one of {own} {version}, and lies with {} {}", tree.name, tree.version);
            self.complain(text, log);
        }
    }

    fn complain(&self, text: String, log: &Log) {
        log.add(Problem::at(self.place, Fault::Combination(text)));
    }

    /// Makes an option of the tree what it was when the tree was built; a module that comes to it cannot be built into what is there.
    pub fn fix(&self, option: &mut OptionDef, (id, is_of_tree): (OptionId, bool), sink: &mut RuleSink, log: &Log) {
        match (is_of_tree, self.is_open(&option.name)) {
            (true, false) => {
                option.decided_by = DecidedBy::Kit;
                option.rules.clear();
            }
            (true, true) => {
                let Some(text) = self.text.values.get(&option.name) else { return };
                let Some(value) = self.value(option, text, log) else { return };
                let (value, place) = (DefaultValue::Fixed(value), Some(Place::new(self.file, text.span())));
                option.defaults = vec![DefaultRule { when: None, value, place }];
            }
            (false, _) if option.kind == Kind::Module => {
                let builtin = Expr::Atom(Atom::Compare(id, Op::Equal, Value::Module(Linkage::Builtin)));
                let must = Expr::Not(Box::new(builtin));
                sink.add(Rule { option: id, value: None, must, kind: RuleKind::Requires, place: self.place });
                option.rules.extend(sink.take());
            }
            (false, _) => {}
        }
    }

    /// Tells whether an option is chosen anew.
    pub fn is_open(&self, option: &str) -> bool {
        self.text.open.iter().any(|open| open == option)
    }

    fn value(&self, option: &OptionDef, text: &Spanned<String>, log: &Log) -> Option<Value> {
        match option.kind.read(text.get_ref()) {
            Ok(value) => Some(value),
            Err(fault) => {
                let fault = Fault::Value { option: format!("`{}`", option.name), fault };
                log.add(Problem::at(Place::new(self.file, text.span()), fault));
                None
            }
        }
    }

    /// What the kit says of the board.
    pub fn said<'o>(
        &self,
        options: impl Iterator<Item = (OptionId, &'o OptionDef)>,
        names: &Names,
        log: &Log,
    ) -> InKit {
        let fixed = options.filter(|(_, option)| option.decided_by == DecidedBy::Kit);
        let values = fixed.filter_map(|(id, option)| {
            let text = self.text.values.get(&option.name)?;
            Some((id, self.value(option, text, log)?, Place::new(self.file, text.span())))
        });
        let text = |name: &str| Text { text: name.to_string(), place: self.place };
        let provider = |(name, who): (&String, &Spanned<String>)| {
            let need = names.needs.find(&text(name), log)?;
            let is_own = who.get_ref() == "bundled";
            is_own.then(|| (need, Provider::Bundled, Place::new(self.file, who.span())))
        };
        InKit {
            values: values.collect(),
            providers: self.text.needs.iter().filter_map(provider).collect(),
            interface: self.text.interface.iter().filter_map(|name| names.options.find(&text(name), log)).collect(),
            place: self.place,
        }
    }

    /// Makes a part of the tree the file that it was built as, or one that is never made.
    pub fn give(&self, part: &mut PartDef, log: &Log) {
        let given = self.text.part.get(&part.name);
        if part.kind.making() == Making::Generated {
            let made = given.map_or(&[][..], |given| &given.made).iter().filter_map(|made| self.path(made, log));
            part.kind = PartKind::Generated(Generator::Given { files: made.collect() });
        }
        let file = given.and_then(|given| given.file.as_ref()).and_then(|file| self.path(file, log));
        if given.is_some_and(|given| given.file.is_none()) && part.kind.is_linked() {
            self.complain(format!("`{}` has no file in this kit", part.name), log);
        }
        part.origin = match given {
            None => PartOrigin::Absent,
            Some(given) => {
                let has = |language| given.languages.contains(&language);
                let (has_cxx, has_fortran) = (has(KitLanguage::Cxx), has(KitLanguage::Fortran));
                PartOrigin::Kit(Prebuilt { file, has_cxx, has_fortran })
            }
        };
        part.when = None;
        for list in [&mut part.flags, &mut part.defines] {
            list.clear();
        }
        part.sources.clear();
        part.includes.clear();
        part.given.clear();
        part.values.clear();
        part.link_reads.clear();
        part.lists.clear();
        part.install = None;
        if !part.kind.is_taken_in() {
            // All that it needs is in it already.
            part.needs.clear();
            part.libraries.clear();
            part.link_flags.clear();
        }
    }

    /// Whether what it uses can be there: of the tree's own parts, only those that the kit has.
    pub fn has(&self, part: &PartDef) -> bool {
        !Board::is_of_tree(&part.folder) || self.text.part.contains_key(&part.name)
    }
}
