//! What a step can have looked at, and what of it counts.

use std::collections::BTreeSet;
use std::fmt;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::str::FromStr;

use super::location::{Location, LocationFault};
use crate::base::Digest;
use crate::work::{Folders, StatusMemo};

/// One thing that a step's result depends on.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Look {
    /// The content of a file.
    Content(Location),
    /// The interface of a shared library.
    Interface(Location),
    /// The interface of a shared library, with all that counts for a copy of its data.
    Data(Location),
    /// The names in a folder.
    Names(Location),
    /// What sort of thing lies there and what may be done with it; also that something lies there at all.
    Mode(Location),
    /// All that its status says.
    Status(Location),
    /// Where a link leads.
    Leads(Location),
    /// The place and guard of an option header; its macros count one by one.
    Form(Location),
    /// What the programs behind a tool stand on, by the class of steps that run it alike.
    Footing(Digest),
    /// Where programs are looked for, of steps that nobody watched.
    SearchPath,
    /// Something that could not be seen, so that nobody knows whether it is the same.
    Unseen,
}

/// The marks of looks in their kept form; a content has none.
const NAMES: &str = "names>";
const INTERFACE: &str = "interface>";
const DATA: &str = "data>";
const MODE: &str = "mode>";
const STATUS: &str = "status>";
const LEADS: &str = "leads>";
const FORM: &str = "form>";
const FOOTING: &str = "footing>";
const SEARCH_PATH: &str = "path>";
const UNSEEN: &str = "unseen>";

impl Look {
    /// Returns the place that is looked at, if it is one.
    pub fn place(&self) -> Option<&Location> {
        match self {
            Look::Content(at)
            | Look::Interface(at)
            | Look::Data(at)
            | Look::Names(at)
            | Look::Mode(at)
            | Look::Status(at)
            | Look::Leads(at)
            | Look::Form(at) => Some(at),
            Look::Footing(_) | Look::SearchPath | Look::Unseen => None,
        }
    }

    /// Returns the file whose content counts, wholly or by its interface.
    pub fn file(&self) -> Option<&Location> {
        match self {
            Look::Content(at) | Look::Interface(at) | Look::Data(at) => Some(at),
            Look::Names(_)
            | Look::Mode(_)
            | Look::Status(_)
            | Look::Leads(_)
            | Look::Form(_)
            | Look::Footing(_)
            | Look::SearchPath
            | Look::Unseen => None,
        }
    }

    /// Returns what stands now for something that says all by itself, `None` where it is not there or does not.
    pub fn alone(&self, folders: &Folders, status: &StatusMemo) -> Option<Digest> {
        match self {
            Look::Content(at) => status.digest(&at.path(folders)),
            Look::Names(at) => names_digest(&at.path(folders)),
            Look::Mode(at) => mode_digest(&at.path(folders)),
            Look::Status(at) => status_digest(at, &at.path(folders)),
            Look::Leads(at) => leads_digest(&at.path(folders)),
            Look::Interface(_) | Look::Data(_) | Look::Form(_) | Look::Footing(_) | Look::SearchPath | Look::Unseen => {
                None
            }
        }
    }

    /// Returns the form that is kept on disk.
    pub fn kept(&self) -> String {
        match self {
            Look::Content(at) => at.kept(),
            Look::Interface(at) => format!("{INTERFACE}{}", at.kept()),
            Look::Data(at) => format!("{DATA}{}", at.kept()),
            Look::Names(at) => format!("{NAMES}{}", at.kept()),
            Look::Mode(at) => format!("{MODE}{}", at.kept()),
            Look::Status(at) => format!("{STATUS}{}", at.kept()),
            Look::Leads(at) => format!("{LEADS}{}", at.kept()),
            Look::Form(at) => format!("{FORM}{}", at.kept()),
            Look::Footing(class) => format!("{FOOTING}{class}"),
            Look::SearchPath => SEARCH_PATH.into(),
            Look::Unseen => UNSEEN.into(),
        }
    }
}

