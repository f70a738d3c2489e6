//! Needs: what the host must have.

use std::collections::BTreeMap;

use super::part::PartId;
use crate::base::{Id, Place, VersionRange};

/// The id of a [`NeedDef`].
pub type NeedId = Id<NeedDef>;

/// Something the host must have.
#[derive(Debug, Clone)]
pub struct NeedDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// How it is found.
    pub check: NeedCheck,
    /// The versions that fit; none takes any.
    pub version: Option<VersionRange>,
    /// The packages that bring it, by distribution (`debian`, `fedora`, …).
    pub packages: BTreeMap<String, String>,
    /// The tree's own copy, used when the host has none.
    pub bundled: Option<PartId>,
    /// What its absence means.
    pub importance: Importance,
    /// Where its name is written.
    pub place: Place,
}

/// How a need is found. Every field that is given must be met.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NeedCheck {
    /// The name of its installed metadata file, without `.pc`.
    pub library: Option<String>,
    /// A header that the compiler must find.
    pub header: Option<String>,
    /// Libraries that must link, without `-l`.
    pub link: Vec<String>,
    /// A program that must be in the search path.
    pub tool: Option<String>,
}

/// What the absence of a need means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Importance {
    /// Nothing can be built without it.
    Required,
    /// Options that want it are held off.
    Optional,
}
