//! Where shared results lie, and what a person says about them.

use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::keys::{KeyFault, PublicKey, SigningKey};
use crate::base::FileError;
use crate::base::files::read_text;

/// An address that begins with `http://` or `https://`, without a `/` at its end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Address(String);

/// Why something does not say where shared results lie.
#[derive(Debug, thiserror::Error)]
pub enum AddressFault {
    /// It is no address of ours.
    #[error(
        "`{0}` is no address of a shared store: it begins with http:// or https://, and names a server and a folder"
    )]
    NoAddress(String),
    /// What a person wrote down is wrong.
    #[error("{file}: {why}")]
    Wrong {
        /// The file.
        file: PathBuf,
        /// What is wrong with it.
        why: String,
    },
    /// A key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyFault),
    /// A file cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
}

impl Address {
    /// Reads an address.
    ///
    /// # Errors
    /// It is none. What stands before an `@` would be shown in answers, so it is refused.
    pub fn parse(text: &str) -> Result<Address, AddressFault> {
        let rest = text.strip_prefix("http://").or_else(|| text.strip_prefix("https://"));
        let server = rest.map(|rest| rest.split('/').next().unwrap_or_default()).unwrap_or_default();
        let plain = |c: char| c.is_ascii_graphic() && !"\"<>\\^`{|}?#".contains(c);
        if server.is_empty() || server.contains('@') || !text.chars().all(plain) {
            return Err(AddressFault::NoAddress(text.split_once('@').map_or(text, |(_, rest)| rest).to_string()));
        }
        Ok(Address(text.trim_end_matches('/').to_string()))
    }

    /// Returns it as people write it.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the address of something that lies there.
    pub(super) fn of(&self, name: &str) -> String {
        format!("{}/{name}", self.0)
    }
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

/// What a person says about a shared store.
#[derive(Debug, Clone)]
pub struct SharedConfig {
    /// Where it lies.
    pub address: Address,
    /// What is told to the server so that it answers; never shown.
    pub token: Option<Secret>,
    /// Whether results are only taken, and none are given.
    pub read_only: bool,
    /// The keys whose results are taken; all are where none is named.
    pub trusted: Vec<PublicKey>,
    /// The key that results of this machine are signed with.
    pub signing: Option<SigningKey>,
}

/// A text that nobody prints.
#[derive(Clone)]
pub struct Secret(String);

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Secret")
    }
}

impl Secret {
    /// Takes a text.
    pub fn new(text: &str) -> Secret {
        Secret(text.trim().to_string())
    }

    pub(super) fn text(&self) -> &str {
        &self.0
    }
}

/// What a person's file says. It never lies in a tree: a tree does not say where its results go.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
struct Written {
    address: Option<String>,
    token_file: Option<PathBuf>,
    #[serde(default)]
    read_only: bool,
    #[serde(default)]
    trusted: Vec<String>,
    signing_key: Option<PathBuf>,
}

impl SharedConfig {
    /// Puts together what is said: an address that was told counts before the one that a person wrote into `file`. `None` where nobody
    /// says anything.
    ///
    /// # Errors
    /// See [`AddressFault`].
    pub fn of(told: Option<&str>, token: Option<&str>, file: &Path) -> Result<Option<SharedConfig>, AddressFault> {
        let text = read_text(file)?;
        let wrong = |why: String| AddressFault::Wrong { file: file.to_path_buf(), why };
        let written: Written = match &text {
            Some(text) => toml_edit::de::from_str(text).map_err(|e| wrong(e.message().trim().replace('\n', "; ")))?,
            None => Written::default(),
        };
        let address = match told {
            // Nothing, for once.
            Some("") => return Ok(None),
            Some(told) => Address::parse(told)?,
            None => match &written.address {
                Some(address) => Address::parse(address)?,
                None => return Ok(None),
            },
        };
        let beside = |path: &Path| file.parent().map_or_else(|| path.to_path_buf(), |folder| folder.join(path));
        let read = |path: &Path| -> Result<String, AddressFault> {
            let path = beside(path);
            let text = read_text(&path)?;
            text.ok_or_else(|| wrong(format!("{} is not there", path.display())))
        };
        let token = match (token.filter(|token| !token.is_empty()), &written.token_file) {
            (Some(token), _) => Some(Secret::new(token)),
            (None, Some(path)) => Some(Secret::new(&read(path)?)),
            (None, None) => None,
        };
        let signing = written.signing_key.as_deref().map(read).transpose()?;
        Ok(Some(SharedConfig {
            address,
            token,
            read_only: written.read_only,
            trusted: written.trusted.iter().map(|key| PublicKey::parse(key)).collect::<Result<_, _>>()?,
            signing: signing.map(|text| SigningKey::parse(&text)).transpose()?,
        }))
    }
}
