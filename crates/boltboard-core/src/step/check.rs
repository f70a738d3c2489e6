//! Checks that every loadable module of a program can be loaded: each name that it leaves open is one that the program lets modules use,
//! that another module gives, or that a library gives which it brings along. Found when it is linked, not when somebody loads it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use object::{Endianness, Object, ObjectSection, ObjectSymbol};

use super::kind::{Acts, Made, MakeFault, Makes, Sees, Step};
use super::location::Location;
use crate::base::files::write_from;
use crate::base::{Digest, FileError};
use crate::work::Folders;

/// How many names that nobody gives are told.
const MOST_TOLD: usize = 12;

/// Checks the loadable modules of a program.
#[derive(Debug, Clone)]
pub struct Check {
    /// The program's file.
    pub program: Location,
    /// Its modules' files.
    pub modules: Vec<Location>,
    /// Which names of the program they can use.
    pub usable: Usable,
    /// Where libraries are looked for: those of the tree first.
    pub library_folders: Vec<Location>,
}

/// Which names modules can use.
#[derive(Debug, Clone)]
pub enum Usable {
    /// What is shown to whatever is loaded, and what libraries give that are loaded with it.
    Dynamic,
    /// What a file lists, one a line.
    Listed(Location),
    /// What a symbol names that begins so.
    Marked(String),
    /// All that is defined.
    Defined,
}

/// A name that nobody gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OpenName {
    /// The module that needs it.
    pub module: String,
    /// The name.
    pub name: String,
    /// Who defines it without letting modules use it.
    pub hidden_in: Option<String>,
}

/// Modules that cannot be loaded.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{}", self.shown())]
pub struct Unloadable(pub Vec<OpenName>);

impl Unloadable {
    fn shown(&self) -> String {
        let one = |open: &OpenName| match &open.hidden_in {
            Some(place) => format!(
                "{} cannot be loaded: {place} defines `{}` and does not let modules use it",
                open.module, open.name
            ),
            None => format!("{} cannot be loaded: nobody defines `{}`", open.module, open.name),
        };
        let mut lines: Vec<String> = self.0.iter().take(MOST_TOLD).map(one).collect();
        if self.0.len() > MOST_TOLD {
            lines.push(format!("and {} names more", self.0.len() - MOST_TOLD));
        }
        lines.join("\n")
    }
}

/// What an object file says of names.
#[derive(Debug, Default)]
struct Names {
    /// Those that it defines for others.
    defined: BTreeSet<String>,
    /// Those that it shows to what is loaded.
    dynamic: BTreeSet<String>,
    /// Those that it cannot do without.
    open: BTreeSet<String>,
    /// Libraries that are loaded with it.
    libraries: Vec<String>,
}

impl Check {
    fn read(path: &Path, looked: &mut Vec<(Location, Digest)>, at: Location) -> Result<Vec<u8>, FileError> {
        let content = std::fs::read(path).map_err(FileError::on("read", path))?;
        looked.push((at, Digest::of(&content)));
        Ok(content)
    }

    /// Names of all libraries that are loaded with these files, and of what these bring along; `None` where one is not found.
    fn of_libraries(
        &self,
        first: impl Iterator<Item = String>,
        folders: &Folders,
        looked: &mut Vec<(Location, Digest)>,
    ) -> Result<Option<BTreeSet<String>>, FileError> {
        let places: Vec<PathBuf> = self.library_folders.iter().map(|at| at.path(folders)).collect();
        let mut names = BTreeSet::new();
        let mut open: Vec<String> = first.collect();
        let mut met: BTreeSet<String> = open.iter().cloned().collect();
        while let Some(library) = open.pop() {
            let Some(path) = places.iter().map(|folder| folder.join(&library)).find(|path| path.is_file()) else {
                return Ok(None);
            };
            let content = Check::read(&path, looked, Location::of(&path, folders))?;
            let found = names_of(&content);
            names.extend(found.dynamic);
            open.extend(found.libraries.into_iter().filter(|library| met.insert(library.clone())));
        }
        Ok(Some(names))
    }

