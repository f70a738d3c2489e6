//! What a failed step's words lead to: a symbol and who defines it, a library and the need that looks for it, a flag and where it
//! comes from.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use object::{Object, ObjectSymbol};

use super::failure::{Cause, Failure, LeftOver};
use crate::base::near_matches;
use crate::board::{Board, Condition, Interp, LeftOut, Machine, NeedCheck, NeedId, OptionId, PartId, Piece, When};
use crate::definitions::Listing;
use crate::plan::Plan;
use crate::resolve::Resolution;
use crate::step::{Location, Step};
use crate::survey::Facts;

/// How many undefined symbols are looked into.
const SYMBOLS: usize = 4;

/// What a failed step is looked into with.
pub struct Diagnosis<'a> {
    /// The board.
    pub board: &'a Board,
    /// The values.
    pub resolution: &'a Resolution,
    /// What the host has.
    pub facts: &'a Facts,
    /// The files of the tree.
    pub listing: &'a Listing,
    /// The plan.
    pub plan: &'a Plan,
    /// Where the linker looks for libraries.
    pub library_folders: &'a [PathBuf],
}

/// Something that a failed step's words lead to.
#[derive(Debug, Clone, PartialEq)]
pub enum Hint {
    /// The program itself crashed; its source is not at fault.
    ToolCrashed(String),
    /// A symbol that nothing defines.
    Undefined(Undefined),
    /// A library that the linker does not find, with the need that looks for it.
    NoLibrary(String, Option<NeedId>),
    /// A flag that the compiler refuses, or that makes errors of warnings, with where it comes from.
    Flag {
        /// The flag.
        flag: String,
        /// Whether it is refused; else it makes errors of warnings.
        refused: bool,
        /// Where it comes from.
        from: Option<FlagFrom>,
    },
    /// Sources that were part of it the last time, and are not any more.
    Gone(Vec<String>),
}

/// A symbol that nothing defines.
#[derive(Debug, Clone, PartialEq)]
pub struct Undefined {
    /// The symbol.
    pub symbol: String,
    /// Who uses it, as the linker says.
    pub used_by: Vec<String>,
    /// Sources that defined it in the last build, and are gone or belong to no part any more.
    pub was_in: Vec<WasIn>,
    /// Parts that define it and are not linked here.
    pub parts: Vec<PartId>,
    /// Needs whose library defines it, and that the part does not name.
    pub needs: Vec<NeedId>,
    /// Sources that define it and are not built.
    pub left_out: Vec<(String, LeftOut)>,
    /// Symbols of nearly the same name.
    pub near: Vec<String>,
}

/// A source that defined a symbol in the last build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WasIn {
    /// The source.
    pub source: String,
    /// Whether it still lies there.
    pub is_there: bool,
}

/// Where a flag comes from.
#[derive(Debug, Clone, PartialEq)]
pub struct FlagFrom {
    /// The file and line that name it, if a definition does.
    pub place: Option<(String, usize)>,
    /// The options that bring it: named in its text, or in its condition.
    pub options: Vec<OptionId>,
}

