//! Which folders of an installation a shell is to know: those of programs, manuals, libraries, metadata of libraries, Python modules.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use super::manifest::{Installed, Manifest};

/// A variable of the environment that holds a search path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum SearchVariable {
    /// Of programs.
    Programs,
    /// Of manual pages.
    Manuals,
    /// Of shared libraries, at run time.
    Libraries,
    /// Of metadata files of libraries.
    Metadata,
    /// Of Python modules.
    Python,
}

impl SearchVariable {
    /// Its name.
    pub fn name(self) -> &'static str {
        match self {
            SearchVariable::Programs => "PATH",
            SearchVariable::Manuals => "MANPATH",
            SearchVariable::Libraries => "LD_LIBRARY_PATH",
            SearchVariable::Metadata => "PKG_CONFIG_PATH",
            SearchVariable::Python => "PYTHONPATH",
        }
    }
}

/// The folders of an installation by the variable that leads there, in the order of their names.
pub fn search_paths(manifest: &Manifest) -> BTreeMap<SearchVariable, Vec<PathBuf>> {
    let mut all: BTreeMap<SearchVariable, Vec<PathBuf>> = BTreeMap::new();
    for file in manifest.outside_kits() {
        if let Some((variable, folder)) = leads_to(file) {
            let folders = all.entry(variable).or_default();
            if !folders.iter().any(|known| known == folder) {
                folders.push(folder.to_path_buf());
            }
        }
    }
    all.values_mut().for_each(|folders| folders.sort());
    all
}

/// Which variable is to lead to a file, and to which folder.
fn leads_to(file: &Installed) -> Option<(SearchVariable, &Path)> {
    let folder = file.path.parent()?;
    let name = file.path.file_name()?.to_str()?;
    let folder_name = folder.file_name()?.to_str()?;
    let is_library = name.starts_with("lib") && (name.ends_with(".so") || name.contains(".so."));
    if is_library {
        return Some((SearchVariable::Libraries, folder));
    }
    if name.ends_with(".pc") {
        return Some((SearchVariable::Metadata, folder));
    }
    if matches!(folder_name, "bin" | "sbin") {
        return Some((SearchVariable::Programs, folder));
    }
    let section = folder_name.strip_prefix("man");
    if section.is_some_and(|section| section.len() == 1 && section.chars().all(|c| c.is_ascii_alphanumeric())) {
        return Some((SearchVariable::Manuals, folder.parent()?));
    }
    if name.ends_with(".py") {
        let is_root =
            |folder: &&Path| folder.file_name().is_some_and(|name| name == "site-packages" || name == "dist-packages");
        return folder.ancestors().find(is_root).map(|root| (SearchVariable::Python, root));
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_sort_of_file_has_its_variable() {
        let file = |path: &str| Installed { path: path.into(), digest: None, link: None, config: false, mode: None };
        for (path, want) in [
            ("/p/bin/tool", Some((SearchVariable::Programs, "/p/bin"))),
            ("/p/sbin/daemon", Some((SearchVariable::Programs, "/p/sbin"))),
            ("/p/lib/libtide.so.2", Some((SearchVariable::Libraries, "/p/lib"))),
            ("/p/lib/skerry/fog.so", None),
            ("/p/lib/pkgconfig/tide.pc", Some((SearchVariable::Metadata, "/p/lib/pkgconfig"))),
            ("/p/share/man/man1/tool.1", Some((SearchVariable::Manuals, "/p/share/man"))),
            ("/p/share/manual/tool.html", None),
            (
                "/p/lib/python3.11/site-packages/tide/sea.py",
                Some((SearchVariable::Python, "/p/lib/python3.11/site-packages")),
            ),
            ("/p/share/tide.py", None),
            ("/p/etc/tool.conf", None),
        ] {
            let got = file(path);
            let got = leads_to(&got).map(|(variable, folder)| (variable, folder.to_str().unwrap()));
            assert_eq!(got, want, "{path}");
        }
    }
}
