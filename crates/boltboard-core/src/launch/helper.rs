//! Which program is started to help with steps: a small one, or this one once more.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// The word that asks a helper whether it knows all words that follow. Its exit code is the answer.
pub const ASKS: &str = "answers-to";

/// The program that helps. A helper is started for each step that is watched, and a large program takes longer to start than many a
/// step takes; so a small one lies beside it, which is used where it is there and knows what it is to do.
#[derive(Debug, Clone)]
pub struct Helper {
    own: PathBuf,
    beside: PathBuf,
    words: &'static [&'static str],
    chosen: OnceLock<PathBuf>,
}

impl Helper {
    /// `own` is the file of this program, which knows all of `words` itself; `small` is the name of the other one, in the same folder.
    pub fn new(own: &Path, small: &str, words: &'static [&'static str]) -> Helper {
        Helper { own: own.to_path_buf(), beside: own.with_file_name(small), words, chosen: OnceLock::new() }
    }

    /// Returns the file of the program to start. It is decided once.
    pub fn file(&self) -> &Path {
        self.chosen.get_or_init(|| if self.small_answers() { self.beside.clone() } else { self.own.clone() })
    }

    /// Whether the small one is there, and not one of another version that knows other words.
    fn small_answers(&self) -> bool {
        let mut asked = Command::new(&self.beside);
        asked.arg(ASKS).args(self.words);
        asked.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        asked.status().is_ok_and(|status| status.success())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn the_small_one_helps_where_it_knows_what_to_do() {
        let folder = tempfile::tempdir().unwrap();
        let own = folder.path().join("tool");
        let small = folder.path().join("small");
        let chosen = || Helper::new(&own, "small", &["hold", "wait"]).file().to_path_buf();
        assert_eq!(chosen(), own, "none is there");
        for (script, wanted) in [
            ("#!/bin/sh\n[ \"$*\" = 'answers-to hold wait' ]\n", &small),
            ("#!/bin/sh\n[ \"$*\" = 'answers-to hold' ]\n", &own),
            ("no program\n", &own),
        ] {
            // Under another name first: what is being written cannot be started.
            let aside = folder.path().join("aside");
            std::fs::write(&aside, script).unwrap();
            std::fs::set_permissions(&aside, std::fs::Permissions::from_mode(0o755)).unwrap();
            std::fs::rename(&aside, &small).unwrap();
            assert_eq!(&chosen(), wanted, "{script}");
        }
    }
}
