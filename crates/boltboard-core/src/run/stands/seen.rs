//! From what a command was seen to do to what its result stands on.
//!
//! What a step makes itself, and what lies where it puts things aside, is its own affair; so are the kernel's folders of processes and
//! devices.

use std::collections::{BTreeSet, HashSet};
use std::ffi::{OsStr, OsString};
use std::path::{Path, PathBuf};

use crate::base::RelPath;
use crate::step::{Location, Look};
use crate::watch::{Deed, DeedSort, Process, Sight};
use crate::work::Folders;

/// Folders of the kernel, in which what is read says nothing about files.
const OF_THE_KERNEL: [&str; 3] = ["/proc", "/sys", "/dev"];
/// Folders within them that hold files like any other.
const OF_PEOPLE: [&str; 1] = ["/dev/shm"];

/// The index of shared libraries, which changes with every one that is installed. What counts of it is which libraries it leads to, and
/// these are seen as they are opened.
const INDEX_OF_LIBRARIES: &str = "/etc/ld.so.cache";

/// Folders in which version controls keep what they know of a tree. They write there also when they are only asked.
const VERSION_CONTROLS: [&str; 6] = [".git", ".hg", ".svn", ".bzr", ".jj", "_darcs"];

/// What a command stands on.
#[derive(Debug, Clone, Default, PartialEq)]
pub(in crate::run) struct Seen {
    /// What it looked at and found.
    pub looks: BTreeSet<Look>,
    /// Where it looked in vain.
    pub absent: BTreeSet<Location>,
}

/// How much of a status counts where one was asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Statuses {
    /// All of it: nobody knows what a generator makes of it.
    Wholly,
    /// The sort of thing and the permissions: compilers and linkers ask for nothing else.
    Modes,
}

/// Reads sights of the commands of one build.
pub(in crate::run) struct Seeing<'a> {
    folders: &'a Folders,
    /// What is not looked at: where the command puts things aside, the store.
    own: Vec<PathBuf>,
    /// The folders of the tree and the build with all links followed, as the kernel names them, and as we do.
    renamed: Vec<(PathBuf, PathBuf)>,
}

