//! Reading installed metadata files (`.pc`): version and flags of a library, and of what it requires.
//!
//! Both the public and the private requirements of a library give compile flags, because its headers may include theirs; only a
//! static link takes the private libraries. A public requirement must be there, in a version that fits. Libraries may lead
//! back to each other through private requirements, and then each is read once.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};

use super::passed_on::{For, refused};
use crate::base::{Version, VersionRange, shell_words};
use crate::checks::LibraryLinkage;

/// The largest file that is read, in bytes.
const MAX_FILE: u64 = 1024 * 1024;
/// How long a text may become when its variables are filled in, in bytes.
const MAX_TEXT: usize = 64 * 1024;
/// How many libraries one may require in all.
const MAX_FILES: usize = 512;

/// Where metadata files are looked for, and what their paths mean.
#[derive(Debug, Clone, Default)]
pub struct MetadataSearch {
    /// The folders, first to last.
    pub folders: Vec<PathBuf>,
    /// The folder that stands for `/` of the target.
    pub sysroot: Option<PathBuf>,
    /// Folders that the compiler searches by itself; flags that only repeat them are left out.
    pub known_folders: Vec<PathBuf>,
}

/// What a library says of itself, with what it requires joined in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Metadata {
    /// The file.
    pub file: PathBuf,
    /// The version.
    pub version: String,
    /// Flags for compiles.
    pub compile_flags: Vec<String>,
    /// Flags for links.
    pub link_flags: Vec<String>,
    /// Private requirements that are not there; a static link would miss them.
    pub absent_private: Vec<String>,
}

/// Why metadata cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MetadataFault {
    /// No folder has a file of that name.
    #[error("no {0}.pc")]
    Absent(String),
    /// The file cannot be read.
    #[error("cannot read {file}: {reason}")]
    Unreadable {
        /// The file.
        file: String,
        /// What is wrong.
        reason: String,
    },
    /// It requires a library that is not there.
    #[error("{by}.pc requires {name}, and there is no {name}.pc")]
    RequiredAbsent {
        /// What requires it.
        by: String,
        /// What is not there.
        name: String,
    },
    /// It requires another version of a library.
    #[error("{by}.pc requires {name} {wanted}, and {name}.pc is version {found}")]
    RequiredVersion {
        /// What requires it.
        by: String,
        /// The library.
        name: String,
        /// The versions that fit.
        wanted: String,
        /// The version that is there.
        found: String,
    },
    /// Libraries require each other in a ring.
    #[error("metadata files lead back to their start: {}", .0.iter().map(|n| format!("{n}.pc")).collect::<Vec<_>>().join(" → "))]
    Ring(Vec<String>),
    /// It has a flag that is not passed on.
    #[error(
        "{file} has the flag {flag}, which makes a compiler write, load or read something else, and is not passed on"
    )]
    Refused {
        /// The file.
        file: String,
        /// The flag.
        flag: String,
    },
    /// It requires more than can be right.
    #[error("{0}.pc requires more than {MAX_FILES} libraries")]
    TooMany(String),
}

impl Metadata {
    /// Reads a library's metadata and that of what it requires.
    ///
    /// # Errors
    /// See [`MetadataFault`].
    pub fn read(name: &str, search: &MetadataSearch, linkage: LibraryLinkage) -> Result<Metadata, MetadataFault> {
        Metadata::read_noting(name, search, linkage, &mut |_| {})
    }

    /// The same; tells every place that was looked at.
    pub(super) fn read_noting(
        name: &str,
        search: &MetadataSearch,
        linkage: LibraryLinkage,
        note: &mut dyn FnMut(PathBuf),
    ) -> Result<Metadata, MetadataFault> {
        let mut reader = Reader { search, linkage, note, read: BTreeMap::new(), order: Vec::new(), absent: Vec::new() };
        reader.library(name, Tie::Public, &mut Vec::new())?;
        reader.joined(name)
    }

    /// Returns the version that a metadata file gives, without what it requires.
    pub fn version_of(file: &Path) -> Option<String> {
        let fields = fields(file, None).ok()?;
        fields.get("Version").cloned()
    }
}

/// How a library is required.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Tie {
    Private,
    Public,
}

struct Library {
    file: PathBuf,
    fields: BTreeMap<String, String>,
    tie: Tie,
}

struct Reader<'a> {
    search: &'a MetadataSearch,
    linkage: LibraryLinkage,
    note: &'a mut dyn FnMut(PathBuf),
    read: BTreeMap<String, Library>,
    /// Names, those that are required after those that require them.
    order: Vec<String>,
    absent: Vec<String>,
}

