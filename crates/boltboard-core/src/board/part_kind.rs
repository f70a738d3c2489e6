//! The kinds of parts: one table of all in which they differ, so that nobody else lists them.

use super::generator::Generator;
use super::lists::{ListDef, ModuleForm};
use super::part::ModuleRole;

/// What sort of thing a part is.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub enum PartKind {
    /// A program.
    Program,
    /// An archive of objects.
    StaticLibrary,
    /// A shared library; the number is that of its interface (`soname`).
    SharedLibrary {
        /// The interface's version, part of the file's name.
        interface: Option<String>,
    },
    /// A module of a program, loadable or built in as its option says.
    Module(ModuleRole),
    /// Objects that others link.
    Objects,
    /// One object that is linked of many.
    PartialLink,
    /// What a folder gives to a part, by options; no definition names it.
    List(ListDef),
    /// Files made by a command, a template or from the board.
    Generated(Generator),
    /// Files as they are.
    Data,
}

/// How a part is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Making {
    /// Of objects: its sources are compiled, and this is done with them.
    OfObjects(Ending),
    /// By its generator.
    Generated,
    /// Its files are copied.
    Copied,
}

/// What the objects of a part end in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// Nothing of its own: others link them.
    Loose,
    /// An archive.
    Archive,
    /// A link that can run.
    Program,
    /// A link that can be shared or loaded.
    Shared,
    /// A link that is one object, which others link again.
    Partial,
}

impl Ending {
    /// The words with which a compiler links so.
    pub fn words(self) -> &'static [&'static str] {
        match self {
            Ending::Shared => &["-shared"],
            // What a whole program is linked with comes when it is linked wholly.
            Ending::Partial => &["-r", "-nostdlib"],
            Ending::Program | Ending::Archive | Ending::Loose => &[],
        }
    }

    /// Tells whether it is a file of its own.
    pub fn is_file(self) -> bool {
        self != Ending::Loose
    }
}

/// A row of the table.
struct Row {
    /// Its name in definitions and for people.
    name: &'static str,
    making: Making,
    /// Whether its objects become part of what uses it.
    is_taken_in: bool,
    /// Where it lies among the finished parts: what comes before and after its name.
    place: Option<(&'static str, &'static str)>,
    /// Whether what is installed of it can be run or loaded.
    is_code: bool,
}

impl PartKind {
    /// All kinds' names, as written in definitions.
    pub const NAMES: [&'static str; 8] =
        ["program", "static-library", "shared-library", "module", "objects", "partial-link", "generated", "data"];

    fn row(&self) -> Row {
        let row = |name, ending, is_taken_in, place| {
            let is_code = matches!(ending, Ending::Program | Ending::Shared);
            Row { name, making: Making::OfObjects(ending), is_taken_in, place, is_code }
        };
        match self {
            PartKind::Program => row("program", Ending::Program, false, Some(("bin/", ""))),
            PartKind::StaticLibrary => row("static-library", Ending::Archive, true, Some(("lib/lib", ".a"))),
            PartKind::SharedLibrary { .. } => row("shared-library", Ending::Shared, false, Some(("lib/lib", ".so"))),
            PartKind::Module(role) => {
                let ending = match role.form {
                    ModuleForm::Shared => Ending::Shared,
                    ModuleForm::Partial => Ending::Partial,
                };
                Row { is_code: true, ..row("module", ending, false, Some(("lib/{tree}/", ".so"))) }
            }
            PartKind::Objects => row("objects", Ending::Loose, true, None),
            PartKind::PartialLink => row("partial-link", Ending::Partial, true, Some(("lib/", ".o"))),
            PartKind::List(_) => row("list", Ending::Loose, true, None),
            PartKind::Generated(_) => Row { making: Making::Generated, ..row("generated", Ending::Loose, false, None) },
            PartKind::Data => {
                Row { making: Making::Copied, ..row("data", Ending::Loose, false, Some(("share/{tree}", ""))) }
            }
        }
    }

    /// Returns the kind's name.
    pub fn name(&self) -> &'static str {
        self.row().name
    }

