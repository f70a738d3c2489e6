use std::path::{Path, PathBuf};

use super::*;
use crate::testing::{Planner, TestTree};

const TREE: &str = r#"
[option.prefix]
kind = "path"
default = "/opt/t"
[part.tool]
kind = "data"
sources = ["tool"]
output = "bin"
install = "${prefix}/bin"
mode = "755"
[part.conf]
kind = "data"
sources = ["t.conf"]
output = "etc"
install = "${prefix}/etc"
role = "config"
"#;

/// A tree whose parts are "built": their outputs lie in place.
/// All parts, built as they are to be.
fn all(staging: Option<&Path>) -> InstallAsk<'_> {
    InstallAsk { parts: &[], staging, is_stale: &|_| false }
}

struct Built {
    tree: TestTree,
    planner: Planner,
}

impl Built {
    fn new() -> Built {
        let tree = TestTree::new(TREE, &[("tool", "x"), ("t.conf", "x")]);
        tree.write("build/out/bin/tool", "tool 1");
        tree.write("build/out/etc/t.conf", "conf 1");
        let chosen = format!("prefix={}/to", tree.root().display());
        let planner = Planner::new(&tree, &chosen, true);
        Built { tree, planner }
    }

    fn plan(&self) -> InstallPlan {
        plan_install(&self.planner.input(), &self.planner.plan(), &all(None)).expect("a plan")
    }

    fn steps(&self) -> Vec<(String, InstallStep)> {
        let name = |file: &InstallFile| file.target.file_name().expect("a name").to_string_lossy().into_owned();
        self.plan().files.iter().map(|f| (name(f), f.step)).collect()
    }

    fn install(&self) -> Result<InstallReport, InstallFault> {
        super::install(&self.planner.board, "p", &self.plan(), Record::Write)
    }

    fn to(&self, path: &str) -> PathBuf {
        self.tree.root().join("to").join(path)
    }
}

fn pairs(steps: &[(&str, InstallStep)]) -> Vec<(String, InstallStep)> {
    steps.iter().map(|(name, step)| ((*name).to_string(), *step)).collect()
}

#[test]
fn each_target_gets_the_step_that_it_needs() {
    use InstallStep::{Foreign, KeepEdited, New, Replace, Same};
    let built = Built::new();
    assert_eq!(built.steps(), pairs(&[("tool", New), ("t.conf", New)]));
    built.install().expect("installed");
    assert_eq!(built.steps(), pairs(&[("tool", Same), ("t.conf", Same)]));
    built.tree.write("build/out/bin/tool", "tool 2");
    built.tree.write("build/out/etc/t.conf", "conf 2");
    assert_eq!(built.steps(), pairs(&[("tool", Replace), ("t.conf", Replace)]));
    std::fs::write(built.to("etc/t.conf"), "mine").expect("edited");
    assert_eq!(built.steps(), pairs(&[("tool", Replace), ("t.conf", KeepEdited)]));
    let report = built.install().expect("installed");
    assert_eq!((report.written.len(), report.kept.len()), (1, 1));
    assert_eq!(std::fs::read_to_string(built.to("etc/t.conf")).expect("there"), "mine");
    assert_eq!(std::fs::read_to_string(built.to("etc/t.conf.from-1")).expect("there"), "conf 2");
    let fresh = Built::new();
    fresh.tree.write("to/bin/tool", "someone else's");
    fresh.tree.write("to/etc/t.conf", "someone else's");
    assert_eq!(fresh.steps(), pairs(&[("tool", Foreign), ("t.conf", KeepEdited)]));
    assert!(matches!(fresh.install(), Err(InstallFault::Foreign(files)) if files == [fresh.to("bin/tool")]));
    assert!(!fresh.to("share").exists(), "nothing was written");
}

#[test]
fn the_edit_of_a_kept_file_is_still_seen_later() {
    let built = Built::new();
    built.install().expect("installed");
    std::fs::write(built.to("etc/t.conf"), "mine").expect("edited");
    built.tree.write("build/out/etc/t.conf", "conf 2");
    built.install().expect("installed");
    built.tree.write("build/out/etc/t.conf", "conf 3");
    assert_eq!(built.steps()[1].1, InstallStep::KeepEdited, "it is still the person's");
}

#[test]
fn a_removal_takes_exactly_what_was_installed() {
    let built = Built::new();
    built.tree.write("to/bin/other", "x");
    built.install().expect("installed");
    std::fs::write(built.to("etc/t.conf"), "mine").expect("edited");
    let path = manifest_path(&built.planner.board, &built.tree.root().join("to"));
    let manifest = Manifest::read(&path).expect("readable").expect("there");
    assert_eq!((manifest.tree.as_str(), manifest.profile.as_str(), manifest.files.len()), ("t", "p", 2));
    let removal = uninstall(&manifest, &path).expect("removed");
    assert_eq!(
        (removal.removed.as_slice(), removal.left.as_slice()),
        ([built.to("bin/tool")].as_slice(), [built.to("etc/t.conf")].as_slice())
    );
    assert!(built.to("bin/other").exists() && built.to("etc/t.conf").exists());
    assert!(!built.to("share").exists(), "the record and its folders are gone");
}

#[test]
fn folders_that_were_there_before_stay() {
    let built = Built::new();
    std::fs::create_dir_all(built.to("bin")).expect("made by the person");
    built.install().expect("installed");
    let path = manifest_path(&built.planner.board, &built.tree.root().join("to"));
    let manifest = Manifest::read(&path).expect("readable").expect("there");
    uninstall(&manifest, &path).expect("removed");
    assert!(built.to("bin").is_dir() && !built.to("etc").exists());
}

#[test]
fn staging_puts_everything_below_one_folder_without_a_record() {
    let built = Built::new();
    let staging = built.tree.root().join("stage");
    let plan = plan_install(&built.planner.input(), &built.planner.plan(), &all(Some(&staging))).expect("a plan");
    super::install(&built.planner.board, "p", &plan, Record::Leave).expect("staged");
    let inside = staging.join(built.to("bin/tool").strip_prefix("/").expect("absolute"));
    assert!(inside.is_file() && !built.to("bin").exists() && !plan.manifest_path.exists());
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(&inside).expect("there").permissions().mode() & 0o777, 0o755);
}

#[test]
fn what_cannot_be_installed_is_said() {
    let built = Built::new();
    std::fs::remove_file(built.tree.root().join("build/out/bin/tool")).expect("removed");
    let plan = built.plan();
    let fault = super::install(&built.planner.board, "p", &plan, Record::Write).expect_err("not built");
    assert!(matches!(fault, InstallFault::NotBuilt(_)));
    let relative = Planner::new(&built.tree, "prefix=here", true);
    let fault = plan_install(&relative.input(), &relative.plan(), &all(None)).expect_err("relative");
    assert!(matches!(fault, InstallFault::Relative { to, .. } if to == "here/bin"));
    let bare = TestTree::new("[part.d]\nkind = \"data\"\nsources = [\"x\"]\n", &[("x", "")]);
    let planner = Planner::new(&bare, "", true);
    let fault = plan_install(&planner.input(), &planner.plan(), &all(None)).expect_err("no prefix");
    assert!(matches!(fault, InstallFault::NoPrefix));
}

#[test]
fn a_damaged_record_counts_as_none() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("m.json");
    assert_eq!(Manifest::read(&path).expect("none"), None);
    std::fs::write(&path, "{").expect("written");
    assert_eq!(Manifest::read(&path).expect("damaged"), None);
    assert!(Manifest::read(Path::new("/proc/self/mem")).is_err() || cfg!(not(target_os = "linux")));
}