impl Diagnosis<'_> {
    /// Returns what a failure leads to, the most telling first.
    pub fn hints(&self, failure: &Failure, step: &Step) -> Vec<Hint> {
        let said = failure.said.as_str();
        let mut hints = Vec::new();
        let crashed = matches!(failure.cause, Cause::Signal(signal) if [4, 6, 7, 8, 11].contains(&signal));
        if crashed || said.contains("internal compiler error") {
            let tool = step.tool().map_or_else(|| step.verb().to_string(), |tool| tool.name.clone());
            hints.push(Hint::ToolCrashed(tool));
        }
        let undefined = undefined_symbols(said);
        // Every object is read once, however many symbols are asked for.
        let (objects, left_over) = match undefined.is_empty() {
            true => (Vec::new(), Vec::new()),
            false => (self.objects(), self.left_over(&failure.left_over)),
        };
        hints.extend(
            undefined
                .into_iter()
                .take(SYMBOLS)
                .map(|(symbol, used_by)| self.undefined(step, symbol, used_by, &objects, &left_over)),
        );
        hints.extend(missing_libraries(said).into_iter().map(|name| {
            let need = self.board.needs.iter().find(|(_, need)| match &need.check {
                NeedCheck::Host(check) => check.link.contains(&name),
                NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => false,
            });
            Hint::NoLibrary(name, need.map(|(id, _)| id))
        }));
        for (flag, refused) in told_flags(said) {
            let from = self.flag_from(step, &flag);
            hints.push(Hint::Flag { flag, refused, from });
        }
        if !failure.gone.is_empty() {
            hints.push(Hint::Gone(failure.gone.clone()));
        }
        hints
    }

    /// What each object that was compiled defines for others, with the part that it belongs to.
    fn objects(&self) -> Vec<(Option<PartId>, BTreeSet<String>)> {
        let compiles = self.plan.steps.iter().filter(|(_, step)| step.compile().is_some());
        let object = |step: &Step| Some(step.writes.first()?.path(&self.plan.folders));
        compiles.filter_map(|(_, step)| Some((step.part, defined_symbols(&object(step)?, false)))).collect()
    }

    /// What each object of the last build that this one does not make defines, by its source.
    fn left_over(&self, objects: &[LeftOver]) -> Vec<(Location, BTreeSet<String>)> {
        let defined = |one: &LeftOver| defined_symbols(&one.object.path(&self.plan.folders), false);
        objects.iter().map(|one| (one.source.clone(), defined(one))).collect()
    }

    fn undefined(
        &self,
        step: &Step,
        symbol: String,
        used_by: Vec<String>,
        objects: &[(Option<PartId>, BTreeSet<String>)],
        left_over: &[(Location, BTreeSet<String>)],
    ) -> Hint {
        let left_out = self.left_out(&symbol);
        let is_told = |source: &str| left_out.iter().any(|(file, _)| file == source);
        let defining = left_over.iter().filter(|(_, defined)| defined.contains(&symbol)).map(|(source, _)| source);
        let was_in = defining
            .filter(|source| !is_told(&source.to_string()))
            .map(|source| WasIn { source: source.to_string(), is_there: source.path(&self.plan.folders).exists() });
        let linked: BTreeSet<PartId> = step.part.map_or_else(BTreeSet::new, |part| self.linked_with(part));
        let defining = objects.iter().filter(|(_, defined)| defined.contains(&symbol)).filter_map(|(part, _)| *part);
        let parts: BTreeSet<PartId> = defining.filter(|part| !linked.contains(part)).collect();
        let known: BTreeSet<&String> = objects.iter().flat_map(|(_, defined)| defined).collect();
        let named: BTreeSet<NeedId> = step
            .part
            .map_or_else(BTreeSet::new, |part| self.board.parts[part].needs.iter().map(|when| when.item).collect());
        let needs = self.board.needs.ids().filter(|need| !named.contains(need) && self.need_defines(*need, &symbol));
        let near = near_matches(&symbol, known.iter().map(|name| name.as_str()));
        Hint::Undefined(Undefined {
            used_by,
            parts: parts.into_iter().collect(),
            needs: needs.collect(),
            was_in: was_in.collect(),
            left_out,
            near: near.into_iter().filter(|name| *name != symbol).collect(),
            symbol,
        })
    }

    /// The part itself with all that it uses.
    fn linked_with(&self, part: PartId) -> BTreeSet<PartId> {
        let mut linked = BTreeSet::new();
        let mut open = vec![part];
        while let Some(next) = open.pop() {
            if linked.insert(next) {
                open.extend(self.board.parts[next].uses.iter().filter(|when| self.holds(when)).map(|when| when.item));
            }
        }
        linked
    }

    fn holds<T>(&self, when: &When<T>) -> bool {
        when.when.as_ref().is_none_or(|when| self.resolution.holds(self.facts, &when.expr))
    }

    fn need_defines(&self, need: NeedId, symbol: &str) -> bool {
        let Some(found) = self.facts.get(need).and_then(|fact| fact.found()) else { return false };
        let own = found.link_flags.iter().filter_map(|flag| flag.strip_prefix("-L")).map(PathBuf::from);
        let folders: Vec<PathBuf> = own.chain(self.library_folders.iter().cloned()).collect();
        let names = found.link_flags.iter().filter_map(|flag| flag.strip_prefix("-l"));
        names.into_iter().any(|name| {
            let file = folders.iter().map(|folder| folder.join(format!("lib{name}.so"))).find(|file| file.is_file());
            file.is_some_and(|file| shared(&file).iter().any(|file| defined_symbols(file, true).contains(symbol)))
        })
    }

    /// Sources of the tree that define a function, and that no step compiles now.
    fn left_out(&self, symbol: &str) -> Vec<(String, LeftOut)> {
        let built: BTreeSet<String> =
            self.plan.steps.iter().filter_map(|(_, step)| Some(step.source()?.to_string())).collect();
        let mut found = Vec::new();
        for file in self.listing.files().iter().filter(|file| !built.contains(file.as_str())) {
            let of = self.board.source_of(file);
            if let (Some(first), true) = (of.first(), is_code(file.extension())) {
                let text = std::fs::read_to_string(self.board.tree.source(file)).unwrap_or_default();
                if defines_function(&text, symbol) {
                    found.push((file.to_string(), first.clone()));
                }
            }
        }
        found
    }

    /// Finds where a flag comes from: the definitions that name it, the options that bring it.
    fn flag_from(&self, step: &Step, flag: &str) -> Option<FlagFrom> {
        let of_part = step.part.map(|part| &self.board.parts[part]);
        let chain = self.board.toolchains.of(of_part.map_or(Machine::Target, |part| part.machine));
        let all = chain.lists().into_iter().flatten();
        let own = of_part.into_iter().flat_map(|part| part.flags.iter().chain(&part.link_flags));
        for when in all.chain(own).filter(|when| self.holds(when)) {
            let text = self.text(&when.item);
            if text.split_whitespace().any(|word| word == flag || word.starts_with(&format!("{flag}="))) {
                let mut options: Vec<OptionId> = options_in(&when.item).collect();
                options.extend(when.when.iter().flat_map(|when: &Condition| crate::board::options_of(&when.expr)));
                let literal = when.item.pieces.iter().find_map(|piece| match piece {
                    Piece::Text(text) if !text.trim().is_empty() => Some(text.as_str()),
                    _ => None,
                });
                return Some(FlagFrom { place: literal.and_then(|text| self.line_with(text)), options });
            }
        }
        None
    }

    fn text(&self, text: &Interp) -> String {
        let piece = |piece: &Piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Option(option) => self.resolution.value(*option).to_string(),
            _ => String::new(),
        };
        text.pieces.iter().map(piece).collect()
    }

    /// The first line of the definitions that holds a text.
    fn line_with(&self, text: &str) -> Option<(String, usize)> {
        for name in self.board.files.names() {
            let file = std::fs::read_to_string(self.board.tree.definition_file(name)).unwrap_or_default();
            let line = file.lines().position(|line| line.contains(text) && !line.trim_start().starts_with('#'));
            if let Some(line) = line {
                return Some((name.to_string(), line + 1));
            }
        }
        None
    }
}

