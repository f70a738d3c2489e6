//! Changes that people carry to the sources: patches in the unified format, and whole files. They are applied to copies aside, never to
//! the sources, and wholly or not at all.

mod mirror;
mod unified;

use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::base::RelPath;

pub use mirror::mirror;
pub use unified::{FilePatch, Hunk, Patch, PatchFault};

/// What files of a tree hold instead: `None` where one is not there any more.
pub type Changed = BTreeMap<RelPath, Option<Vec<u8>>>;

/// Applies patches one after the other, each to what the ones before it left. `place` tells where a file of the tree lies.
///
/// # Errors
/// The first that does not fit; nothing is changed then.
pub fn apply(place: &dyn Fn(&RelPath) -> PathBuf, patches: &[Patch], changed: &mut Changed) -> Result<(), PatchFault> {
    let mut now = changed.clone();
    for patch in patches {
        for file in &patch.files {
            let from = file.old.as_ref().or(file.new.as_ref());
            let before = match from {
                None => None,
                Some(path) => match now.get(path) {
                    Some(content) => content.clone(),
                    None => std::fs::read(place(path)).ok(),
                },
            };
            let after = file.applied(&patch.name, before.as_deref())?;
            if let Some(old) = file.old.as_ref().filter(|old| Some(*old) != file.new.as_ref()) {
                now.insert(old.clone(), None);
            }
            if let Some(new) = &file.new {
                now.insert(new.clone(), Some(after));
            }
        }
    }
    *changed = now;
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "one\ntwo\nthree\nfour\nfive\nsix\nseven\n";

    fn tree() -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        std::fs::write(folder.path().join("a.c"), TEXT).unwrap();
        folder
    }

    fn applied(patch: &str) -> Result<Changed, PatchFault> {
        let folder = tree();
        let mut changed = Changed::new();
        apply(&|path| path.below(folder.path()), &[Patch::parse("fix.patch", patch)?], &mut changed)?;
        Ok(changed)
    }

    fn text(changed: &Changed, path: &str) -> Option<String> {
        let content = changed.get(&RelPath::parse(path).unwrap())?.clone()?;
        Some(String::from_utf8(content).unwrap())
    }

    #[test]
    fn hunks_change_lines_also_where_these_have_moved() {
        let patch = "--- a/a.c\n+++ b/a.c\n@@ -2,3 +2,3 @@ some function\n two\n-three\n+THREE\n four\n";
        assert_eq!(text(&applied(patch).unwrap(), "a.c").unwrap(), TEXT.replace("three", "THREE"));
        let moved = patch.replace("-2,3", "-5,3");
        assert_eq!(text(&applied(&moved).unwrap(), "a.c").unwrap(), TEXT.replace("three", "THREE"));
        let two = "--- a/a.c\n+++ b/a.c\n@@ -1,2 +1,3 @@\n+zero\n one\n two\n@@ -6,2 +7,2 @@\n six\n-seven\n+eight\n";
        assert_eq!(text(&applied(two).unwrap(), "a.c").unwrap(), format!("zero\n{}", TEXT.replace("seven", "eight")));
    }

    #[test]
    fn files_come_go_and_lose_their_last_line_end() {
        let new = "diff --git a/b.h b/b.h\nnew file mode 100644\n--- /dev/null\n+++ b/b.h\n@@ -0,0 +1,2 @@\n+int b;\n+int c;\n\\ No newline at end of file\n";
        assert_eq!(text(&applied(new).unwrap(), "b.h").unwrap(), "int b;\nint c;");
        let lines: String = TEXT.lines().map(|line| format!("-{line}\n")).collect();
        let gone = format!("--- a/a.c\n+++ /dev/null\n@@ -1,7 +0,0 @@\n{lines}");
        assert_eq!(applied(&gone).unwrap().get(&RelPath::parse("a.c").unwrap()), Some(&None));
    }

    #[test]
    fn what_does_not_fit_is_told_with_its_hunk() {
        let fault = applied("--- a/a.c\n+++ b/a.c\n@@ -2,2 +2,2 @@\n two\n-tree\n+THREE\n").unwrap_err().to_string();
        assert!(fault.contains("fix.patch") && fault.contains("hunk 1 of a.c") && fault.contains("tree"), "{fault}");
        let absent = applied("--- a/z.c\n+++ b/z.c\n@@ -1 +1 @@\n-x\n+y\n").unwrap_err().to_string();
        assert!(absent.contains("z.c") && absent.contains("is not there"), "{absent}");
        for wrong in [
            "",
            "no patch",
            "--- a/x\n+++ b/x\n@@ -1,2 +1 @@\n-x\n",
            "--- a/../x\n+++ b/../x\n@@ -1 +1 @@\n-x\n+y\n",
            "--- a/x\n+++ /etc/y\n@@ -1 +1 @@\n-x\n+y\n",
        ] {
            assert!(Patch::parse("fix.patch", wrong).is_err(), "{wrong:?}");
        }
    }
}
