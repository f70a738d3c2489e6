//! Packages of common libraries and tools, for needs whose board names none.

use std::collections::BTreeMap;
use std::sync::OnceLock;

use serde::Deserialize;

use super::family::Family;
use crate::checks::{HostCheck, Package};

const TEXT: &str = include_str!("catalogue.toml");

/// One line of the catalogue.
#[derive(Debug, Deserialize)]
struct Entry {
    #[serde(default)]
    library: Vec<String>,
    #[serde(default)]
    header: Vec<String>,
    #[serde(default)]
    tool: Vec<String>,
    /// By the families' keys; a test holds them against these.
    #[serde(flatten)]
    packages: BTreeMap<String, String>,
}

impl Entry {
    fn package(&self, family: Family) -> &str {
        self.packages.get(family.key()).map_or("", String::as_str)
    }
}

fn entries() -> &'static BTreeMap<String, Entry> {
    static ENTRIES: OnceLock<BTreeMap<String, Entry>> = OnceLock::new();
    ENTRIES.get_or_init(|| toml_edit::de::from_str(TEXT).expect("a test reads the file"))
}

/// Returns the package that brings what a check looks for, by its library, then its header, then its tool.
pub(super) fn package(check: &HostCheck, family: Family) -> Option<Package> {
    let by = |wanted: &dyn Fn(&Entry) -> bool| entries().values().find(|entry| wanted(entry));
    let library = check.library.as_ref().and_then(|name| by(&|entry| entry.library.contains(name)));
    // A header is written below the system's folder, and sources often leave out a folder of its own.
    let holds = |entry: &Entry, header: &String| {
        entry.header.iter().any(|known| known == header || known.ends_with(&format!("/{header}")))
    };
    let header = || check.telling_header().and_then(|header| by(&|entry| holds(entry, header)));
    let tool = || {
        let names = check.tool.iter().flat_map(|tool| &tool.names);
        names.into_iter().find_map(|name| by(&|entry| entry.tool.contains(name)))
    };
    let known = library.or_else(header).or_else(tool);
    known.and_then(|entry| entry.package(family).parse().ok()).or_else(|| module_package(check, family))
}

/// Distributions name packages of interpreted modules by rule.
fn module_package(check: &HostCheck, family: Family) -> Option<Package> {
    let module = check.script_module.as_ref()?;
    family.module_package(module.language, &module.name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::checks::ScriptLanguage;

    #[test]
    fn the_catalogue_is_sound() {
        let read: BTreeMap<String, Entry> = toml_edit::de::from_str(TEXT).expect("it is read");
        assert!(read.len() >= 150, "{} entries", read.len());
        let mut known = std::collections::HashSet::new();
        for (name, entry) in &read {
            let brought: Vec<&String> = entry.library.iter().chain(&entry.header).chain(&entry.tool).collect();
            assert!(!brought.is_empty(), "{name} brings nothing");
            for (sort, list) in [("library", &entry.library), ("header", &entry.header), ("tool", &entry.tool)] {
                assert!(list.iter().all(|item| known.insert((sort, item.clone()))), "{name} repeats a {sort}");
            }
            assert_eq!(entry.packages.len(), Family::ALL.len(), "{name}: a package for each family");
            for family in Family::ALL {
                let package = entry.package(family);
                let sound = |c: char| c.is_ascii_alphanumeric() || "-+._".contains(c);
                assert!(!package.is_empty() && package.chars().all(sound), "{name}: {package:?}");
            }
        }
    }

    #[test]
    fn packages_are_found_by_library_header_tool_or_rule() {
        let check = HostCheck { library: Some("zlib".into()), ..HostCheck::default() };
        assert_eq!(package(&check, Family::Fedora).map(|p| p.to_string()).as_deref(), Some("zlib-devel"));
        let check = HostCheck { headers: vec!["dbus/dbus.h".into()], ..HostCheck::default() };
        assert_eq!(package(&check, Family::Debian).map(|p| p.to_string()).as_deref(), Some("libdbus-1-dev"));
        let check = HostCheck { library: Some("surely-unknown".into()), ..HostCheck::default() };
        assert_eq!(package(&check, Family::Arch), None);
        let module = |program: &str, name: &str, family| {
            let language = ScriptLanguage::of(program).expect("a language");
            let module = crate::checks::ScriptModule { program: program.into(), language, name: name.into() };
            package(&HostCheck { script_module: Some(module), ..HostCheck::default() }, family)
        };
        assert_eq!(
            module("python3", "tide_tables", Family::Debian).map(|p| p.to_string()).as_deref(),
            Some("python3-tide-tables")
        );
        assert_eq!(
            module("perl", "Tide::Tables", Family::Debian).map(|p| p.to_string()).as_deref(),
            Some("libtide-tables-perl")
        );
    }
}
