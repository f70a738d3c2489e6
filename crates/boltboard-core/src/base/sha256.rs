//! SHA-256, in which archives and packages name their contents; what we keep ourselves goes by [`super::Digest`].

use std::fmt;
use std::io::Read;
use std::path::Path;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256 as Hasher};

/// A SHA-256 digest; it is shown as other programs print it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Sha256([u8; 32]);

impl Sha256 {
    /// Digests some bytes.
    pub fn of(bytes: &[u8]) -> Sha256 {
        Sha256(Hasher::digest(bytes).into())
    }

    /// Digests a file, piece by piece.
    ///
    /// # Errors
    /// It cannot be read.
    pub fn of_file(file: &Path) -> std::io::Result<Sha256> {
        let mut hasher = Hasher::new();
        let mut file = std::fs::File::open(file)?;
        let mut buffer = vec![0; 1 << 16];
        loop {
            match file.read(&mut buffer)? {
                0 => return Ok(Sha256(hasher.finalize().into())),
                read => hasher.update(&buffer[..read]),
            }
        }
    }
}

impl fmt::Display for Sha256 {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&hex::encode(self.0))
    }
}

/// A text is no SHA-256 digest.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is no SHA-256 digest: 64 hexadecimal digits are")]
pub struct NoSha256(pub String);

impl FromStr for Sha256 {
    type Err = NoSha256;
    fn from_str(text: &str) -> Result<Sha256, NoSha256> {
        let mut bytes = [0; 32];
        hex::decode_to_slice(text, &mut bytes).map_err(|_| NoSha256(text.to_string()))?;
        Ok(Sha256(bytes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn digests_are_read_as_they_are_shown() {
        let text = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(text.parse(), Ok(Sha256::of(b"abc")));
        assert_eq!(Sha256::of(b"abc").to_string(), text);
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), vec![7; 200_000]).unwrap();
        assert_eq!(Sha256::of_file(file.path()).unwrap(), Sha256::of(&vec![7; 200_000]));
        assert!("ba78".parse::<Sha256>().is_err());
        assert!(text.replace('b', "é").parse::<Sha256>().is_err());
    }
}
