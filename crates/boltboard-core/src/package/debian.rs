//! What the package database of a Debian host knows: who owns a library, and from which version on it has what is used.
//!
//! Its files are read as `deb-symbols(5)`, `deb-shlibs(5)` and `dpkg(1)` describe them; versions compare as `deb-version(7)` says.

use std::cmp::Ordering;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use super::needs::Needed;
use crate::install::Symbol;

/// What stands for a version in the files about symbols.
const MINIMUM: &str = "#MINVER#";

/// The version of symbols that have none.
const UNVERSIONED: &str = "Base";
/// What the files about symbols, and those about libraries as a whole, end in.
const SYMBOLS: &str = ".symbols";
const LIBRARIES: &str = ".shlibs";

/// A version of a package.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DebianVersion(String);

impl DebianVersion {
    /// Takes a text as it is.
    pub fn new(text: &str) -> DebianVersion {
        DebianVersion(text.to_string())
    }

    /// Returns the text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    fn split(&self) -> (u64, &str, &str) {
        let (epoch, rest) = self.0.split_once(':').unwrap_or(("0", &self.0));
        let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, ""));
        (epoch.parse().unwrap_or(0), upstream, revision)
    }
}

impl PartialOrd for DebianVersion {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for DebianVersion {
    fn cmp(&self, other: &Self) -> Ordering {
        let (mine, theirs) = (self.split(), other.split());
        mine.0.cmp(&theirs.0).then_with(|| compare(mine.1, theirs.1)).then_with(|| compare(mine.2, theirs.2))
    }
}

/// Compares by turns what is no digit, where letters come before all else and `~` before the end, and numbers.
fn compare(mut one: &str, mut other: &str) -> Ordering {
    let rank = |c: Option<char>| match c {
        Some('~') => -1,
        None => 0,
        Some(c) if c.is_ascii_alphabetic() => i64::from(u32::from(c)),
        Some(c) => i64::from(u32::from(c)) + 256,
    };
    while !(one.is_empty() && other.is_empty()) {
        let words = |text: &str| text.find(|c: char| c.is_ascii_digit()).unwrap_or(text.len());
        let (mine, theirs) = (one.split_at(words(one)), other.split_at(words(other)));
        for at in 0..mine.0.len().max(theirs.0.len()) {
            let of = |text: &str| rank(text.chars().nth(at));
            match of(mine.0).cmp(&of(theirs.0)) {
                Ordering::Equal => {}
                different => return different,
            }
        }
        let digits = |text: &str| text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
        let (mine, theirs) = (mine.1.split_at(digits(mine.1)), theirs.1.split_at(digits(theirs.1)));
        let number = |text: &str| text.trim_start_matches('0').to_string();
        let (first, second) = (number(mine.0), number(theirs.0));
        match first.len().cmp(&second.len()).then_with(|| first.cmp(&second)) {
            Ordering::Equal => (one, other) = (mine.1, theirs.1),
            different => return different,
        }
    }
    Ordering::Equal
}

/// A package that another one needs.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Dependency {
    /// Its name.
    pub package: String,
    /// The version from which on it will do, where that is known.
    pub from: Option<DebianVersion>,
}

impl std::fmt::Display for Dependency {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.from {
            Some(from) => write!(f, "{} (>= {})", self.package, from.as_str()),
            None => f.write_str(&self.package),
        }
    }
}

