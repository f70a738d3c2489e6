//! Libraries of the host that a link named: which need each of them is.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use crate::checks::{LibraryLinkage, Package};
use crate::remedy::Distribution;
use crate::survey::{Metadata, MetadataSearch};

/// Something that the host must have.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct DrawnNeed {
    pub name: String,
    /// Its metadata file, where the build used just the flags that it names.
    pub library: Option<String>,
    pub header: Option<String>,
    pub link: String,
    /// Whether only C++ includes its header.
    pub is_cxx: bool,
    /// The package of this host that brings it.
    pub package: Option<Package>,
}

/// What the host says about its own libraries.
pub struct Host {
    /// Where metadata files lie.
    pub metadata_folders: Vec<PathBuf>,
    /// Which distribution it is, and where that keeps its package database.
    pub distribution: Distribution,
}

impl Host {
    /// Returns the packages that bring some headers, by how sources name them, as far as they are where compilers look first.
    pub(super) fn packages_of_headers(&self, headers: &BTreeSet<String>) -> BTreeMap<String, Package> {
        let folders = ["/usr/include".to_string(), format!("/usr/include/{}-linux-gnu", std::env::consts::ARCH)];
        let mut places: BTreeMap<String, &String> = BTreeMap::new();
        for header in headers {
            for place in folders.iter().map(|folder| format!("{folder}/{header}")) {
                if Path::new(&place).is_file() {
                    places.insert(place, header);
                }
            }
        }
        let packages = self.distribution.owners(&places.keys().cloned().collect());
        packages.into_iter().filter_map(|(place, package)| Some(((*places.get(&place)?).clone(), package))).collect()
    }

    /// Metadata files that link with a library, those of the shortest names first.
    fn metadata_of(&self, library: &str) -> Vec<(String, Metadata)> {
        let wanted = format!("-l{library}");
        let mut found = Vec::new();
        let search = MetadataSearch { folders: self.metadata_folders.clone(), ..MetadataSearch::default() };
        for name in metadata_names(&self.metadata_folders) {
            // What cannot be read would not serve a need either.
            let Ok(metadata) = Metadata::read(&name, &search, LibraryLinkage::Shared) else { continue };
            if metadata.link_flags.contains(&wanted) {
                found.push((name, metadata));
            }
        }
        found.sort_by_key(|(name, _)| (name.len(), name.clone()));
        found
    }
}

/// The names of all metadata files in some folders.
fn metadata_names(folders: &[PathBuf]) -> BTreeSet<String> {
    let files = folders.iter().filter_map(|folder| std::fs::read_dir(folder).ok()).flatten();
    let name = |entry: std::io::Result<std::fs::DirEntry>| {
        let name = entry.ok()?.file_name().into_string().ok()?;
        name.strip_suffix(".pc").map(str::to_string)
    };
    files.filter_map(name).collect()
}

/// A header of the host that sources include.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct HostHeader {
    /// How they name it.
    pub word: String,
    /// Whether all of them are C++.
    pub only_cxx: bool,
}

/// A library that a link named, with the file that the linker opened for it.
pub(super) type Linked = BTreeMap<String, Option<String>>;

/// What comes of the libraries that links named.
#[derive(Debug, Default)]
pub(super) struct Libraries {
    /// Needs, by the libraries' names.
    pub needs: BTreeMap<String, DrawnNeed>,
    /// Those that come with the C library or the compiler: every host that compiles has them.
    pub plain: BTreeSet<String>,
}

/// Libraries that come with the C library or a compiler, on every host.
const OF_LANGUAGES: [&str; 8] = ["m", "dl", "rt", "pthread", "util", "resolv", "atomic", "gomp"];

/// Packages that every host has on which C is compiled.
pub(super) fn is_of_compiler(package: &Package) -> bool {
    ["libc6", "libgcc", "libstdc++", "linux-libc-dev", "gcc-"].iter().any(|begin| package.as_str().starts_with(begin))
}

