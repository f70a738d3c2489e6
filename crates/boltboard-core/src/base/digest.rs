//! Digests of content: equal digests stand for equal bytes.

use std::fmt;
use std::io::Read;
use std::path::Path;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

/// A 256-bit BLAKE3 digest, written as 64 hexadecimal digits.
#[derive(Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Digest([u8; 32]);

impl Digest {
    /// Returns the digest of `bytes`.
    pub fn of(bytes: &[u8]) -> Digest {
        Digest(*blake3::hash(bytes).as_bytes())
    }

    /// Returns the digest of a file's content.
    ///
    /// # Errors
    /// What the file system says when the file cannot be read.
    pub fn of_file(path: &Path) -> std::io::Result<Digest> {
        let mut file = std::fs::File::open(path)?;
        let mut hasher = blake3::Hasher::new();
        // Most files are small: a buffer of its own for each would cost more than reading it.
        let mut buffer = [0; 16 * 1024];
        loop {
            let count = file.read(&mut buffer)?;
            if count == 0 {
                return Ok(Digest(*hasher.finalize().as_bytes()));
            }
            hasher.update(&buffer[..count]);
        }
    }

    /// Returns the digest of a sequence of texts; the borders between them count.
    pub fn of_parts<'a>(parts: impl IntoIterator<Item = &'a str>) -> Digest {
        let mut bytes = Vec::with_capacity(1024);
        for part in parts {
            bytes.extend_from_slice(&(part.len() as u64).to_le_bytes());
            bytes.extend_from_slice(part.as_bytes());
        }
        Digest::of(&bytes)
    }

    /// Returns its first eight bytes: enough to tell damage from what was written.
    pub fn short(&self) -> [u8; 8] {
        let [a, b, c, d, e, f, g, h, ..] = self.0;
        [a, b, c, d, e, f, g, h]
    }

    /// Returns its first half: enough to tell names apart, whoever made them up.
    pub fn half(&self) -> [u8; 16] {
        let mut half = [0; 16];
        half.copy_from_slice(&self.0[..16]);
        half
    }
}

/// Takes the digest of bytes that come one after the other.
#[derive(Debug, Default)]
pub struct DigestOf(blake3::Hasher);

impl DigestOf {
    /// Adds bytes.
    pub fn add(&mut self, bytes: &[u8]) {
        self.0.update(bytes);
    }

    /// Returns the digest of all of them.
    pub fn end(self) -> Digest {
        Digest(*self.0.finalize().as_bytes())
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(blake3::Hash::from_bytes(self.0).to_hex().as_str())
    }
}
impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.to_string()[..12])
    }
}
impl FromStr for Digest {
    type Err = blake3::HexError;
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        Ok(Digest(*blake3::Hash::from_hex(text)?.as_bytes()))
    }
}
/// As text where people may read it, else as its bytes.
impl Serialize for Digest {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if serializer.is_human_readable() { serializer.collect_str(self) } else { self.0.serialize(serializer) }
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        if !deserializer.is_human_readable() {
            return <[u8; 32]>::deserialize(deserializer).map(Digest);
        }
        let text = <std::borrow::Cow<'de, str>>::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}