/// Which packages libraries come from, below the root of a host; one line for each, with the version from which on it has all symbols
/// that are used. Libraries that no package owns are left out.
pub(super) fn dependencies(root: &Path, needed: &Needed) -> Vec<Dependency> {
    let mut found: BTreeMap<String, Option<DebianVersion>> = BTreeMap::new();
    let info = root.join("var/lib/dpkg/info");
    let entries = std::fs::read_dir(&info).into_iter().flatten().filter_map(Result::ok);
    let mut texts: Vec<String> = entries.filter_map(|entry| entry.file_name().into_string().ok()).collect();
    texts.retain(|name| name.ends_with(SYMBOLS) || name.ends_with(LIBRARIES));
    texts.sort();
    for library in needed.libraries.values() {
        let Some(owner) = &library.owner else { continue };
        let text_of = |ending: &str| {
            let is_of = |name: &&String| {
                let rest = name.strip_prefix(owner.as_str()).and_then(|rest| rest.strip_suffix(ending));
                rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(':'))
            };
            std::fs::read_to_string(info.join(texts.iter().find(is_of)?)).ok()
        };
        let of_symbols = || by_symbols(&text_of(SYMBOLS)?, &library.name, &Used::of(&library.name, &needed.symbols));
        let of_library = || by_library(&text_of(LIBRARIES)?, &library.name);
        let plain = || vec![Dependency { package: owner.clone(), from: None }];
        for Dependency { package, from } in of_symbols().or_else(of_library).unwrap_or_else(plain) {
            let known = found.entry(package).or_default();
            if from > *known {
                *known = from;
            }
        }
    }
    found.into_iter().map(|(package, from)| Dependency { package, from }).collect()
}

/// What is used of one library.
struct Used<'s> {
    /// Symbols, each with its version.
    symbols: HashSet<(&'s str, &'s str)>,
    /// Versions of which any symbol is used.
    versions: HashSet<&'s str>,
}