impl Reader<'_> {
    fn library(&mut self, name: &str, tie: Tie, open: &mut Vec<(String, Tie)>) -> Result<(), MetadataFault> {
        if let Some(at) = open.iter().position(|(n, _)| n == name) {
            if tie == Tie::Private || open[at + 1..].iter().any(|(_, tie)| *tie == Tie::Private) {
                return Ok(());
            }
            let ring = open[at..].iter().map(|(n, _)| n.clone()).chain([name.to_string()]).collect();
            return Err(MetadataFault::Ring(ring));
        }
        if let Some(known) = self.read.get(name)
            && known.tie >= tie
        {
            return Ok(());
        }
        if self.read.len() >= MAX_FILES {
            return Err(MetadataFault::TooMany(open.first().map_or(name, |(n, _)| n).to_string()));
        }
        let places: Vec<PathBuf> = self.search.folders.iter().map(|folder| folder.join(format!("{name}.pc"))).collect();
        places.iter().for_each(|place| (self.note)(place.clone()));
        let Some(file) = places.into_iter().find(|path| path.is_file()) else {
            return match open.last() {
                Some((by, _)) => Err(MetadataFault::RequiredAbsent { by: by.clone(), name: name.into() }),
                None => Err(MetadataFault::Absent(name.into())),
            };
        };
        let fields = fields(&file, self.search.sysroot.as_deref())?;
        let list = |key: &str| required(fields.get(key).map_or("", String::as_str));
        let (public, private) = (list("Requires"), list("Requires.private"));
        self.order.retain(|n| n != name);
        self.order.push(name.to_string());
        self.read.insert(name.to_string(), Library { file, fields, tie });
        open.push((name.to_string(), tie));
        for (required, range) in public {
            self.library(&required, tie, open)?;
            self.check_version(name, &required, range.as_ref())?;
        }
        for (required, range) in private {
            let result = self.library(&required, Tie::Private, open);
            let result = result.and_then(|()| self.check_version(name, &required, range.as_ref()));
            match (result, self.linkage) {
                (Ok(()), _) => {}
                // The link is not touched by it; whether a header is, its own check will tell.
                (Err(_), LibraryLinkage::Shared) => self.absent.push(required),
                (Err(fault), LibraryLinkage::Static) => return Err(fault),
            }
        }
        open.pop();
        Ok(())
    }

    fn check_version(&self, by: &str, name: &str, range: Option<&VersionRange>) -> Result<(), MetadataFault> {
        let Some((range, library)) = range.zip(self.read.get(name)) else { return Ok(()) };
        let found = library.fields.get("Version").cloned().unwrap_or_default();
        if range.holds(&Version::new(&found)) {
            return Ok(());
        }
        Err(MetadataFault::RequiredVersion { by: by.into(), name: name.into(), wanted: range.to_string(), found })
    }

    fn joined(self, name: &str) -> Result<Metadata, MetadataFault> {
        let mut metadata = Metadata { absent_private: self.absent.clone(), ..Metadata::default() };
        if let Some(own) = self.read.get(name) {
            metadata.file.clone_from(&own.file);
            metadata.version = own.fields.get("Version").cloned().unwrap_or_default();
        }
        let (mut compile, mut link) = (Flags::default(), Flags::default());
        for library in self.order.iter().filter_map(|name| self.read.get(name)) {
            let flags = |key: &str, purpose: For| {
                let flags = library.fields.get(key).map_or(Vec::new(), |text| shell_words(text));
                match refused(&flags, purpose) {
                    Some(flag) => {
                        Err(MetadataFault::Refused { file: library.file.display().to_string(), flag: flag.to_string() })
                    }
                    None => Ok(flags),
                }
            };
            for key in ["Cflags", "CFlags"] {
                for flag in flags(key, For::Compile)? {
                    self.take(flag, &mut compile, Repeats::Drop);
                }
            }
            let is_static = self.linkage == LibraryLinkage::Static;
            let public = library.tie == Tie::Public || is_static;
            for key in public.then_some("Libs").into_iter().chain(is_static.then_some("Libs.private")) {
                for flag in flags(key, For::Link)? {
                    self.take(flag, &mut link, Repeats::Keep);
                }
            }
        }
        (metadata.compile_flags, metadata.link_flags) = (compile.in_order, link.in_order);
        Ok(metadata)
    }

    /// Takes a flag, with the sysroot before its path, unless it only repeats what the compiler does by itself.
    fn take(&self, flag: String, flags: &mut Flags, repeats: Repeats) {
        for option in ["-I", "-L"] {
            let Some(folder) = flag.strip_prefix(option).filter(|folder| folder.starts_with('/')) else { continue };
            let folder = match &self.search.sysroot {
                Some(sysroot) if !Path::new(folder).starts_with(sysroot) => {
                    sysroot.join(folder.trim_start_matches('/'))
                }
                _ => PathBuf::from(folder),
            };
            let real = folder.canonicalize().unwrap_or_else(|_| folder.clone());
            let flag = format!("{option}{}", folder.display());
            if !self.search.known_folders.contains(&real) {
                flags.add(flag, &Repeats::Drop);
            }
            return;
        }
        flags.add(flag, &repeats);
    }
}

