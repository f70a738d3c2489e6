//! Packages: what an installation would put in place, as files that other machines install. Nothing of this machine is touched, and the
//! same input gives the same bytes.

mod architecture;
mod archive;
mod contents;
mod deb;
mod debian;
mod licenses;
mod needs;
mod parcel;
mod rpm;
mod spdx;

pub use architecture::Architecture;
pub use contents::{Packed, PackedFile, Share, packed};
pub use debian::{DebianVersion, Dependency};
pub use needs::{Library, Needed};
pub use parcel::{PackageFile, PackageForm, Parcel, parcels, write};

use std::path::PathBuf;

use crate::base::FileError;

/// Why a package cannot be made.
#[derive(Debug, thiserror::Error)]
pub enum PackageFault {
    /// A file operation failed.
    #[error(transparent)]
    File(#[from] FileError),
    /// The tree's name cannot be that of a package.
    #[error(
        "`{0}` cannot be the name of a package: letters, digits, `+`, `-` and `.`, two at least, a letter or digit first"
    )]
    Name(String),
    /// The tree's version cannot be that of a package.
    #[error("`{0}` cannot be the version of a package: a digit first, then letters, digits, `.`, `+`, `-` and `~`")]
    Version(String),
    /// A package of this form says who answers for it.
    #[error("a .deb says who answers for it, and [tree] has no `maintainer`")]
    NoMaintainer,
    /// A package of this form says its licence.
    #[error("an .rpm says its licence, and [tree] has no `license`")]
    NoLicense,
    /// A version with a sign that stands for something else there.
    #[error("`{0}` cannot be the version of an .rpm: `-` stands before the number of a packing")]
    RpmVersion(String),
    /// What is packed cannot be packed in this form.
    #[error("it cannot be packed as an .rpm: {0}")]
    Rpm(String),
    /// Programs for two kinds of machines.
    #[error("{first} is for {one} and {second} for {other}; a package is for one kind of machine")]
    TwoMachines {
        /// A file.
        first: PathBuf,
        /// What it runs on.
        one: Architecture,
        /// Another file.
        second: PathBuf,
        /// What that runs on.
        other: Architecture,
    },
    /// Programs for a kind of machine that packages have no name for.
    #[error("{file} is for a kind of machine (number {number} in ELF) that packages here have no name for")]
    UnknownMachine {
        /// The file.
        file: PathBuf,
        /// The number.
        number: u16,
    },
    /// A name that archives cannot hold as a text.
    #[error("{0:?} has a name that is not UTF-8, or one with a line break")]
    OddName(PathBuf),
}