impl<'s> Used<'s> {
    /// Takes what can be of this library: what is known to be, and symbols without a version, which any can have.
    fn of(library: &str, all: &'s BTreeSet<Symbol>) -> Used<'s> {
        let mut used = Used { symbols: HashSet::new(), versions: HashSet::new() };
        for symbol in all {
            let version = match &symbol.of {
                Some((version, of)) if of == library => version.as_str(),
                Some(_) => continue,
                None => UNVERSIONED,
            };
            used.symbols.insert((&symbol.name, version));
            used.versions.insert(version);
        }
        used
    }

    fn has(&self, name: &str, version: &str) -> bool {
        // A version as such is used by each symbol of it.
        self.symbols.contains(&(name, version)) || name == version && self.versions.contains(version)
    }
}

/// What a file about symbols says of a library: the packages of all symbols that are used, each from its version on.
fn by_symbols(text: &str, library: &str, used: &Used<'_>) -> Option<Vec<Dependency>> {
    let mut lines =
        text.lines().skip_while(|line| line.split_whitespace().next() != Some(library) || line.starts_with(' '));
    let mut templates = vec![lines.next()?.split_once(' ')?.1.trim()];
    let mut minima: BTreeMap<usize, DebianVersion> = BTreeMap::new();
    for line in lines {
        if let Some(other) = line.strip_prefix("| ") {
            templates.push(other);
        } else if let Some(line) = line.strip_prefix(' ') {
            let mut fields = line.split_whitespace();
            let (Some(symbol), Some(version)) = (fields.next(), fields.next()) else { continue };
            let (name, of) = symbol.split_once('@').unwrap_or((symbol, UNVERSIONED));
            if used.has(name, of) {
                let template = fields.next().and_then(|number| number.parse().ok()).unwrap_or(0);
                let version = DebianVersion::new(version);
                let known = minima.entry(template).or_insert_with(|| version.clone());
                if version > *known {
                    *known = version;
                }
            }
        } else if !line.starts_with('*') {
            break;
        }
    }
    // The library is asked for even where none of its symbols is used.
    minima.entry(0).or_insert_with(|| DebianVersion::new("0"));
    let mut all = Vec::new();
    for (template, from) in minima {
        let Some(template) = templates.get(template) else { continue };
        for one in template.split(',').map(str::trim).filter(|one| one.ends_with(MINIMUM)) {
            let package = one.trim_end_matches(MINIMUM).trim().to_string();
            all.push(Dependency { package, from: (from.as_str() != "0").then(|| from.clone()) });
        }
    }
    Some(all).filter(|all| !all.is_empty())
}

/// What a file about libraries says of one: `NAME VERSION PACKAGE (>= FROM), …`.
fn by_library(text: &str, library: &str) -> Option<Vec<Dependency>> {
    let (name, version) = library.split_once(".so.")?;
    let line = text.lines().find(|line| {
        let mut fields = line.split_whitespace();
        fields.next() == Some(name) && fields.next() == Some(version)
    })?;
    let wanted = line.splitn(3, char::is_whitespace).nth(2)?;
    let one = |text: &str| {
        let (package, condition) = text.trim().split_once(' ').unwrap_or((text.trim(), ""));
        let from = condition.trim_matches(['(', ')']).strip_prefix(">=").map(|from| DebianVersion::new(from.trim()));
        Dependency { package: package.to_string(), from }
    };
    Some(wanted.split(',').map(one).collect())
}

/// The version in which a package is installed.
pub(super) fn installed_version(status: &str, package: &str) -> Option<String> {
    let block =
        status.split("\n\n").find(|block| block.lines().any(|line| line.strip_prefix("Package: ") == Some(package)))?;
    block.lines().find_map(|line| line.strip_prefix("Version: ")).map(str::to_string)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_compare_as_the_package_manager_compares_them() {
        for (less, more) in [
            ("1.0", "1.1"),
            ("1.9", "1.10"),
            ("1.0~rc1", "1.0"),
            ("1.0", "1.0a"),
            ("1.0a", "1.0+b"),
            ("1.0-1", "1.0-2"),
            ("9.9", "1:0.1"),
            ("2.0~~", "2.0~"),
            ("1.0-1", "1.0-1+b1"),
        ] {
            let of = DebianVersion::new;
            assert_eq!(of(less).cmp(&of(more)), Ordering::Less, "{less} {more}");
            assert_eq!(of(more).cmp(&of(less)), Ordering::Greater, "{more} {less}");
        }
        assert_eq!(DebianVersion::new("0:1.00").cmp(&DebianVersion::new("1.0")), Ordering::Equal);
    }

    fn symbol(name: &str, version: Option<&str>) -> Symbol {
        Symbol { name: name.into(), of: version.map(|version| (version.into(), "libfog.so.1".into())) }
    }

    #[test]
    fn the_symbols_that_are_used_decide_from_which_version_on() {
        let text = "libfog.so.1 libfog1 #MINVER#\n* Build-Depends-Package: libfog-dev\n| libfog1 (>> 2), libfog1 (<< 3)\n \
                    FOG_1@FOG_1 1.0\n FOG_2@FOG_2 1:2.0\n old@FOG_1 1.0\n new@FOG_2 1:2.0\n bare@Base 1.5\n inner@FOG_X 0 1\n\
                    libmist.so.1 libmist1 #MINVER#\n old@FOG_1 9\n";
        let of = |used: &[Symbol]| {
            let all = used.iter().cloned().collect();
            by_symbols(text, "libfog.so.1", &Used::of("libfog.so.1", &all))
        };
        let from =
            |text: &str| Some(vec![Dependency { package: "libfog1".into(), from: Some(DebianVersion::new(text)) }]);
        assert_eq!(of(&[symbol("old", Some("FOG_1"))]), from("1.0"));
        assert_eq!(of(&[symbol("old", Some("FOG_1")), symbol("new", Some("FOG_2"))]), from("1:2.0"));
        assert_eq!(of(&[symbol("bare", None)]), from("1.5"));
        assert_eq!(of(&[]), Some(vec![Dependency { package: "libfog1".into(), from: None }]));
        let of_others = Symbol { name: "new".into(), of: Some(("FOG_2".into(), "libmist.so.1".into())) };
        assert_eq!(of(&[of_others]), Some(vec![Dependency { package: "libfog1".into(), from: None }]));
        assert_eq!(by_symbols(text, "libnone.so.1", &Used::of("libnone.so.1", &BTreeSet::new())), None);
        assert_eq!(
            by_library("libfog 1 libfog1 (>= 1.2), fog-data\nlibfog 2 libfog2\n", "libfog.so.1")
                .map(|all| all.iter().map(ToString::to_string).collect::<Vec<_>>()),
            Some(vec!["libfog1 (>= 1.2)".to_string(), "fog-data".to_string()])
        );
    }
}
