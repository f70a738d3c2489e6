//! What files ask the host for at run time: libraries, and the symbols that they use of them.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::PackageFault;
use super::architecture::Architecture;
use super::contents::{Packed, PackedFile};
use crate::install::{Elf, Searching, Symbol, Symbols, gets};
use crate::remedy::Family;

/// A library of the host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Library {
    /// The name by which it is asked for.
    pub name: String,
    /// Where it lies here.
    pub file: PathBuf,
    /// The package that owns it.
    pub owner: Option<String>,
}

/// All that files ask for beyond what is packed with them.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Needed {
    /// The libraries, by name.
    pub libraries: BTreeMap<String, Library>,
    /// Names that nothing here answers to.
    pub not_found: BTreeSet<String>,
    /// The symbols that they use.
    pub(super) symbols: BTreeSet<Symbol>,
    /// What kind of machine they are for.
    pub architecture: Option<Architecture>,
}

impl Needed {
    /// Takes what other files ask for, too.
    fn add(&mut self, more: &Needed) {
        self.libraries.extend(more.libraries.iter().map(|(name, library)| (name.clone(), library.clone())));
        self.not_found.extend(more.not_found.iter().cloned());
        self.symbols.extend(more.symbols.iter().cloned());
        self.architecture = self.architecture.or(more.architecture);
    }

    /// The packages that own the libraries, in order.
    pub(super) fn owners(&self) -> BTreeSet<&str> {
        self.libraries.values().filter_map(|library| library.owner.as_deref()).collect()
    }

    /// Joins what single files ask for.
    pub(super) fn of_all<'n>(all: impl IntoIterator<Item = &'n Needed>) -> Needed {
        let mut needed = Needed::default();
        all.into_iter().for_each(|more| needed.add(more));
        needed
    }
}

/// Works out what each of the files asks for, on the host below `root`. What one of them brings, the others do not ask the host for.
///
/// # Errors
/// They are for two kinds of machines, or for one that no package has a name for.
pub(super) fn needed(files: &[PackedFile], root: &Path) -> Result<Vec<Needed>, PackageFault> {
    let name_of = |path: &Path| path.file_name().map_or(String::new(), |name| name.to_string_lossy().into_owned());
    let own: BTreeSet<String> = files.iter().map(|file| name_of(&file.path)).collect();
    let searching = Searching::of("", "", root);
    let mut first: Option<(Architecture, &Path)> = None;
    let mut all = Vec::with_capacity(files.len());
    for file in files {
        let mut needed = Needed::default();
        if let Packed::File { source, .. } = &file.packed
            && let Some(elf) = Elf::of(source, Symbols::Read)
        {
            let machine = Architecture::of_elf(elf.machine)
                .ok_or_else(|| PackageFault::UnknownMachine { file: file.path.clone(), number: elf.machine })?;
            let (one, at) = *first.get_or_insert((machine, &file.path));
            if one != machine {
                let (first, second) = (at.to_path_buf(), file.path.clone());
                return Err(PackageFault::TwoMachines { first, one, second, other: machine });
            }
            needed.architecture = Some(machine);
            let asks = elf.asks.unwrap_or_default();
            needed.symbols.extend(asks.symbols);
            for name in asks.libraries.into_iter().filter(|name| !own.contains(name)) {
                match gets(&name, &file.path, &asks.run_paths, &searching) {
                    Some(at) => {
                        let file = at.canonicalize().unwrap_or(at);
                        needed.libraries.insert(name.clone(), Library { name, file, owner: None });
                    }
                    None => drop(needed.not_found.insert(name)),
                }
            }
        }
        all.push(needed);
    }
    find_owners(&mut all, root);
    Ok(all)
}

fn find_owners(all: &mut [Needed], root: &Path) {
    let place = |library: &Library| library.file.display().to_string();
    let places: BTreeSet<String> = all.iter().flat_map(|needed| needed.libraries.values()).map(place).collect();
    if places.is_empty() {
        return;
    }
    let owners = Family::Debian.owners(root, &places);
    for library in all.iter_mut().flat_map(|needed| needed.libraries.values_mut()) {
        library.owner = owners.get(&place(library)).map(ToString::to_string);
    }
}
