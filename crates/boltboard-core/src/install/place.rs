//! What lies where a file is to go, and whether a place is one that this tree may write to or remove from.

use std::collections::BTreeSet;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Component, Path, PathBuf};

use super::InstallFault;
use crate::base::{Digest, FileError};
use crate::board::{PartDef, PartKind};
use crate::plan::PlanInput;
use crate::step::Location;

/// What an installed name is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Content {
    /// A file with this content.
    File(Digest),
    /// Another name of this one.
    Link(String),
    /// Something that no installation makes.
    Other(&'static str),
}

/// Something that lies where a file is to go, and that is not overwritten.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct InTheWay {
    /// Where.
    pub path: PathBuf,
    /// What it is, as in "PATH is …".
    pub what: &'static str,
}

impl std::fmt::Display for InTheWay {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} is {}", self.path.display(), self.what)
    }
}

/// Returns what is at a path, `None` for nothing. Only plain files are read: anything else could be endless.
pub(crate) fn content_of(path: &Path) -> Result<Option<Content>, FileError> {
    let status = match std::fs::symlink_metadata(path) {
        Ok(status) => status,
        Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => {
            return Ok(None);
        }
        Err(e) => return Err(FileError::on("look at", path)(e)),
    };
    let kind = status.file_type();
    if kind.is_symlink() {
        let target = std::fs::read_link(path).map_err(FileError::on("read", path))?;
        return Ok(Some(Content::Link(target.display().to_string())));
    }
    if kind.is_file() {
        return Digest::of_file(path).map(|digest| Some(Content::File(digest))).map_err(FileError::on("read", path));
    }
    Ok(Some(Content::Other(if kind.is_dir() {
        "a folder"
    } else if kind.is_fifo() {
        "a FIFO"
    } else if kind.is_socket() {
        "a socket"
    } else {
        "a device"
    })))
}

/// Checks that a folder to install to is absolute and spelt without detours.
pub(super) fn checked_folder(part: &PartDef, to: &str) -> Result<PathBuf, InstallFault> {
    let path = Path::new(to);
    if !path.is_absolute() {
        return Err(InstallFault::Relative { part: part.name.clone(), to: to.to_string() });
    }
    if path.components().any(|step| step == Component::ParentDir) {
        return Err(InstallFault::Detour { part: part.name.clone(), to: to.to_string() });
    }
    Ok(path.to_path_buf())
}

/// Checks that links on the way to a place below a staging folder do not lead out of it.
pub(super) fn stays_below(staging: &Path, target: &Path) -> Result<(), InstallFault> {
    let Ok(real) = staging.canonicalize() else { return Ok(()) };
    let there = target.ancestors().skip(1).take_while(|folder| folder.starts_with(staging));
    for folder in there {
        match folder.canonicalize() {
            Ok(led) if !led.starts_with(&real) => {
                return Err(InstallFault::LeavesStaging { folder: folder.to_path_buf(), led });
            }
            Ok(_) => return Ok(()),
            // What is not there leads nowhere; a link without an end would be written through.
            Err(_) if folder.is_symlink() => {
                let led = std::fs::read_link(folder).unwrap_or_default();
                return Err(InstallFault::LeavesStaging { folder: folder.to_path_buf(), led });
            }
            Err(_) => {}
        }
    }
    Ok(())
}

/// Returns a folder, or one above it below the prefix, that is a link and that neither we nor the administrator made:
/// who may write to one folder there must not choose where ours are written.
pub(super) fn link_of_others(prefix: &Path, folder: &Path) -> Option<(PathBuf, PathBuf)> {
    let me = rustix::process::geteuid().as_raw();
    let below: Vec<&Path> = folder.ancestors().take_while(|folder| folder.starts_with(prefix)).collect();
    below.into_iter().rev().find_map(|folder| {
        let status = std::fs::symlink_metadata(folder).ok().filter(std::fs::Metadata::is_symlink)?;
        let led = std::fs::read_link(folder).unwrap_or_default();
        (status.uid() != 0 && status.uid() != me).then(|| (folder.to_path_buf(), led))
    })
}

/// All places that this tree could install to, whatever is chosen: where each part goes by the values of now, under all names of its
/// files. A record that this work folder did not write is believed only so far.
#[derive(Debug, Clone, Default)]
pub struct Installable {
    places: BTreeSet<PathBuf>,
}

