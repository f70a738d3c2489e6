//! Needs: what the host must have, and who provides it.

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use super::Board;
use super::part::PartId;
use super::toolchain::Machine;
use crate::base::{Id, Place, VersionRange, near_matches};
use crate::checks::{HostCheck, Package, Probe};

/// The id of a [`NeedDef`].
pub type NeedId = Id<NeedDef>;

/// Something the host must have.
#[derive(Debug, Clone, serde::Serialize, serde::Deserialize)]
pub struct NeedDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// The machine that it is asked of.
    pub machine: Machine,
    /// How it is found.
    pub check: NeedCheck,
    /// The versions that fit; none takes any.
    pub version: Option<VersionRange>,
    /// The packages that bring it, by distribution (`debian`, `fedora`, …).
    pub packages: BTreeMap<String, Vec<Package>>,
    /// The tree's own copy, used when the host has none.
    pub bundled: Option<PartId>,
    /// What its absence means.
    pub importance: Importance,
    /// Where its name is written.
    pub place: Place,
}

impl NeedDef {
    /// Returns the versions that fit, of the need itself or of what a compiler is asked.
    pub fn wanted_versions(&self) -> Option<&VersionRange> {
        match (&self.version, &self.check) {
            (Some(range), _) => Some(range),
            (None, NeedCheck::Host(check)) => check.asks.iter().find_map(|ask| match &ask.probe {
                Probe::PackedVersion { range, .. } => Some(range),
                _ => None,
            }),
            (None, NeedCheck::AnyOf(_) | NeedCheck::AllOf(_)) => None,
        }
    }

    /// Tells whether a copy in a folder can meet it.
    pub fn can_come_from_a_folder(&self) -> bool {
        match &self.check {
            NeedCheck::Host(check) => check.can_come_from_a_folder(),
            NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => false,
        }
    }
}

/// How a need is found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, serde::Deserialize)]
pub enum NeedCheck {
    /// By looking at the host.
    Host(Box<HostCheck>),
    /// Met by the first of these that is met.
    AnyOf(Vec<NeedId>),
    /// Met when all of these are.
    AllOf(Vec<NeedId>),
}

/// What the absence of a need means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub enum Importance {
    /// Nothing can be built without it.
    Required,
    /// Options that want it are held off.
    Optional,
}

/// Who a person wants a need to be met by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Provider {
    /// The host, never the bundled copy.
    System,
    /// The tree's own copy, whatever the host has.
    Bundled,
    /// Nobody: as if it were not there.
    Off,
    /// A copy below this folder, with `include/` and `lib/`.
    Folder(PathBuf),
    /// One of several that would do.
    Need(NeedId),
}

/// Why a text cannot name a provider.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ProviderFault {
    /// It means nothing for this need.
    #[error("`{need}` cannot be met by `{text}`; it can be met by {}", .choices.join(", "))]
    Unknown {
        /// The need.
        need: String,
        /// The text.
        text: String,
        /// What could be said.
        choices: Vec<String>,
    },
}

impl Provider {
    /// Reads a provider of a need: `system`, `bundled`, `off`, an absolute folder, or one of the needs that would do.
    ///
    /// # Errors
    /// The text means nothing for this need.
    pub fn read(board: &Board, need: NeedId, text: &str) -> Result<Provider, ProviderFault> {
        let definition = &board.needs[need];
        let members: &[NeedId] = match &definition.check {
            NeedCheck::AnyOf(members) => members,
            NeedCheck::AllOf(_) | NeedCheck::Host(_) => &[],
        };
        match text {
            "system" => return Ok(Provider::System),
            "off" => return Ok(Provider::Off),
            "bundled" if definition.bundled.is_some() => return Ok(Provider::Bundled),
            _ => {}
        }
        let in_folders = definition.can_come_from_a_folder();
        if in_folders && text.starts_with('/') && !text.chars().any(char::is_control) {
            return Ok(Provider::Folder(PathBuf::from(text)));
        }
        if let Some(member) = members.iter().find(|member| board.needs[**member].name == text) {
            return Ok(Provider::Need(*member));
        }
        let mut choices = vec!["system".to_string()];
        choices.extend(definition.bundled.map(|_| "bundled".to_string()));
        choices.push("off".into());
        choices.extend(members.iter().map(|member| board.needs[*member].name.clone()));
        choices.extend(in_folders.then(|| "a folder such as /opt/x".to_string()));
        Err(ProviderFault::Unknown { need: definition.name.clone(), text: text.to_string(), choices })
    }

    /// Writes it as it is read.
    pub fn text(&self, board: &Board) -> String {
        match self {
            Provider::System => "system".into(),
            Provider::Bundled => "bundled".into(),
            Provider::Off => "off".into(),
            Provider::Folder(folder) => folder.display().to_string(),
            Provider::Need(need) => board.needs[*need].name.clone(),
        }
    }
}

impl Board {
    /// Returns names of needs that come near.
    pub fn needs_near(&self, name: &str) -> Vec<String> {
        near_matches(name, self.needs.iter().map(|(_, need)| need.name.as_str()))
    }
}
