//! What a tree uses and does not carry: archives of data or of sources, with their digests.

use serde::{Deserialize, Serialize};

use super::Condition;
use crate::base::{Digest, Id, Place, RelPath, Sha256};

/// A file that is to be fetched before a build.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FetchDef {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub summary: String,
    /// It is wanted only while this holds.
    pub when: Option<Condition>,
    /// Addresses that have it, in the order in which they are asked.
    pub from: Vec<String>,
    /// Its size in bytes.
    pub size: u64,
    /// The digest of its content.
    pub sha256: Sha256,
    /// Where it counts as lying, as a path of the tree: a file, or the folder of what was unpacked.
    pub into: RelPath,
    /// What it is.
    pub form: FetchForm,
    /// The folder of the archive that is taken; all of it without one.
    pub folder: Option<RelPath>,
    /// Where it is written.
    pub place: Place,
}

/// Identifies something that is fetched.
pub type FetchId = Id<FetchDef>;

/// What a fetched file is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum FetchForm {
    /// It is used as it is.
    File,
    /// A `tar` archive that is unpacked.
    Tar(Compression),
}

/// How an archive is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Compression {
    /// Not at all.
    None,
    /// By `gzip`.
    Gzip,
    /// By `xz`.
    Xz,
    /// By `zstd`.
    Zstd,
}

impl FetchForm {
    /// All forms with the words for them.
    pub const WORDS: [(&str, FetchForm); 5] = [
        ("no", FetchForm::File),
        ("tar", FetchForm::Tar(Compression::None)),
        ("tar.gz", FetchForm::Tar(Compression::Gzip)),
        ("tar.xz", FetchForm::Tar(Compression::Xz)),
        ("tar.zst", FetchForm::Tar(Compression::Zstd)),
    ];

    /// Returns what a file of this name is.
    pub fn of_name(name: &str) -> FetchForm {
        let short = [(".tgz", Compression::Gzip), (".txz", Compression::Xz), (".tzst", Compression::Zstd)];
        let by_word = FetchForm::WORDS.iter().skip(1).find(|(word, _)| name.ends_with(&format!(".{word}")));
        let by_short = || short.iter().find(|(end, _)| name.ends_with(end)).map(|(_, how)| FetchForm::Tar(*how));
        by_word.map(|(_, form)| *form).or_else(by_short).unwrap_or(FetchForm::File)
    }
}

impl FetchDef {
    /// Returns the name of the file, as its addresses have it.
    pub fn file_name(&self) -> &str {
        self.from.first().map_or("", |address| name_of(address))
    }

    /// Returns the name under which its content is kept, unpacked where it is an archive.
    pub fn kept_as(&self) -> String {
        match (&self.form, &self.folder) {
            (FetchForm::File, _) => self.sha256.to_string(),
            (FetchForm::Tar(_), None) => format!("{}.unpacked", self.sha256),
            (FetchForm::Tar(_), Some(folder)) => {
                let digest = Digest::of(folder.as_str().as_bytes()).to_string();
                format!("{}.{}.unpacked", self.sha256, &digest[..16])
            }
        }
    }
}

/// Returns the last name in an address.
pub fn name_of(address: &str) -> &str {
    let path = address.split(['?', '#']).next().unwrap_or_default();
    path.trim_end_matches('/').rsplit('/').next().unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn forms_follow_from_names() {
        assert_eq!(FetchForm::of_name("a-1.tar.gz"), FetchForm::Tar(Compression::Gzip));
        assert_eq!(FetchForm::of_name("a.tgz"), FetchForm::Tar(Compression::Gzip));
        assert_eq!(FetchForm::of_name("a.tar"), FetchForm::Tar(Compression::None));
        assert_eq!(FetchForm::of_name("tar"), FetchForm::File);
        assert_eq!(FetchForm::of_name("a.bin"), FetchForm::File);
        assert_eq!(name_of("https://x.example/a/b.tar.gz?raw=1#x"), "b.tar.gz");
    }
}
