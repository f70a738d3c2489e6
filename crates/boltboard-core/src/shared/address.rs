//! Where shared results lie, and what a person says about them.

use std::path::{Path, PathBuf};

use serde::Deserialize;

use super::identity::Identity;
use super::keys::{KeyFault, PublicKey, SigningKey};
use crate::base::FileError;
use crate::base::files::read_text;
use crate::base::web::{Address, NoAddress};

/// Why something does not say where shared results lie.
#[derive(Debug, thiserror::Error)]
pub enum AddressFault {
    /// It is no address.
    #[error(transparent)]
    NoAddress(#[from] NoAddress),
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

/// What a person says about a shared store.
#[derive(Debug, Clone)]
pub struct SharedConfig {
    /// Where it lies.
    pub address: Address,
    /// What is told to the server so that it answers; never shown.
    pub token: Option<Secret>,
    /// Who the server is to be, and who we are to it.
    pub identity: Identity,
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
    #[serde(default)]
    allowed: Vec<String>,
    token_file: Option<PathBuf>,
    authority: Option<PathBuf>,
    certificate: Option<PathBuf>,
    certificate_key: Option<PathBuf>,
    #[serde(default)]
    read_only: bool,
    #[serde(default)]
    trusted: Vec<String>,
    signing_key: Option<PathBuf>,
}

/// All that a person says about shared stores. Profiles may travel with a tree, so that one names only what the person allows.
#[derive(Debug, Clone, Default)]
pub struct Sharing {
    typed: Option<Typed>,
    written: Option<Address>,
    allowed: Vec<Address>,
    typed_token: Option<Secret>,
    written_token: Option<Secret>,
    identity: Identity,
    read_only: bool,
    trusted: Vec<PublicKey>,
    signing: Option<SigningKey>,
}

/// What is typed for this once, or set in the environment.
#[derive(Debug, Clone)]
enum Typed {
    Nowhere,
    At(Address),
}

/// Where results are shared in the end.
#[derive(Debug, Clone, Default)]
pub struct SharedAt {
    /// Where they are, if anywhere.
    pub config: Option<SharedConfig>,
    /// What a profile names that the person does not allow.
    pub refused: Option<Address>,
}

impl Sharing {
    /// Puts together what is said. `typed`: an address for this once, or an empty text for none; `file`: what the person wrote down.
    ///
    /// # Errors
    /// See [`AddressFault`].
    pub fn of(typed: Option<&str>, token: Option<&str>, file: &Path) -> Result<Sharing, AddressFault> {
        let typed = match typed {
            // Nothing is shared then, whatever the file says.
            Some("") => return Ok(Sharing { typed: Some(Typed::Nowhere), ..Sharing::default() }),
            Some(typed) => Some(Typed::At(Address::parse(typed)?)),
            None => None,
        };
        let text = read_text(file)?;
        let wrong = |why: String| AddressFault::Wrong { file: file.to_path_buf(), why };
        let written: Written = match &text {
            Some(text) => toml_edit::de::from_str(text).map_err(|e| wrong(e.message().trim().replace('\n', "; ")))?,
            None => Written::default(),
        };
        let beside = |path: &Path| file.parent().map_or_else(|| path.to_path_buf(), |folder| folder.join(path));
        let read = |path: &Path| -> Result<String, AddressFault> {
            let path = beside(path);
            let text = read_text(&path)?;
            text.ok_or_else(|| wrong(format!("{} is not there", path.display())))
        };
        let mut identity = Identity::default();
        if let Some(path) = &written.authority {
            identity = identity.vouched_by(&beside(path), &read(path)?)?;
        }
        identity = match (&written.certificate, &written.certificate_key) {
            (Some(path), Some(key)) => identity.shown((&beside(path), &read(path)?), (&beside(key), &read(key)?))?,
            (None, None) => identity,
            (Some(_), None) => return Err(wrong("`certificate` needs `certificate-key`, the file of its key".into())),
            (None, Some(_)) => {
                return Err(wrong("`certificate-key` needs `certificate`, the file that it is for".into()));
            }
        };
        let token_of_file = written.token_file.as_deref().map(read).transpose()?;
        let signing = written.signing_key.as_deref().map(read).transpose()?;
        Ok(Sharing {
            typed,
            written: written.address.as_deref().map(Address::parse).transpose()?,
            allowed: written.allowed.iter().map(|text| Address::parse(text)).collect::<Result<_, _>>()?,
            typed_token: token.filter(|token| !token.is_empty()).map(Secret::new),
            written_token: token_of_file.as_deref().map(Secret::new),
            identity,
            read_only: written.read_only,
            trusted: written.trusted.iter().map(|key| PublicKey::parse(key)).collect::<Result<_, _>>()?,
            signing: signing.map(|text| SigningKey::parse(&text)).transpose()?,
        })
    }

    /// Decides where results are shared: what is typed counts before what a profile `named`, and that before what the person wrote down.
    pub fn at(&self, named: Option<&Address>) -> SharedAt {
        let written = || self.written.clone().map(|address| self.config(address));
        match (&self.typed, named) {
            (Some(Typed::Nowhere), _) => SharedAt::default(),
            (Some(Typed::At(address)), _) => SharedAt { config: Some(self.config(address.clone())), refused: None },
            (None, None) => SharedAt { config: written(), refused: None },
            (None, Some(named)) if self.allows(named) => {
                SharedAt { config: Some(self.config(named.clone())), refused: None }
            }
            (None, Some(named)) => SharedAt { config: written(), refused: Some(named.clone()) },
        }
    }

    /// Tells whether profiles may name this.
    pub fn allows(&self, named: &Address) -> bool {
        self.written.iter().chain(&self.allowed).any(|allowed| allowed == named)
    }

    fn config(&self, address: Address) -> SharedConfig {
        // What is written down for one server is not told to another.
        let is_for = self.written.as_ref().is_none_or(|written| written.is_at_server_of(&address));
        let token = self.typed_token.clone().or_else(|| self.written_token.clone().filter(|_| is_for));
        SharedConfig {
            address,
            token,
            identity: if is_for { self.identity.clone() } else { self.identity.clone().unshown() },
            read_only: self.read_only,
            trusted: self.trusted.clone(),
            signing: self.signing.clone(),
        }
    }
}

/// Returns a person's file with one more address that profiles may name; what else stands there stays as it is.
///
/// # Errors
/// The file is no TOML, or says something else where addresses are listed.
pub fn with_allowed(text: &str, address: &Address, file: &Path) -> Result<String, AddressFault> {
    let wrong = |why: &str| AddressFault::Wrong { file: file.to_path_buf(), why: why.trim().replace('\n', "; ") };
    let mut document: toml_edit::DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| wrong(e.message()))?;
    let list = document.entry("allowed").or_insert_with(|| toml_edit::value(toml_edit::Array::new()));
    let list = list.as_array_mut().ok_or_else(|| wrong("`allowed` must be a list of addresses"))?;
    list.push(address.as_str());
    Ok(document.to_string())
}