    /// The names of the program that modules can use.
    fn usable(
        &self,
        program: &Names,
        folders: &Folders,
        looked: &mut Vec<(Location, Digest)>,
    ) -> Result<BTreeSet<String>, FileError> {
        Ok(match &self.usable {
            Usable::Dynamic => program.dynamic.clone(),
            Usable::Defined => program.defined.clone(),
            Usable::Marked(mark) => marked(&program.defined, mark),
            Usable::Listed(file) => {
                let content = Check::read(&file.path(folders), looked, file.clone())?;
                let text = String::from_utf8_lossy(&content);
                let words = text.lines().filter_map(|line| line.split_whitespace().next());
                words.map(str::to_string).collect()
            }
        })
    }
}

impl Acts for Check {
    fn tag(&self) -> &'static str {
        "check 1"
    }

    fn verb(&self) -> &'static str {
        "check"
    }

    fn command(&self, _: &Step) -> Vec<String> {
        Vec::new()
    }

    fn decides(&self) -> Vec<String> {
        let places = self.library_folders.iter().chain([&self.program]).chain(&self.modules).map(Location::kept);
        std::iter::once(format!("{:?}", self.usable)).chain(places).collect()
    }

    fn sees(&self) -> Sees {
        Sees::Declared
    }
}

impl Makes for Check {
    fn make(&self, step: &Step, folders: &Folders) -> Result<Made, MakeFault> {
        let mut looked = Vec::new();
        let program = names_of(&Check::read(&self.program.path(folders), &mut looked, self.program.clone())?);
        let mut modules: BTreeMap<&Location, Names> = BTreeMap::new();
        for module in &self.modules {
            let content = Check::read(&module.path(folders), &mut looked, module.clone())?;
            modules.insert(module, names_of(&content));
        }
        let mut given = self.usable(&program, folders, &mut looked)?;
        for names in modules.values() {
            match &self.usable {
                Usable::Dynamic => given.extend(names.dynamic.iter().cloned()),
                Usable::Marked(mark) => given.extend(marked(&names.defined, mark)),
                Usable::Listed(_) | Usable::Defined => given.extend(names.defined.iter().cloned()),
            }
        }
        let libraries = std::iter::once(&program).chain(modules.values()).flat_map(|names| names.libraries.clone());
        let of_libraries = match &self.usable {
            Usable::Dynamic => self.of_libraries(libraries, folders, &mut looked)?,
            Usable::Listed(_) | Usable::Marked(_) | Usable::Defined => Some(BTreeSet::new()),
        };
        let mut text = String::new();
        let mut open = Vec::new();
        for (module, names) in &modules {
            let wanted = names.open.iter().filter(|name| !given.contains(*name));
            // Of a library that is not found nobody knows what it gives.
            let wanted = wanted.filter(|name| of_libraries.as_ref().is_some_and(|given| !given.contains(*name)));
            open.extend(wanted.map(|name| {
                OpenName {
                    module: module.to_string(),
                    name: name.clone(),
                    hidden_in: std::iter::once((&self.program, &program))
                        .chain(modules.iter().map(|(at, names)| (*at, names)))
                        .find(|(at, other)| at != module && other.defined.contains(name))
                        .map(|(at, _)| at.to_string()),
                }
            }));
            let givers = modules.iter().filter(|(other, _)| *other != module);
            let from = givers.filter(|(_, other)| names.open.iter().any(|name| other.defined.contains(name)));
            let from: Vec<String> = from.map(|(other, _)| other.to_string()).collect();
            text.push_str(&format!("{module}: {}\n", from.join(" ")));
        }
        if !open.is_empty() {
            return Err(MakeFault::Unloadable(Unloadable(open)));
        }
        write_from(&folders.aside(), &step.writes[0].path(folders), &[text.as_bytes()], 0o644)?;
        Ok(Made { digest: Digest::of(text.as_bytes()), mode: 0o644, looked })
    }
}

