//! A profile from a record: its choices, with places of whoever asks where the record leaves out those of whoever built.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use serde::Serialize;

use super::{Record, Said};

/// The folders that stand where a record names none.
#[derive(Debug, Clone, Copy)]
pub struct Places<'p> {
    /// The person's home folder.
    pub home: &'p Path,
    /// The folder of the sources.
    pub tree: &'p Path,
    /// The folder of the build.
    pub build: &'p Path,
}

/// A profile as a record tells it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FromRecord {
    /// The text of its file.
    pub text: String,
    /// Options whose values hold a folder that is another one for whoever asks.
    pub moved: BTreeSet<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct Written<'r> {
    format: u32,
    tree: &'r str,
    tree_version: &'r str,
    choose: BTreeMap<&'r str, Said>,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    providers: BTreeMap<&'r str, String>,
}

impl Record {
    /// Writes a profile that chooses what the record says was chosen.
    pub fn profile(&self, places: Places<'_>) -> FromRecord {
        let put = |text: &str| put_back(text, places);
        let choose: BTreeMap<&str, Said> =
            self.choices.iter().map(|(name, said)| (name.as_str(), said.clone().map(&put))).collect();
        let moved = choose.iter().filter(|(name, said)| self.choices[**name] != **said);
        let moved = moved.map(|(name, _)| (*name).to_string()).collect();
        let providers = self.providers.iter().map(|(need, by)| (need.as_str(), put(by))).collect();
        let written = Written { format: 1, tree: &self.tree, tree_version: &self.version, choose, providers };
        FromRecord { text: toml_edit::ser::to_string_pretty(&written).unwrap_or_default(), moved }
    }
}

/// Puts folders where their signs stand.
fn put_back(text: &str, places: Places<'_>) -> String {
    let folder = |path: &Path| path.display().to_string();
    let text = text.replace(Record::TREE, &folder(places.tree)).replace(Record::BUILD, &folder(places.build));
    let mut out = String::new();
    let mut rest = text.as_str();
    while let Some(at) = rest.find(Record::HOME) {
        let (before, after) = (&rest[..at], &rest[at + Record::HOME.len()..]);
        let begins = before.chars().last().is_none_or(|c| "=:,\"'".contains(c) || c.is_ascii_uppercase());
        out.push_str(before);
        if begins && after.chars().next().is_none_or(|c| "/:,\"'".contains(c)) {
            out.push_str(&folder(places.home));
        } else {
            out.push_str(Record::HOME);
        }
        rest = after;
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Covers;

    #[test]
    fn a_profile_comes_back_with_the_places_of_whoever_asks() {
        let mut record = Record::new("skerry", "2.4", "skerryd", "program", "mine", Covers::All);
        let text = |text: &str| Said::Text(text.into());
        let choices = [
            ("prefix", text("~/.local")),
            ("data", text("(tree)/data")),
            ("flags", Said::Words(vec!["-I~/include".into(), "-DNAME=a~b".into()])),
            ("fog", text("on")),
            ("watts", Said::Number(60)),
        ];
        record.choices = choices.into_iter().map(|(name, said)| (name.to_string(), said)).collect();
        record.providers = [("gps".to_string(), "~/gps".to_string())].into();
        let places = Places { home: Path::new("/home/b"), tree: Path::new("/src"), build: Path::new("/w") };
        let FromRecord { text, moved } = record.profile(places);
        assert_eq!(
            text,
            "format = 1\ntree = \"skerry\"\ntree-version = \"2.4\"\n\n[choose]\ndata = \"/src/data\"\n\
             flags = [\n    \"-I/home/b/include\",\n    \"-DNAME=a~b\",\n]\nfog = \"on\"\n\
             prefix = \"/home/b/.local\"\nwatts = 60\n\n[providers]\ngps = \"/home/b/gps\"\n"
        );
        assert_eq!(moved, ["data", "flags", "prefix"].map(String::from).into());
    }
}