fn options_in(text: &Interp) -> impl Iterator<Item = OptionId> {
    text.pieces.iter().filter_map(|piece| match piece {
        Piece::Option(option) => Some(*option),
        _ => None,
    })
}

fn is_code(ending: &str) -> bool {
    ["c", "cc", "cpp", "cxx", "S", "s"].contains(&ending)
}

/// Tells whether a text looks as if it defines a function: the name by itself, a list in brackets, and then its body, or the sorts of what
/// is in the brackets before it.
fn defines_function(text: &str, name: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    text.match_indices(name).filter(|(at, _)| !text[..*at].ends_with(is_part)).any(|(at, _)| {
        let Some(list) = text[at + name.len()..].trim_start().strip_prefix('(') else { return false };
        let mut depth = 1;
        let end = list.find(|c| {
            depth += i32::from(c == '(') - i32::from(c == ')');
            depth == 0
        });
        let Some(rest) = end.map(|end| list[end + 1..].trim_start()) else { return false };
        let before_body = rest.split('{').next().unwrap_or_default();
        rest.starts_with('{') || rest.starts_with(is_part) && !before_body.contains(['(', '}', '='])
    })
}

/// A shared library, or those that a linker script in its place names.
fn shared(file: &Path) -> Vec<PathBuf> {
    let content = std::fs::read(file).unwrap_or_default();
    match std::str::from_utf8(&content) {
        Ok(script) => {
            let words = script.split([' ', '(', ')', '\n']);
            words.filter(|word| word.starts_with('/') && word.contains(".so")).map(PathBuf::from).collect()
        }
        Err(_) => vec![file.to_path_buf()],
    }
}

/// The symbols that a file defines for others; none when it cannot be read.
fn defined_symbols(file: &Path, dynamic: bool) -> BTreeSet<String> {
    let content = std::fs::read(file).unwrap_or_default();
    let Ok(parsed) = object::File::parse(&*content) else { return BTreeSet::new() };
    let name = |symbol: object::Symbol<'_, '_>| symbol.name().ok().map(str::to_string);
    let global = |symbol: &object::Symbol<'_, '_>| symbol.is_definition() && symbol.is_global();
    match dynamic {
        true => parsed.dynamic_symbols().filter(global).filter_map(name).collect(),
        false => parsed.symbols().filter(global).filter_map(name).collect(),
    }
}

