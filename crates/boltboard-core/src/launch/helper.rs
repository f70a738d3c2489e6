//! Which program is started to help with steps: a small one, or this one once more.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::OnceLock;

/// The word that asks a helper whether it knows all words that follow. Its exit code is the answer.
pub const ASKS: &str = "answers-to";

/// A small program beside this one. A helper is started for each step that is watched, and a large program takes longer to start than
/// many a step takes.
#[derive(Debug, Clone)]
pub struct SmallHelper {
    file: PathBuf,
    answers: OnceLock<bool>,
}

impl SmallHelper {
    /// The program of this name in the folder of `own`, whether or not it is there.
    pub fn beside(own: &Path, name: &str) -> SmallHelper {
        SmallHelper { file: own.with_file_name(name), answers: OnceLock::new() }
    }

    /// Returns its file, if it is there and is not one of another version that knows other words. It is asked once.
    pub fn that_knows(&self, words: &[&str]) -> Option<&Path> {
        let answers = self.answers.get_or_init(|| {
            let mut asked = Command::new(&self.file);
            asked.arg(ASKS).args(words).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            asked.status().is_ok_and(|status| status.success())
        });
        answers.then_some(&*self.file)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::PermissionsExt;

    #[test]
    fn the_small_one_helps_where_it_knows_what_to_do() {
        let folder = tempfile::tempdir().unwrap();
        let (own, small) = (folder.path().join("tool"), folder.path().join("small"));
        let found = || SmallHelper::beside(&own, "small").that_knows(&["hold", "wait"]).map(Path::to_path_buf);
        assert_eq!(found(), None, "it is not there");
        for (script, wanted) in [
            ("#!/bin/sh\n[ \"$*\" = 'answers-to hold wait' ]\n", Some(&small)),
            ("#!/bin/sh\n[ \"$*\" = 'answers-to hold' ]\n", None),
            ("no program\n", None),
        ] {
            // Under another name first: what is being written cannot be started.
            let aside = folder.path().join("aside");
            std::fs::write(&aside, script).unwrap();
            std::fs::set_permissions(&aside, std::fs::Permissions::from_mode(0o755)).unwrap();
            std::fs::rename(&aside, &small).unwrap();
            assert_eq!(found().as_ref(), wanted, "{script}");
        }
    }
}