/// Flags in their order.
#[derive(Default)]
struct Flags {
    in_order: Vec<String>,
    there: HashSet<String>,
}

impl Flags {
    fn add(&mut self, flag: String, repeats: &Repeats) {
        if self.there.insert(flag.clone()) || *repeats == Repeats::Keep {
            self.in_order.push(flag);
        }
    }
}

/// Whether a flag that is there already is taken again: the order of libraries can matter.
#[derive(PartialEq)]
enum Repeats {
    Keep,
    Drop,
}

fn fields(file: &Path, sysroot: Option<&Path>) -> Result<BTreeMap<String, String>, MetadataFault> {
    let unreadable = |reason: String| MetadataFault::Unreadable { file: file.display().to_string(), reason };
    let status = std::fs::metadata(file).map_err(|e| unreadable(e.to_string()))?;
    if status.len() > MAX_FILE {
        return Err(unreadable("it is larger than 1 MiB".into()));
    }
    let text = std::fs::read(file).map_err(|e| unreadable(e.to_string()))?;
    let text = String::from_utf8_lossy(&text).replace("\r\n", "\n").replace("\\\n", " ");
    let folder = file.parent().unwrap_or(Path::new("/"));
    let mut variables: BTreeMap<String, String> = BTreeMap::new();
    variables.insert("pcfiledir".into(), folder.display().to_string());
    variables.insert("pc_sysrootdir".into(), sysroot.map_or("/".into(), |folder| folder.display().to_string()));
    let mut fields = BTreeMap::new();
    for line in text.lines() {
        let line = line.split('#').next().unwrap_or("").trim();
        let Some(at) = line.find(['=', ':']) else { continue };
        let (key, value) = (line[..at].trim().to_string(), line[at + 1..].trim());
        let value = filled(value, &variables).map_err(unreadable)?;
        if line[at..].starts_with('=') {
            variables.insert(key, value);
        } else {
            fields.insert(key, value);
        }
    }
    Ok(fields)
}

/// Fills in `${name}`. Variables hold filled-in text already, so no text can refer to itself.
fn filled(text: &str, variables: &BTreeMap<String, String>) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        out.push_str(&rest[..at]);
        if let Some(after) = rest[at..].strip_prefix("${") {
            let end = after.find('}').ok_or("a `${` is never closed")?;
            let name = &after[..end];
            out.push_str(variables.get(name).ok_or_else(|| format!("the variable `{name}` is not set"))?);
            rest = &after[end + 1..];
        } else {
            let double = rest[at..].starts_with("$$");
            out.push('$');
            rest = &rest[at + if double { 2 } else { 1 }..];
        }
        if out.len() > MAX_TEXT {
            return Err("its variables grow beyond all bounds".into());
        }
    }
    out.push_str(rest);
    Ok(out)
}

/// Reads a `Requires` list: names, each with limits on its version.
fn required(text: &str) -> Vec<(String, Option<VersionRange>)> {
    let spaced: String = spaced_signs(text);
    let mut list: Vec<(String, Vec<String>)> = Vec::new();
    let mut words = spaced.split([' ', '\t', ',']).filter(|w| !w.is_empty());
    while let Some(word) = words.next() {
        if word.starts_with(['<', '>', '=', '!']) {
            if let (Some((_, bounds)), Some(version)) = (list.last_mut(), words.next()) {
                bounds.push(format!("{word} {version}"));
            }
        } else {
            list.push((word.to_string(), Vec::new()));
        }
    }
    list.into_iter().map(|(name, bounds)| (name, bounds.join(", ").parse().ok())).collect()
}