impl FromStr for Look {
    type Err = LocationFault;
    fn from_str(text: &str) -> Result<Look, LocationFault> {
        let Some((mark, rest)) = text.split_once('>').filter(|(mark, _)| !mark.contains(':')) else {
            return text.parse().map(Look::Content);
        };
        Ok(match &text[..=mark.len()] {
            INTERFACE => Look::Interface(rest.parse()?),
            DATA => Look::Data(rest.parse()?),
            NAMES => Look::Names(rest.parse()?),
            MODE => Look::Mode(rest.parse()?),
            STATUS => Look::Status(rest.parse()?),
            LEADS => Look::Leads(rest.parse()?),
            FORM => Look::Form(rest.parse()?),
            FOOTING => Look::Footing(rest.parse().map_err(|_| LocationFault::of(text))?),
            SEARCH_PATH => Look::SearchPath,
            UNSEEN => Look::Unseen,
            _ => return Err(LocationFault::of(text)),
        })
    }
}

impl fmt::Display for Look {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Look::Content(at) | Look::Interface(at) | Look::Data(at) | Look::Form(at) => write!(f, "{at}"),
            Look::Names(at) => write!(f, "the names in {at}"),
            Look::Mode(at) => write!(f, "the mode of {at}"),
            Look::Status(at) => write!(f, "the status of {at}"),
            Look::Leads(at) => write!(f, "where {at} leads"),
            Look::Footing(_) => write!(f, "the programs behind the tool"),
            Look::SearchPath => write!(f, "where programs are looked for"),
            Look::Unseen => write!(f, "what could not be seen"),
        }
    }
}

/// Returns what stands for the names in a folder, `None` where there is none.
fn names_digest(folder: &Path) -> Option<Digest> {
    let entries = std::fs::read_dir(folder).ok()?;
    let names: BTreeSet<Vec<u8>> =
        entries.filter_map(Result::ok).map(|entry| entry.file_name().as_bytes().to_vec()).collect();
    let mut text = Vec::new();
    for name in names {
        text.extend(name);
        text.push(0);
    }
    Some(Digest::of(&text))
}

/// Returns what stands for the sort of thing that a path leads to, and for its permission bits.
fn mode_digest(path: &Path) -> Option<Digest> {
    let status = std::fs::metadata(path).ok()?;
    Some(Digest::of(format!("mode {:o}", status.mode()).as_bytes()))
}

/// Returns what stands for a status: also the size of a file, and for a file of the tree the time of its last change, its owner and how
/// many names it has. Other files
/// are made anew with each build or unpacked at any time, so that their times say nothing.
fn status_digest(at: &Location, path: &Path) -> Option<Digest> {
    let status = std::fs::metadata(path).ok()?;
    let mode = status.mode();
    if !status.is_file() {
        return Some(Digest::of(format!("mode {mode:o}").as_bytes()));
    }
    let size = status.size();
    let text = match at {
        Location::Tree(_) => {
            let (seconds, rest, names) = (status.mtime(), status.mtime_nsec(), status.nlink());
            format!("file {mode:o} {size} {seconds} {rest} {names} {} {}", status.uid(), status.gid())
        }
        Location::Made(_) | Location::Object(_) | Location::Output(_) | Location::System(_) => {
            format!("file {mode:o} {size}")
        }
    };
    Some(Digest::of(text.as_bytes()))
}

/// Returns what stands for where a link leads, `None` where there is no link.
fn leads_digest(path: &Path) -> Option<Digest> {
    std::fs::read_link(path).ok().map(|target| Digest::of(target.as_os_str().as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::base::RelPath;

    #[test]
    fn looks_go_to_their_kept_form_and_back() {
        let at = Location::Tree(RelPath::parse("a>b/c.h").unwrap());
        for look in [
            Look::Content(at.clone()),
            Look::Interface(at.clone()),
            Look::Data(at.clone()),
            Look::Names(at.clone()),
            Look::Mode(Location::System("/usr/bin/x".into())),
            Look::Status(at.clone()),
            Look::Leads(at.clone()),
            Look::Form(at),
            Look::Footing(Digest::of(b"x")),
            Look::SearchPath,
            Look::Unseen,
        ] {
            assert_eq!(look.kept().parse::<Look>().as_ref(), Ok(&look));
        }
        assert!("other>tree:a".parse::<Look>().is_err());
    }
}