/// Undefined symbols in a linker's words, each with who uses it.
fn undefined_symbols(said: &str) -> BTreeMap<String, Vec<String>> {
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut last: Option<String> = None;
    for line in said.lines() {
        if let Some((before, symbol)) = line.split_once("undefined reference to ") {
            let symbol = symbol.trim_matches(|c| "`'\"".contains(c)).to_string();
            let user = before.trim_end_matches([' ', ':']).rsplit(": ").next().unwrap_or_default();
            let user = user.split(":(").next().unwrap_or_default().trim();
            let users = found.entry(symbol).or_default();
            if !user.is_empty() && !users.iter().any(|known| known == user) {
                users.push(user.to_string());
            }
        } else if let Some((_, symbol)) = line.split_once("undefined symbol: ") {
            last = Some(symbol.trim().to_string());
            found.entry(symbol.trim().to_string()).or_default();
        } else if let (Some(user), Some(symbol)) = (line.trim().strip_prefix(">>> referenced by "), &last) {
            found.entry(symbol.clone()).or_default().push(user.split(':').next().unwrap_or(user).trim().to_string());
        }
    }
    found
}

/// Libraries that a linker does not find.
fn missing_libraries(said: &str) -> BTreeSet<String> {
    let after = |line: &str| {
        let rest = line.split_once("cannot find -l").or_else(|| line.split_once("unable to find library -l"))?.1;
        Some(rest.split([':', ' ', '\'']).next().unwrap_or_default().to_string())
    };
    said.lines().filter_map(after).filter(|name| !name.is_empty()).collect()
}

/// Flags in a compiler's words: those that it refuses, and those that make errors of warnings.
fn told_flags(said: &str) -> Vec<(String, bool)> {
    let mut flags: Vec<(String, bool)> = Vec::new();
    let quotes = ['\'', '‘', '’', '"', '`'];
    for line in said.lines() {
        let refused = ["unrecognized command-line option ", "unrecognized command line option ", "unknown argument: "]
            .iter()
            .find_map(|mark| line.split_once(mark))
            .map(|(_, rest)| rest.split(';').next().unwrap_or_default().trim_matches(quotes).to_string());
        let as_error = line.contains("[-Werror").then(|| "-Werror".to_string());
        let told = refused.map(|flag| (flag, true)).or(as_error.map(|flag| (flag, false)));
        if let Some(told) = told.filter(|told| !told.0.is_empty() && !flags.contains(told)) {
            flags.push(told);
        }
    }
    flags
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn linkers_are_understood() {
        let said = "/usr/bin/ld: objects/a.o: in function `main':\na.c:(.text+0x5): undefined reference to `lamp_on'\n\
                    /usr/bin/ld: b.c:(.text+0x9): undefined reference to `lamp_on'\ncollect2: error\n";
        let want = [("lamp_on".to_string(), vec!["a.c".to_string(), "b.c".to_string()])];
        assert_eq!(undefined_symbols(said), want.into());
        let said = "ld.lld: error: undefined symbol: tide\n>>> referenced by t.c:3 (src/t.c:3)\n";
        assert_eq!(undefined_symbols(said), [("tide".to_string(), vec!["t.c".to_string()])].into());
        let said = "/usr/bin/ld: cannot find -lgps: No such file or directory\n";
        assert_eq!(missing_libraries(said), ["gps".to_string()].into());
    }

    #[test]
    fn flags_are_found_in_the_words_of_compilers() {
        let said = "cc: error: unrecognized command-line option '-fnope'; did you mean '-fno-pe'?\n\
                    a.c:1:1: error: unused variable 'x' [-Werror=unused-variable]\n";
        assert_eq!(told_flags(said), [("-fnope".to_string(), true), ("-Werror".to_string(), false)]);
    }

    #[test]
    fn a_function_is_defined_with_its_body() {
        for text in ["int lamp_on(void)\n{", "lamp_on (int (*f)(void)) {", "int lamp_on(a)\n  int a;\n{ return a; }"] {
            assert!(defines_function(text, "lamp_on"), "{text}");
        }
        for text in [
            "int my_lamp_on(void) {}",
            "int lamp_only(void) {}",
            "int lamp_on;",
            "int lamp_on(void);\nint f(void) {}",
            "int f(void) { if (lamp_on(1)) { return lamp_on(2); } }",
            "int lamp_on(void) __attribute__((cold));\nint f(void) {}",
            "int lamp_on(",
        ] {
            assert!(!defines_function(text, "lamp_on"), "{text}");
        }
    }
}