impl Installable {
    /// Works the places out.
    pub fn of(input: &PlanInput<'_>) -> Installable {
        let mut places = BTreeSet::new();
        for (_, part) in input.board.parts.iter() {
            let Some(rule) = &part.install else { continue };
            let Ok(folder) = checked_folder(part, &input.text(&rule.to)) else { continue };
            let names: Vec<String> = match &part.kind {
                PartKind::Data => {
                    let files = part.sources.iter().flat_map(|rule| input.listing.of_rule(rule));
                    let made = part.sources.iter().flat_map(|rule| rule.made.iter().cloned());
                    files.chain(made).filter_map(|file| part.kept(&file)).map(|kept| kept.to_string()).collect()
                }
                _ => input.files_of(part).iter().map(|at: &Location| at.name().to_string()).collect(),
            };
            places.extend(rule.folders.iter().map(|empty| empty.path.below(&folder)));
            places.extend(names.into_iter().chain(rule.name.clone()).map(|name| folder.join(name)));
        }
        Installable { places }
    }

    /// Tells whether a folder is one in which, or below which, one of them lies.
    pub fn leads_through(&self, folder: &Path) -> bool {
        self.places.iter().any(|place| place.starts_with(folder))
    }

    /// Tells whether a place is one of them.
    pub fn has(&self, place: &Path) -> bool {
        self.places.contains(place)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_lies_there_is_told_without_reading_what_is_endless() {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        std::fs::write(at("file"), "x").unwrap();
        std::os::unix::fs::symlink("file", at("link")).unwrap();
        rustix::fs::mknodat(
            rustix::fs::CWD,
            at("queue"),
            rustix::fs::FileType::Fifo,
            rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR,
            0,
        )
        .unwrap();
        let found = |name: &str| content_of(&at(name)).unwrap();
        assert_eq!(found("none"), None);
        assert_eq!(found("file"), Some(Content::File(Digest::of(b"x"))));
        assert_eq!(found("link"), Some(Content::Link("file".into())));
        assert_eq!(found("queue"), Some(Content::Other("a FIFO")));
        assert_eq!(content_of(folder.path()).unwrap(), Some(Content::Other("a folder")));
        assert_eq!(content_of(Path::new("/dev/zero")).unwrap(), Some(Content::Other("a device")));
    }

    #[test]
    fn links_of_others_are_not_written_through() {
        let folder = tempfile::tempdir().unwrap();
        let prefix = folder.path().canonicalize().unwrap();
        std::fs::create_dir(prefix.join("real")).unwrap();
        std::os::unix::fs::symlink("real", prefix.join("bin")).unwrap();
        // One that we made ourselves is our own affair.
        assert_eq!(link_of_others(&prefix, &prefix.join("bin")), None);
        // Only the administrator can give a link away.
        if rustix::process::geteuid().is_root() {
            std::os::unix::fs::lchown(prefix.join("bin"), Some(12_345), None).unwrap();
            let found = link_of_others(&prefix, &prefix.join("bin/deep"));
            assert_eq!(found, Some((prefix.join("bin"), PathBuf::from("real"))));
            assert_eq!(link_of_others(&prefix.join("real"), &prefix.join("real/deep")), None);
        }
    }

    #[test]
    fn links_do_not_lead_out_of_a_staging_folder() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path().canonicalize().unwrap();
        let (staging, aside) = (root.join("stage"), root.join("aside"));
        std::fs::create_dir_all(staging.join("usr/bin")).unwrap();
        std::fs::create_dir_all(&aside).unwrap();
        std::os::unix::fs::symlink("usr/bin", staging.join("bin")).unwrap();
        std::os::unix::fs::symlink(&aside, staging.join("etc")).unwrap();
        std::os::unix::fs::symlink("/nowhere/at/all", staging.join("opt")).unwrap();
        for (target, stays) in
            [("usr/bin/x", true), ("bin/x", true), ("new/x", true), ("etc/x", false), ("opt/x", false)]
        {
            assert_eq!(stays_below(&staging, &staging.join(target)).is_ok(), stays, "{target}");
        }
    }
}
