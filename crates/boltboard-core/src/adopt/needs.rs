//! Libraries of the host that a link named: which need each of them is.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

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
    pub package: Option<String>,
}

/// What the host says about its own libraries.
pub struct Host {
    /// Where metadata files lie.
    pub metadata_folders: Vec<std::path::PathBuf>,
    /// Where the package database keeps the lists of its packages' files, if it does.
    pub package_lists: std::path::PathBuf,
}

impl Host {
    /// Returns the host below a root, as Debian lays it out.
    pub fn at(root: &Path, metadata_folders: Vec<std::path::PathBuf>) -> Host {
        Host { metadata_folders, package_lists: root.join("var/lib/dpkg/info") }
    }

    /// Returns the packages that the files belong to, by the files. A file that the package database has under another name, or not at all, is left out.
    fn packages(&self, files: &BTreeSet<String>) -> BTreeMap<String, String> {
        let mut wanted: BTreeMap<String, &String> = BTreeMap::new();
        for file in files {
            wanted.insert(file.clone(), file);
            // Where the root's folders are links into `usr`, packages name either.
            match file.strip_prefix("/usr") {
                Some(short) => wanted.insert(short.to_string(), file),
                None => wanted.insert(format!("/usr{file}"), file),
            };
        }
        let mut found = BTreeMap::new();
        let Ok(entries) = std::fs::read_dir(&self.package_lists) else { return found };
        let mut lists: Vec<_> = entries.filter_map(|entry| Some(entry.ok()?.path())).collect();
        lists.sort();
        for list in lists.iter().filter(|list| list.extension().is_some_and(|ending| ending == "list")) {
            let Ok(text) = std::fs::read_to_string(list) else { continue };
            let package = list.file_stem().map_or(String::new(), |stem| stem.to_string_lossy().into_owned());
            let package = package.split(':').next().unwrap_or_default().to_string();
            for file in text.lines().filter_map(|line| wanted.get(line)) {
                found.entry((*file).clone()).or_insert_with(|| package.clone());
            }
        }
        found
    }

    /// Returns the packages that bring some headers, by how sources name them, as far as they are where compilers look first.
    pub(super) fn packages_of_headers(&self, headers: &BTreeSet<String>) -> BTreeMap<String, String> {
        let folders = ["/usr/include".to_string(), format!("/usr/include/{}-linux-gnu", std::env::consts::ARCH)];
        let mut places: BTreeMap<String, &String> = BTreeMap::new();
        for header in headers {
            for place in folders.iter().map(|folder| format!("{folder}/{header}")) {
                if Path::new(&place).is_file() {
                    places.insert(place, header);
                }
            }
        }
        let packages = self.packages(&places.keys().cloned().collect());
        packages.into_iter().filter_map(|(place, package)| Some(((*places.get(&place)?).clone(), package))).collect()
    }

    /// Metadata files that link with a library, with the words that they have compiles given.
    fn metadata_of(&self, library: &str) -> Vec<(String, String, Vec<String>)> {
        let wanted = format!("-l{library}");
        let mut found = Vec::new();
        for folder in &self.metadata_folders {
            let Ok(entries) = std::fs::read_dir(folder) else { continue };
            let mut files: Vec<_> = entries.filter_map(|entry| Some(entry.ok()?.path())).collect();
            files.sort();
            for file in files.iter().filter(|file| file.extension().is_some_and(|ending| ending == "pc")) {
                let Ok(text) = std::fs::read_to_string(file) else { continue };
                let of = |key: &str| text.lines().find_map(|line| line.strip_prefix(key)).unwrap_or_default();
                if of("Libs:").split_whitespace().any(|word| word == wanted) {
                    let name = file.file_stem().map_or(String::new(), |stem| stem.to_string_lossy().into_owned());
                    let flags = of("Cflags:").split_whitespace().map(str::to_string).collect();
                    found.push((name, file.to_string_lossy().into_owned(), flags));
                }
            }
        }
        found.sort_by_key(|(name, ..)| (name.len(), name.clone()));
        found
    }
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

/// Packages that every host has on which C is compiled.
pub(super) fn is_of_compiler(package: &str) -> bool {
    ["libc6", "libgcc", "libstdc++", "linux-libc-dev", "gcc-"].iter().any(|begin| package.starts_with(begin))
}

/// Tells which needs libraries are. `headers` are the host's headers that the sources include, with the words by which they do; `flags` are the
/// words of all compiles.
pub(super) fn libraries(
    host: &Host,
    linked: &Linked,
    headers: &BTreeMap<String, HostHeader>,
    flags: &BTreeSet<String>,
) -> Libraries {
    let mut metadata = BTreeMap::new();
    for library in linked.keys() {
        metadata.insert(library.clone(), host.metadata_of(library));
    }
    let mut files: BTreeSet<String> = linked.values().flatten().cloned().collect();
    files.extend(metadata.values().flatten().map(|(_, file, _)| file.clone()));
    files.extend(headers.keys().cloned());
    let packages = host.packages(&files);
    let mut result = Libraries::default();
    for (library, file) in linked {
        let package = file.as_ref().and_then(|file| packages.get(file));
        if package.is_some_and(|package| is_of_compiler(package)) || package.is_none() && file.is_none() {
            result.plain.insert(library.clone());
            continue;
        }
        let known = |flag: &String| !flag.starts_with("-I") && !flag.starts_with("-D") || flags.contains(flag);
        let own = |(_, file, words): &&(String, String, Vec<String>)| {
            package.is_none_or(|package| packages.get(file) == Some(package))
                && words.iter().all(|word| is_usual(word) || known(word))
        };
        let of_metadata = metadata[library].iter().find(own).map(|(name, ..)| name.clone());
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
    matches!(word, "-I${includedir}" | "-I/usr/include")
}

/// A name that our rules allow.
pub(super) fn plain_name(text: &str) -> String {
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
        at("pc/buoy.pc", "Libs: -L${libdir} -lbuoy\nCflags: -I${includedir}\n");
        at("pc/tide.pc", "Libs: -ltide\nCflags: -I${includedir}/tide-3\n");
        let pc = root.path().join("pc");
        let of_buoy = format!("{}\n/usr/lib/libbuoy.so\n", pc.join("buoy.pc").display());
        at("var/lib/dpkg/info/libbuoy-dev:amd64.list", &of_buoy);
        let of_tide = format!("{}\n/usr/lib/libtide.so\n/usr/include/tide.h\n", pc.join("tide.pc").display());
        at("var/lib/dpkg/info/libtide-dev.list", &of_tide);
        at("var/lib/dpkg/info/libc6-dev.list", "/usr/lib/libm.so\n");
        let host = Host::at(root.path(), vec![pc]);
        let file = |name: &str| Some(format!("/usr/lib/lib{name}.so"));
        let linked = ["buoy", "tide", "m"].map(|name| (name.to_string(), file(name))).into();
        let headers =
            [("/usr/include/tide.h".to_string(), HostHeader { word: "tide.h".into(), only_cxx: false })].into();
        let found = libraries(&host, &linked, &headers, &BTreeSet::new());
        assert_eq!(found.plain, ["m".to_string()].into());
        let buoy = &found.needs["buoy"];
        assert_eq!((buoy.library.as_deref(), buoy.package.as_deref()), (Some("buoy"), Some("libbuoy-dev")));
        let tide = &found.needs["tide"];
        // Its metadata would bring a folder that no compile was given.
        assert_eq!((tide.library.as_deref(), tide.header.as_deref()), (None, Some("tide.h")));
    }
}