/// Tells which needs libraries are. `headers` are the host's headers that the sources include, with the words by which they do; `flags` are the
/// words of all compiles.
pub(super) fn libraries(
    host: &Host,
    linked: &Linked,
    headers: &BTreeMap<String, HostHeader>,
    flags: &BTreeSet<String>,
) -> Libraries {
    let metadata: BTreeMap<&String, Vec<(String, Metadata)>> =
        linked.keys().map(|library| (library, host.metadata_of(library))).collect();
    let mut files: BTreeSet<String> = linked.values().flatten().cloned().collect();
    let of_metadata = metadata.values().flatten().map(|(_, metadata)| metadata.file.display().to_string());
    files.extend(of_metadata);
    files.extend(headers.keys().cloned());
    let packages = host.distribution.owners(&files);
    let mut result = Libraries::default();
    for (library, file) in linked {
        let package = file.as_ref().and_then(|file| packages.get(file));
        let of_compiler = OF_LANGUAGES.contains(&library.as_str()) || package.is_some_and(is_of_compiler);
        if of_compiler || package.is_none() && file.is_none() {
            result.plain.insert(library.clone());
            continue;
        }
        // One of the same package that would bring no flag which the compiles were not given.
        let own = |(_, metadata): &&(String, Metadata)| {
            let of_package = packages.get(&*metadata.file.to_string_lossy());
            let brings_nothing = metadata.compile_flags.iter().all(|flag| flags.contains(flag) || is_usual(flag));
            package.is_none_or(|package| of_package == Some(package)) && brings_nothing
        };
        let of_metadata = metadata[library].iter().find(own).map(|(name, _)| name.clone());
        let of_package = |(header, _): &(&String, &HostHeader)| package.is_some() && packages.get(*header) == package;
        let header = headers.iter().find(of_package).map(|(_, header)| header.clone());
        let name = plain_name(library);
        let need = DrawnNeed {
            name,
            is_cxx: of_metadata.is_none() && header.as_ref().is_some_and(|header| header.only_cxx),
            header: header.filter(|_| of_metadata.is_none()).map(|header| header.word),
            library: of_metadata,
            link: library.clone(),
            package: package.cloned(),
        };
        result.needs.insert(library.clone(), need);
    }
    result
}

/// Whether a word of a metadata file opens the folder that every compiler looks in anyway.
fn is_usual(word: &str) -> bool {
    word == "-I/usr/include"
}

/// Returns the nearest name that our rules allow.
pub fn plain_name(text: &str) -> String {
    let mut name = String::new();
    for letter in text.to_lowercase().chars() {
        if letter.is_ascii_alphanumeric() {
            name.push(letter);
        } else if !name.is_empty() && !name.ends_with('-') {
            name.push('-');
        }
    }
    let name = name.trim_end_matches('-').to_string();
    match name.chars().next() {
        None => "part".into(),
        Some(first) if first.is_ascii_digit() => format!("n{name}"),
        Some(_) => name,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_such_as_ours_may_be() {
        for (text, name) in [("Lamp_Drive", "lamp-drive"), ("7zip.so", "n7zip-so"), ("--", "part"), ("a++", "a")] {
            assert_eq!(plain_name(text), name);
        }
    }

    #[test]
    fn a_library_is_a_need_by_its_metadata_or_by_its_header_and_one_of_the_compiler_is_none() {
        let root = tempfile::tempdir().unwrap();
        let at = |path: &str, text: &str| {
            let file = root.path().join(path);
            std::fs::create_dir_all(file.parent().unwrap()).unwrap();
            std::fs::write(file, text).unwrap();
        };
        let pc = |rest: &str| format!("prefix=/usr\nName: x\nDescription: x\nVersion: 1\n{rest}\n");
        at("pc/buoy.pc", &pc("Libs: -L${prefix}/lib -lbuoy\nCflags: -I${prefix}/include"));
        at("pc/tide.pc", &pc("Libs: -ltide\nCflags: -I${prefix}/include/tide-3"));
        let pc = root.path().join("pc");
        let of_buoy = format!("{}\n/usr/lib/libbuoy.so\n", pc.join("buoy.pc").display());
        at("var/lib/dpkg/info/libbuoy-dev:amd64.list", &of_buoy);
        let of_tide = format!("{}\n/usr/lib/libtide.so\n/usr/include/tide.h\n", pc.join("tide.pc").display());
        at("var/lib/dpkg/info/libtide-dev.list", &of_tide);
        at("var/lib/dpkg/info/libc6-dev.list", "/usr/lib/libm.so\n");
        let distribution =
            Distribution { root: Some(root.path().to_path_buf()), ..Distribution::of_release_file("ID=debian\n") };
        let host = Host { metadata_folders: vec![pc], distribution };
        let file = |name: &str| Some(format!("/usr/lib/lib{name}.so"));
        let linked = ["buoy", "tide", "m"].map(|name| (name.to_string(), file(name))).into();
        let headers =
            [("/usr/include/tide.h".to_string(), HostHeader { word: "tide.h".into(), only_cxx: false })].into();
        let found = libraries(&host, &linked, &headers, &BTreeSet::new());
        assert_eq!(found.plain, ["m".to_string()].into());
        let buoy = &found.needs["buoy"];
        assert_eq!(
            (buoy.library.as_deref(), buoy.package.as_ref().map(Package::as_str)),
            (Some("buoy"), Some("libbuoy-dev"))
        );
        let tide = &found.needs["tide"];
        // Its metadata would bring a folder that no compile was given.
        assert_eq!((tide.library.as_deref(), tide.header.as_deref()), (None, Some("tide.h")));
    }
}