/// What stands behind a mark at the beginning of names.
fn marked(names: &BTreeSet<String>, mark: &str) -> BTreeSet<String> {
    names.iter().filter_map(|name| name.strip_prefix(mark)).map(str::to_string).collect()
}

fn names_of(content: &[u8]) -> Names {
    let Ok(file) = object::File::parse(content) else { return Names::default() };
    let mut names = Names::default();
    let text = |symbol: &object::Symbol<'_, '_>| symbol.name().ok().filter(|name| !name.is_empty()).map(str::to_string);
    // Whatever sort of symbol it is: functions that are chosen when they are loaded are of one of their own.
    for symbol in file.symbols().filter(|symbol| !symbol.is_undefined()) {
        names.defined.extend(text(&symbol));
    }
    for symbol in file.dynamic_symbols().filter(|symbol| !symbol.is_undefined() && !symbol.is_local()) {
        names.dynamic.extend(text(&symbol));
    }
    let shared = file.dynamic_symbols().next().is_some();
    let looks_for = |symbol: &object::Symbol<'_, '_>| symbol.is_undefined() && !symbol.is_weak();
    match shared {
        true => names.open.extend(file.dynamic_symbols().filter(looks_for).filter_map(|symbol| text(&symbol))),
        false => names.open.extend(file.symbols().filter(looks_for).filter_map(|symbol| text(&symbol))),
    }
    names.libraries = libraries_of(&file);
    names
}

/// The libraries that a file says are loaded with it (its `DT_NEEDED` entries, as the generic ABI of ELF has them).
fn libraries_of(file: &object::File<'_>) -> Vec<String> {
    const NEEDED: u64 = 1;
    let data = |name: &str| file.section_by_name(name).and_then(|section| section.data().ok()).unwrap_or_default();
    let (entries, strings) = (data(".dynamic"), data(".dynstr"));
    let width = if file.is_64() { 8 } else { 4 };
    let number = |bytes: &[u8]| {
        let step = |number: u64, byte: &u8| number << 8 | u64::from(*byte);
        match file.endianness() {
            Endianness::Little => bytes.iter().rev().fold(0, step),
            Endianness::Big => bytes.iter().fold(0, step),
        }
    };
    let entries = entries.chunks_exact(2 * width).map(|entry| (number(&entry[..width]), number(&entry[width..])));
    let name = |at: u64| {
        let rest = strings.get(usize::try_from(at).ok()?..)?;
        let end = rest.iter().position(|byte| *byte == 0)?;
        String::from_utf8(rest[..end].to_vec()).ok()
    };
    entries.filter(|(tag, _)| *tag == NEEDED).filter_map(|(_, at)| name(at)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_object_has_no_names() {
        for file in [&b""[..], b"\x7fELF", &[0x7f; 400]] {
            let names = names_of(file);
            assert!(names.defined.is_empty() && names.open.is_empty() && names.libraries.is_empty());
        }
    }

    #[test]
    fn this_very_program_brings_its_libraries_along() {
        let program = std::fs::read(std::env::current_exe().unwrap()).unwrap();
        let names = names_of(&program);
        assert!(names.libraries.iter().any(|library| library.starts_with("libc.so")), "{:?}", names.libraries);
        assert!(!names.open.is_empty() && names.defined.len() > 100);
    }

    #[test]
    fn names_that_nobody_gives_are_told_with_both() {
        let open = |hidden_in: Option<&str>| OpenName {
            module: "out/x.so".into(),
            name: "fog".into(),
            hidden_in: hidden_in.map(str::to_string),
        };
        assert_eq!(Unloadable(vec![open(None)]).to_string(), "out/x.so cannot be loaded: nobody defines `fog`");
        let told = Unloadable(vec![open(Some("out/bin/p")); 20]).to_string();
        assert!(
            told.contains("out/bin/p defines `fog` and does not let modules use it") && told.contains("8 names more")
        );
    }
}
