//! Keys by which results are signed and known again (Ed25519, RFC 8032). Their texts are hexadecimal.

use ring::rand::SystemRandom;
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};
use serde::{Deserialize, Serialize};

/// What a private key's text begins with, so that nobody takes one for the other.
const PRIVATE: &str = "boltboard-signing-key ";
/// What a public key's text begins with.
const PUBLIC: &str = "boltboard-key ";

/// Why a key cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum KeyFault {
    /// It is no key.
    #[error("this is no key of the form `{PUBLIC}…`")]
    NoPublic,
    /// It is no private key.
    #[error("this is no key of the form `{PRIVATE}…`, as `boltboard store key` makes them")]
    NoPrivate,
    /// The system gives nothing random.
    #[error("this system gives no random numbers, so no key is made")]
    NoRandom,
}

/// A key that others check by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct PublicKey([u8; 32]);

/// A key that signs; its text is secret.
#[derive(Clone)]
pub struct SigningKey {
    document: Vec<u8>,
    public: PublicKey,
}

/// A signature with the key that it is checked by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Signed {
    pub by: PublicKey,
    signature: Vec<u8>,
}

impl std::fmt::Debug for SigningKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "SigningKey of {}", self.public)
    }
}

impl std::fmt::Display for PublicKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{PUBLIC}{}", hex::encode(self.0))
    }
}

impl PublicKey {
    /// Reads its text.
    ///
    /// # Errors
    /// It is none.
    pub fn parse(text: &str) -> Result<PublicKey, KeyFault> {
        let mut bytes = [0; 32];
        let digits = text.trim().strip_prefix(PUBLIC).ok_or(KeyFault::NoPublic)?;
        hex::decode_to_slice(digits, &mut bytes).map_err(|_| KeyFault::NoPublic)?;
        Ok(PublicKey(bytes))
    }
}

impl SigningKey {
    /// Makes a new one.
    ///
    /// # Errors
    /// The system gives no random numbers.
    pub fn generate() -> Result<SigningKey, KeyFault> {
        let document = Ed25519KeyPair::generate_pkcs8(&SystemRandom::new()).map_err(|_| KeyFault::NoRandom)?;
        SigningKey::of(document.as_ref().to_vec()).ok_or(KeyFault::NoRandom)
    }

    /// Reads its text.
    ///
    /// # Errors
    /// It is none.
    pub fn parse(text: &str) -> Result<SigningKey, KeyFault> {
        let bytes = text.trim().strip_prefix(PRIVATE).and_then(|digits| hex::decode(digits).ok());
        bytes.and_then(SigningKey::of).ok_or(KeyFault::NoPrivate)
    }

    fn of(document: Vec<u8>) -> Option<SigningKey> {
        let pair = Ed25519KeyPair::from_pkcs8(&document).ok()?;
        let public = PublicKey(pair.public_key().as_ref().try_into().ok()?);
        Some(SigningKey { document, public })
    }

    /// Returns its text, which is secret.
    pub fn text(&self) -> String {
        format!("{PRIVATE}{}\n", hex::encode(&self.document))
    }

    /// Returns the key that others check by.
    pub fn public(&self) -> PublicKey {
        self.public
    }

    pub(super) fn sign(&self, content: &[u8]) -> Option<Signed> {
        let pair = Ed25519KeyPair::from_pkcs8(&self.document).ok()?;
        Some(Signed { by: self.public, signature: pair.sign(content).as_ref().to_vec() })
    }
}

impl Signed {
    /// Tells whether it is a signature of a content.
    pub fn is_of(&self, content: &[u8]) -> bool {
        UnparsedPublicKey::new(&ED25519, self.by.0).verify(content, &self.signature).is_ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_signed_is_known_again_and_nothing_else() {
        let key = SigningKey::generate().unwrap();
        let other = SigningKey::generate().unwrap();
        let signed = key.sign(b"a result").unwrap();
        assert!(signed.is_of(b"a result") && !signed.is_of(b"another result"));
        assert!(!Signed { by: other.public(), ..signed.clone() }.is_of(b"a result"));
        let read = SigningKey::parse(&key.text()).unwrap();
        assert_eq!((read.public(), PublicKey::parse(&key.public().to_string())), (key.public(), Ok(key.public())));
        assert!(!format!("{key:?}").contains(&key.text()[30..60]));
        for text in ["", "boltboard-key 12", "boltboard-key xy", &key.text()] {
            assert_eq!(PublicKey::parse(text), Err(KeyFault::NoPublic));
        }
        assert!(
            SigningKey::parse(&key.public().to_string()).is_err()
                && SigningKey::parse("boltboard-signing-key 00").is_err()
        );
    }
}