impl<'a> Seeing<'a> {
    /// `own` are folders whose files do not count.
    pub fn new(folders: &'a Folders, own: Vec<PathBuf>) -> Seeing<'a> {
        let pair = |folder: &PathBuf| Some((folder.canonicalize().ok()?, folder.clone()));
        let renamed =
            [&folders.build, &folders.tree].into_iter().filter_map(pair).filter(|(real, known)| real != known);
        Seeing { folders, own, renamed: renamed.collect() }
    }

    /// The location of a place; `None` where it does not count.
    fn location(&self, path: &Path) -> Option<Location> {
        let within = |folders: &[&str]| folders.iter().any(|folder| path.starts_with(folder));
        if within(&OF_THE_KERNEL) && !within(&OF_PEOPLE) || path == Path::new(INDEX_OF_LIBRARIES) {
            return None;
        }
        let known = self.renamed.iter().find_map(|(real, known)| Some(known.join(path.strip_prefix(real).ok()?)));
        let path = known.as_deref().unwrap_or(path);
        let location = Location::of(path, self.folders);
        match location {
            Location::Made(_) | Location::Object(_) | Location::Output(_) => Some(location),
            // Beside its folders of results, the build's folder holds what is kept of it.
            Location::Tree(_) | Location::System(_) => {
                let ours = path.starts_with(&self.folders.build) || self.lies_aside(path);
                (!ours).then_some(location)
            }
        }
    }

    /// What a whole command stands on.
    pub fn whole(&self, sight: &Sight) -> Seen {
        let made = made_by(sight);
        let mut seen = Seen::default();
        for (_, deed) in sight.deeds() {
            if deed.path.to_str().is_none() {
                seen.looks.insert(Look::Unseen);
            } else if let Some(at) = self.place(deed, &made) {
                seen.add(deed, at, Statuses::Wholly, false);
            }
        }
        seen.tidy();
        seen
    }

    /// What a step of a class stands on: first what is its own, then what all of its class stand on. A process has begun with its own work
    /// once it has opened what `begins` tells, or something that lies aside; `inputs`, and files of their names, are its own whoever looks
    /// for them. `interface` tells of which files only the interface counts once a process has begun.
    pub fn of_class(
        &self,
        sight: &Sight,
        inputs: &HashSet<Location>,
        begins: &dyn Fn(&Location) -> bool,
        interface: &dyn Fn(&Location) -> bool,
    ) -> (Seen, Seen) {
        let made = made_by(sight);
        let name_of = |at: &Location| at.path(self.folders).file_name().map(OsStr::to_os_string);
        let names: HashSet<OsString> = inputs.iter().filter_map(name_of).collect();
        let (mut own, mut of_class) = (Seen::default(), Seen::default());
        for process in &sight.processes {
            let mut begun = false;
            for deed in &process.deeds {
                if deed.path.to_str().is_none() {
                    // What has no name that can be kept cannot be looked at again.
                    own.looks.insert(Look::Unseen);
                    continue;
                }
                let Some(at) = self.place(deed, &made) else {
                    begun |= deed.sort == DeedSort::Opened && self.lies_aside(&deed.path);
                    continue;
                };
                begun |= deed.sort == DeedSort::Opened && begins(&at);
                let name = deed.path.file_name().map(OsStr::to_os_string);
                let is_own = begun || inputs.contains(&at) || name.is_some_and(|name| names.contains(&name));
                let of_interface = begun && interface(&at);
                let seen = if is_own { &mut own } else { &mut of_class };
                seen.add(deed, at, Statuses::Modes, of_interface);
            }
        }
        // That an input is there says of the folders above it all that one can ask.
        let above: HashSet<PathBuf> = inputs
            .iter()
            .flat_map(|at| at.path(self.folders).ancestors().skip(1).map(Path::to_path_buf).collect::<Vec<_>>())
            .collect();
        for seen in [&mut own, &mut of_class] {
            seen.looks.retain(|look| !matches!(look, Look::Mode(at) if above.contains(&at.path(self.folders))));
            seen.tidy();
        }
        (own, of_class)
    }

    /// Tells whether a file is one that a version control keeps; its locks come and go.
    fn is_kept_by_version_control(&self, path: &Path) -> bool {
        let at = self.location(path);
        matches!(at, Some(Location::Tree(at)) if of_version_control(&at)) && path.exists()
    }

    fn lies_aside(&self, path: &Path) -> bool {
        self.own.iter().any(|folder| path.starts_with(folder))
    }

    /// The place of a deed, where it counts.
    fn place(&self, deed: &Deed, made: &HashSet<&Path>) -> Option<Location> {
        let counts = match deed.sort {
            DeedSort::Wrote | DeedSort::Removed | DeedSort::Renamed { .. } => false,
            DeedSort::Ran
            | DeedSort::Opened
            | DeedSort::Missed
            | DeedSort::Listed
            | DeedSort::Asked
            | DeedSort::AskedLink => {
                // What a version control writes anew of what it knows says the same as before.
                !made.contains(deed.path.as_path()) || self.is_kept_by_version_control(&deed.path)
            }
        };
        if counts { self.location(&deed.path) } else { None }
    }

    /// Places of the tree that a command wrote to.
    pub fn written(&self, sight: &Sight) -> BTreeSet<Location> {
        let wrote = |(_, deed): &(&Process, &Deed)| matches!(deed.sort, DeedSort::Wrote | DeedSort::Renamed { .. });
        let places = sight.deeds().filter(wrote).filter_map(|(_, deed)| self.location(&deed.path));
        places.filter(|at| at.path(self.folders).exists()).collect()
    }
}

/// Tells whether a file of the tree is one of those in which a version control keeps what it knows.
pub(super) fn of_version_control(path: &RelPath) -> bool {
    path.as_str().split('/').any(|folder| VERSION_CONTROLS.contains(&folder))
}

/// All that the processes of a command made.
fn made_by(sight: &Sight) -> HashSet<&Path> {
    let made = sight.deeds().filter(|(_, deed)| matches!(deed.sort, DeedSort::Wrote | DeedSort::Renamed { .. }));
    made.map(|(_, deed)| deed.path.as_path()).collect()
}

impl Seen {
    fn add(&mut self, deed: &Deed, at: Location, statuses: Statuses, of_interface: bool) {
        let look = match deed.sort {
            // A queue or a device has no content that stays.
            DeedSort::Ran | DeedSort::Opened if !deed.path.is_file() => return,
            DeedSort::Opened if of_interface => Look::Interface(at),
            DeedSort::Ran | DeedSort::Opened => Look::Content(at),
            DeedSort::Listed => Look::Names(at),
            DeedSort::Asked => match (statuses, &at) {
                // It is written anew whenever somebody asks it something.
                (Statuses::Wholly, Location::Tree(path)) if of_version_control(path) => Look::Mode(at),
                (Statuses::Wholly, _) => Look::Status(at),
                (Statuses::Modes, _) => Look::Mode(at),
            },
            DeedSort::AskedLink => Look::Leads(at),
            DeedSort::Missed => {
                self.absent.insert(at);
                return;
            }
            DeedSort::Wrote | DeedSort::Removed | DeedSort::Renamed { .. } => return,
        };
        self.looks.insert(look);
    }