    /// Returns how such a part is made.
    pub fn making(&self) -> Making {
        self.row().making
    }

    /// Returns what the objects of such a part end in, `None` where it is made of none.
    pub fn ending(&self) -> Option<Ending> {
        match self.making() {
            Making::OfObjects(ending) => Some(ending),
            Making::Generated | Making::Copied => None,
        }
    }

    /// Tells whether it is a library that is shared: a module ends alike, and nobody links it.
    pub fn is_shared_library(&self) -> bool {
        matches!(self, PartKind::SharedLibrary { .. })
    }

    /// Tells whether such a part ends in a file that is linked or an archive.
    pub fn is_linked(&self) -> bool {
        self.ending().is_some_and(Ending::is_file)
    }

    /// Tells whether the objects of such a part end in what others link.
    pub fn is_taken_in(&self) -> bool {
        self.row().is_taken_in
    }

    /// Tells whether such a part, or what takes it in, can be shared or loaded, with the objects of what it uses.
    pub fn carries_objects(&self) -> bool {
        self.is_taken_in() || self.module().is_some() || self.ending() == Some(Ending::Shared)
    }

    /// Tells whether what is installed of such a part can be run or loaded.
    pub fn is_code(&self) -> bool {
        self.row().is_code
    }

    /// Returns where a part of this name lies among the finished parts, `None` where it has no file of a name of its own.
    pub fn usual_place(&self, name: &str, tree: &str) -> Option<String> {
        let (before, after) = self.row().place?;
        let before = before.replace("{tree}", tree);
        Some(match self.making() {
            Making::Copied => before,
            // No file is called `liblib…`.
            _ if before.ends_with("/lib") => format!("{before}{}{after}", name.trim_start_matches("lib")),
            _ => format!("{before}{name}{after}"),
        })
    }

    /// Returns its place in its program, of a module.
    pub fn module(&self) -> Option<&ModuleRole> {
        match self {
            PartKind::Module(role) => Some(role),
            _ => None,
        }
    }

    /// Returns what makes it, of a generated part.
    pub fn generator(&self) -> Option<&Generator> {
        match self {
            PartKind::Generated(generator) => Some(generator),
            _ => None,
        }
    }

    /// Returns what is in it, of a list.
    pub fn list(&self) -> Option<&ListDef> {
        match self {
            PartKind::List(list) => Some(list),
            _ => None,
        }
    }

    /// Returns the version of its interface, of a shared library that has one.
    pub fn interface(&self) -> Option<&str> {
        match self {
            PartKind::SharedLibrary { interface } => interface.as_deref(),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_lie_where_people_look_for_them() {
        for (kind, want) in [
            (PartKind::Program, Some("bin/lamp")),
            (PartKind::StaticLibrary, Some("lib/liblamp.a")),
            (PartKind::SharedLibrary { interface: None }, Some("lib/liblamp.so")),
            (PartKind::PartialLink, Some("lib/lamp.o")),
            (PartKind::Objects, None),
            (PartKind::Data, Some("share/skerry")),
        ] {
            assert_eq!(kind.usual_place("lamp", "skerry").as_deref(), want, "{}", kind.name());
        }
        assert_eq!(PartKind::StaticLibrary.usual_place("liblamp", "skerry").as_deref(), Some("lib/liblamp.a"));
    }

    #[test]
    fn every_name_of_definitions_is_that_of_a_kind() {
        let kinds = [
            PartKind::Program,
            PartKind::StaticLibrary,
            PartKind::SharedLibrary { interface: None },
            PartKind::Objects,
            PartKind::PartialLink,
            PartKind::Data,
        ];
        for kind in kinds {
            assert!(PartKind::NAMES.contains(&kind.name()));
        }
    }
}
