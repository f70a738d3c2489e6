//! What goes into packages, and which share of it: to run, to build on, to read.

use std::path::{Path, PathBuf};

use super::PackageFault;
use super::parcel::PackageForm;
use crate::board::InstallRole;
use crate::install::{Content, Contents};

/// Something that a package puts in place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackedFile {
    /// Where, absolute.
    pub path: PathBuf,
    /// What it is.
    pub packed: Packed,
}

/// What it is that a package puts in place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Packed {
    /// A file.
    File {
        /// The built one.
        source: PathBuf,
        /// Permission bits.
        mode: u32,
        /// Whether it belongs to the person once it is there.
        is_config: bool,
    },
    /// Another name of a file beside it.
    Link(String),
    /// An empty folder.
    Folder {
        /// Permission bits.
        mode: u32,
        /// Who it is to belong to, as in `user:group`.
        owner: Option<String>,
    },
}

/// A share of what is installed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Share {
    /// What is needed to run it.
    RunTime,
    /// What is needed to build on it.
    Development,
    /// What is there to be read.
    Documentation,
}

impl Share {
    /// All.
    pub const ALL: [Share; 3] = [Share::RunTime, Share::Development, Share::Documentation];

    /// What it is there for, in words.
    pub fn word(self) -> &'static str {
        match self {
            Share::RunTime => "to run",
            Share::Development => "to build on",
            Share::Documentation => "to read",
        }
    }

    /// What a package with only this share adds to its name, as each world has it.
    pub fn suffix(self, form: PackageForm) -> &'static str {
        match (self, form) {
            (Share::RunTime, _) => "",
            (Share::Development, PackageForm::Rpm) => "-devel",
            (Share::Development, PackageForm::Tar | PackageForm::Deb) => "-dev",
            (Share::Documentation, _) => "-doc",
        }
    }

    /// The share that something belongs to, by where it lies and what it is called.
    pub fn of(file: &PackedFile) -> Share {
        let lies_in = |folder: &str| file.path.components().any(|step| step.as_os_str() == folder);
        let below_share = |name: &str| {
            let mut steps = file.path.components().map(|step| step.as_os_str());
            steps.any(|step| step == "share") && steps.next().is_some_and(|step| step == name)
        };
        let name = file.path.file_name().unwrap_or_default().to_string_lossy();
        // The name by which a library is linked leads to the one by which it is loaded.
        let is_link_name = name.ends_with(".so") && matches!(&file.packed, Packed::Link(to) if to.contains(".so."));
        if lies_in("include") || name.ends_with(".a") || name.ends_with(".pc") || is_link_name {
            Share::Development
        } else if ["man", "doc", "info"].into_iter().any(below_share) {
            Share::Documentation
        } else {
            Share::RunTime
        }
    }
}

/// Everything that an installation would put in place, in the order of paths.
///
/// # Errors
/// A name that no archive can hold.
pub fn packed(contents: &Contents) -> Result<Vec<PackedFile>, PackageFault> {
    let mut all = Vec::new();
    for file in &contents.files {
        let packed = match &file.content {
            Some(Content::Link(to)) => Packed::Link(to.clone()),
            _ => {
                let is_config = file.role == InstallRole::Config;
                Packed::File { source: file.source.clone(), mode: file.mode, is_config }
            }
        };
        all.push(PackedFile { path: checked(&file.path)?, packed });
    }
    for folder in &contents.folders {
        let packed = Packed::Folder { mode: folder.mode, owner: folder.owner.clone() };
        all.push(PackedFile { path: checked(&folder.path)?, packed });
    }
    all.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(all)
}

/// Lists of a package are texts of lines.
fn checked(path: &Path) -> Result<PathBuf, PackageFault> {
    match path.to_str() {
        Some(text) if !text.contains(char::is_control) => Ok(path.to_path_buf()),
        _ => Err(PackageFault::OddName(path.to_path_buf())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn shares_follow_from_places_and_names() {
        let file = Packed::File { source: PathBuf::new(), mode: 0o644, is_config: false };
        let link = |to: &str| Packed::Link(to.into());
        for (path, packed, share) in [
            ("/usr/bin/skerryd", &file, Share::RunTime),
            ("/usr/lib/libskerry.so.2", &file, Share::RunTime),
            ("/usr/lib/libskerry.so", &link("libskerry.so.2"), Share::Development),
            ("/usr/lib/plain.so", &file, Share::RunTime),
            ("/usr/lib/libskerry.a", &file, Share::Development),
            ("/usr/include/skerry/a.h", &file, Share::Development),
            ("/usr/lib/pkgconfig/skerry.pc", &file, Share::Development),
            ("/usr/share/man/man8/skerryd.8", &file, Share::Documentation),
            ("/usr/share/skerry/man", &file, Share::RunTime),
            ("/usr/bin/also", &link("skerryd"), Share::RunTime),
        ] {
            let share_of = Share::of(&PackedFile { path: PathBuf::from(path), packed: packed.clone() });
            assert_eq!(share_of, share, "{path}");
        }
    }
}