/// Puts blanks around signs of comparison: `a>=1` is `a >= 1`.
fn spaced_signs(text: &str) -> String {
    let mut out = String::new();
    let mut inside = false;
    for c in text.chars() {
        let sign = matches!(c, '<' | '>' | '=' | '!');
        if sign != inside {
            out.push(' ');
        }
        inside = sign;
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(files: &[(&str, &str)]) -> (tempfile::TempDir, MetadataSearch) {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in files {
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        let search = MetadataSearch { folders: vec![folder.path().to_path_buf()], ..MetadataSearch::default() };
        (folder, search)
    }

    #[test]
    fn joins_variables_and_required_libraries() {
        let (_keep, search) = folder(&[
            (
                "top.pc",
                "prefix=/opt/t\nlib=${prefix}/lib\nVersion: 1.4\nRequires: low>=2, \nRequires.private: deep\nLibs: -L${lib} -ltop\nLibs.private: -lm\nCflags: -I${prefix}/include '-DNAME=a b' # a note\n",
            ),
            ("low.pc", "Version: 2.0\nLibs: -llow -L/usr/lib\n"),
            ("deep.pc", "Version: 7\nCflags: -DDEEP\nLibs: -ldeep\nRequires.private: top\n"),
        ]);
        let read = |linkage| Metadata::read("top", &search, linkage).unwrap();
        let top = read(LibraryLinkage::Shared);
        assert_eq!(top.version, "1.4");
        assert_eq!(top.link_flags, ["-L/opt/t/lib", "-ltop", "-llow", "-L/usr/lib"]);
        assert_eq!(top.compile_flags, ["-I/opt/t/include", "-DNAME=a b", "-DDEEP"]);
        let linked = read(LibraryLinkage::Static).link_flags;
        assert_eq!(linked, ["-L/opt/t/lib", "-ltop", "-lm", "-llow", "-L/usr/lib", "-ldeep"]);
        let within = MetadataSearch {
            sysroot: Some("/arm".into()),
            known_folders: vec!["/arm/usr/lib".into()],
            ..search.clone()
        };
        let there = Metadata::read("top", &within, LibraryLinkage::Shared).unwrap();
        assert_eq!(there.link_flags, ["-L/arm/opt/t/lib", "-ltop", "-llow"]);
        assert_eq!(there.compile_flags[0], "-I/arm/opt/t/include");
    }

    #[test]
    fn bad_files_are_named_not_followed() {
        let double: String = (0..40).map(|n| format!("v{}=${{v{n}}}${{v{n}}}\n", n + 1)).collect();
        let many: String = (0..600).map(|n| format!("m{n} ")).collect();
        let (keep, search) = folder(&[
            ("ring-a.pc", "Version: 1\nRequires: ring-b\n"),
            ("ring-b.pc", "Version: 1\nRequires: ring-a\n"),
            ("lost.pc", "Version: 1\nRequires: nowhere\n"),
            ("picky.pc", "Version: 1\nRequires: ring-c > 1, ring-c < 3\n"),
            ("ring-c.pc", "Version: 3\nRequires.private: picky\n"),
            ("unset.pc", "Libs: -L${nothing}\n"),
            ("open.pc", "Libs: -L${nothing\n"),
            ("bomb.pc", &format!("v0=xxxxxxxxxx\n{double}Libs: ${{v40}}\n")),
            ("many.pc", &format!("Requires: {many}\n")),
            ("large.pc", &"#".repeat(1024 * 1024 + 1)),
            ("writes.pc", "Requires: plug\n"),
            ("plug.pc", "Cflags: -I/x -fplugin=x.so\n"),
            ("out.pc", "Libs: -lz -Wl,-Map,x\n"),
        ]);
        (0..600).for_each(|n| std::fs::write(keep.path().join(format!("m{n}.pc")), "Version: 1\n").unwrap());
        for (name, want) in [
            ("absent", "no absent.pc"),
            ("ring-a", "metadata files lead back to their start: ring-a.pc → ring-b.pc → ring-a.pc"),
            ("lost", "lost.pc requires nowhere"),
            ("picky", "picky.pc requires ring-c < 3, and ring-c.pc is version 3"),
            ("unset", "the variable `nothing` is not set"),
            ("open", "a `${` is never closed"),
            ("bomb", "grow beyond all bounds"),
            ("many", "many.pc requires more than 512 libraries"),
            ("large", "it is larger than 1 MiB"),
            ("writes", "plug.pc has the flag -fplugin=x.so"),
            ("out", "out.pc has the flag -Wl,-Map,x"),
        ] {
            let fault = Metadata::read(name, &search, LibraryLinkage::Shared).expect_err(name).to_string();
            assert!(fault.contains(want), "{name}: {fault}");
        }
    }
}