    /// Leaves out what follows from the rest.
    fn tidy(&mut self) {
        let contents: BTreeSet<Location> = self
            .looks
            .iter()
            .filter_map(|look| match look {
                Look::Content(at) => Some(at.clone()),
                _ => None,
            })
            .collect();
        self.looks.retain(|look| match look {
            Look::Interface(at) => !contents.contains(at),
            _ => true,
        });
        let found: BTreeSet<&Location> = self.looks.iter().filter_map(Look::place).collect();
        self.absent.retain(|at| !found.contains(at));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn deed(sort: DeedSort, path: &Path) -> Deed {
        Deed { sort, path: path.to_path_buf() }
    }

    #[test]
    fn what_is_made_and_what_lies_aside_does_not_count() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let folders = Folders { tree: root.join("tree"), build: root.join("work/build") };
        for name in [
            "tree/a.c",
            "tree/gen.sh",
            "tree/out.txt",
            "work/build/made/b.h",
            "work/build/journal",
            "work/build/aside/0/x.o",
            "work/store/x",
        ] {
            let file = root.join(name);
            std::fs::create_dir_all(file.parent().unwrap()).unwrap();
            std::fs::write(file, "").unwrap();
        }
        let seeing = Seeing::new(&folders, vec![folders.aside(), root.join("work")]);
        let deeds = vec![
            deed(DeedSort::Ran, &root.join("tree/gen.sh")),
            deed(DeedSort::Opened, &root.join("work/store/x")),
            deed(DeedSort::Opened, &root.join("tree/a.c")),
            deed(DeedSort::Opened, &root.join("work/build/made/b.h")),
            deed(DeedSort::Opened, &root.join("work/build/journal")),
            deed(DeedSort::Opened, &root.join("work/build/aside/0/x.o")),
            deed(DeedSort::Wrote, &root.join("tree/out.txt")),
            deed(DeedSort::Opened, &root.join("tree/out.txt")),
            deed(DeedSort::Missed, &root.join("tree/gone.h")),
            deed(DeedSort::Asked, &root.join("tree/a.c")),
            deed(DeedSort::Listed, &root.join("tree")),
            deed(DeedSort::Opened, Path::new("/dev/null")),
            deed(DeedSort::Opened, Path::new("/proc/self/maps")),
            deed(DeedSort::Missed, Path::new("/dev/shm/never/there.h")),
            deed(DeedSort::Missed, Path::new("/dev/never-there")),
        ];
        let sight = Sight { processes: vec![Process { deeds, ..Process::default() }], blind: None };
        let seen = seeing.whole(&sight);
        let tree = |name: &str| Location::Tree(RelPath::parse(name).unwrap());
        let made = Location::Made(RelPath::parse("b.h").unwrap());
        let looks = [
            Look::Content(tree("a.c")),
            Look::Content(tree("gen.sh")),
            Look::Content(made),
            Look::Names(Location::Tree(RelPath::root())),
            Look::Status(tree("a.c")),
        ];
        assert_eq!(seen.looks, looks.into());
        let in_memory = Location::System("/dev/shm/never/there.h".into());
        assert_eq!(seen.absent, [tree("gone.h"), in_memory].into());
        assert_eq!(seeing.written(&sight), [tree("out.txt")].into());
    }

    #[test]
    fn what_comes_before_the_source_is_that_of_the_class() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let folders = Folders { tree: root.join("tree"), build: root.join("work/build") };
        std::fs::create_dir_all(&folders.tree).unwrap();
        let at = |name: &str| Location::Tree(RelPath::parse(name).unwrap());
        for name in ["a.c", "b.h", "tool"] {
            std::fs::write(folders.tree.join(name), "").unwrap();
        }
        let path = |name: &str| folders.tree.join(name);
        let deeds = vec![
            deed(DeedSort::Ran, &path("tool")),
            deed(DeedSort::Missed, &path("tool.specs")),
            deed(DeedSort::Opened, &path("a.c")),
            deed(DeedSort::Missed, &path("c.h")),
            deed(DeedSort::Opened, &path("b.h")),
        ];
        let other = vec![deed(DeedSort::Missed, &path("x/b.h")), deed(DeedSort::Missed, &path("x/y"))];
        let processes = [deeds, other].map(|deeds| Process { deeds, ..Process::default() }).to_vec();
        let sight = Sight { processes, blind: None };
        let inputs: HashSet<Location> = [at("a.c"), at("b.h")].into();
        let begins = |place: &Location| *place == at("a.c");
        let (own, of_class) = Seeing::new(&folders, vec![]).of_class(&sight, &inputs, &begins, &|_| false);
        assert_eq!(own.absent, [at("c.h"), at("x/b.h")].into());
        assert_eq!(own.looks, [Look::Content(at("a.c")), Look::Content(at("b.h"))].into());
        assert_eq!(of_class.absent, [at("tool.specs"), at("x/y")].into());
        assert_eq!(of_class.looks, [Look::Content(at("tool"))].into());
    }
}
