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

/// A machine on which nothing runs.
fn nobody() -> &'static Running {
    static NOBODY: std::sync::LazyLock<Running> = std::sync::LazyLock::new(|| Running::of(Path::new("/not/there")));
    &NOBODY
}

fn from() -> BuiltFrom {
    BuiltFrom {
        against: None,
        compiler: "cc 1".into(),
        environment: std::collections::BTreeMap::new(),
        record: crate::record::Record::new("t", "1", "", "", "p", crate::record::Covers::All),
        now_s: 1000,
    }
}

/// All parts, built as they are to be.
fn all(staging: Option<&Path>) -> InstallAsk<'_> {
    InstallAsk { parts: &[], staging, is_stale: &|_| false, wrote: &|_| true, running: nobody() }
}

/// A tree whose parts are "built": their outputs lie in place.
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
        let lock = self.lock();
        super::install(&self.planner.board, &from(), &self.plan(), Record::Write(&lock), &mut |_| Ok(()))
    }

    fn lock(&self) -> Lock {
        Lock::take(&self.to("share/boltboard/t.json")).expect("nobody has it")
    }

    fn uninstall(&self) -> Removal {
        let path = self.to("share/boltboard/t.json");
        uninstall(&self.record(), &path, Believed::All, nobody(), &mut |_| Ok(())).expect("removed")
    }

    fn record(&self) -> Manifest {
        let path = manifest_path(&self.planner.board, &self.tree.root().join("to"));
        match Manifest::read(&path, &self.planner.board).expect("readable") {
            Recorded::Whole(manifest) => *manifest,
            other => panic!("{other:?}"),
        }
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
    assert_eq!(fresh.steps(), pairs(&[("tool", Foreign(NOT_OURS)), ("t.conf", KeepEdited)]));
    let in_the_way = [InTheWay { path: fresh.to("bin/tool"), what: NOT_OURS }];
    assert!(matches!(fresh.install(), Err(InstallFault::Foreign(files)) if files == in_the_way));
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
    let manifest = built.record();
    assert_eq!((manifest.tree.as_str(), manifest.profile.as_str(), manifest.files.len()), ("t", "p", 2));
    let removal = uninstall(&manifest, &path, Believed::All, nobody(), &mut |_| Ok(())).expect("removed");
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
    let manifest = built.record();
    uninstall(&manifest, &path, Believed::All, nobody(), &mut |_| Ok(())).expect("removed");
    assert!(built.to("bin").is_dir() && !built.to("etc").exists());
}

#[test]
fn staging_puts_everything_below_one_folder_without_a_record() {
    let built = Built::new();
    let staging = built.tree.root().join("stage");
    let plan = plan_install(&built.planner.input(), &built.planner.plan(), &all(Some(&staging))).expect("a plan");
    super::install(&built.planner.board, &from(), &plan, Record::Leave, &mut |_| Ok(())).expect("staged");
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
    let fault = super::install(&built.planner.board, &from(), &plan, Record::Write(&built.lock()), &mut |_| Ok(()))
        .expect_err("not built");
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
fn what_replaced_our_file_is_not_ours() {
    let built = Built::new();
    built.install().expect("installed");
    std::fs::write(built.to("bin/tool"), "someone's own build").expect("replaced");
    built.tree.write("build/out/bin/tool", "tool 2");
    assert_eq!(built.steps()[0].1, InstallStep::Foreign(CHANGED));
    assert!(built.install().is_err());
    std::fs::remove_file(built.to("bin/tool")).expect("removed");
    std::fs::create_dir(built.to("bin/tool")).expect("a folder");
    assert_eq!(built.steps()[0].1, InstallStep::Foreign("a folder"));
    std::fs::remove_dir(built.to("bin/tool")).expect("removed");
    assert_eq!(built.steps()[0].1, InstallStep::New);
}

#[test]
fn what_was_the_same_before_stays_after_a_removal() {
    let built = Built::new();
    built.tree.write("to/bin/tool", "tool 1");
    built.install().expect("installed");
    let removal = built.uninstall();
    assert_eq!(removal.removed, [built.to("etc/t.conf")]);
    assert!(built.to("bin/tool").exists());
}

#[test]
fn our_names_for_things_aside_take_nothing_away() {
    let built = Built::new();
    built.install().expect("installed");
    std::fs::write(built.to("etc/t.conf"), "mine").expect("edited");
    std::fs::write(built.to("etc/t.conf.from-1"), "someone's notes").expect("written");
    built.tree.write("build/out/etc/t.conf", "conf 2");
    let report = built.install().expect("installed");
    let place = |report: &InstallReport| report.kept.iter().map(|kept| kept.beside.clone()).collect::<Vec<_>>();
    assert_eq!(place(&report), [Some(built.to("etc/t.conf.from-1-2"))]);
    assert_eq!(std::fs::read_to_string(built.to("etc/t.conf.from-1")).expect("there"), "someone's notes");
    // The same again needs no further name.
    assert_eq!(place(&built.install().expect("installed")), place(&report));
}

#[test]
fn a_record_of_someone_else_removes_only_what_this_tree_installs() {
    let built = Built::new();
    built.install().expect("installed");
    let victim = built.to("bin/victim");
    std::fs::write(&victim, "dear").expect("written");
    let mut forged = built.record();
    let digest = Some(Digest::of(b"dear"));
    forged.files.push(Installed { path: victim.clone(), digest, link: None, config: false, mode: None });
    forged.folders.push(built.to("lib"));
    std::fs::create_dir(built.to("lib")).expect("someone's");
    let path = built.to("share/boltboard/t.json");
    forged.write(&path).expect("written");
    let strange = InstallAsk { parts: &[], staging: None, is_stale: &|_| false, wrote: &|_| false, running: nobody() };
    let plan = plan_install(&built.planner.input(), &built.planner.plan(), &strange).expect("a plan");
    assert_eq!((plan.obsolete.len(), plan.kept.len()), (0, 1), "it stays");
    let installable = Installable::of(&built.planner.input());
    let removal = uninstall(&forged, &path, Believed::Only(&installable), nobody(), &mut |_| Ok(())).expect("removed");
    assert_eq!(removal.removed, [built.to("bin/tool"), built.to("etc/t.conf")]);
    assert_eq!(removal.doubted, std::slice::from_ref(&victim));
    assert!(victim.exists() && built.to("lib").exists());
}

#[test]
fn a_damaged_record_is_told_and_its_copy_taken() {
    let built = Built::new();
    built.install().expect("installed");
    let (path, copy) = (built.to("share/boltboard/t.json"), built.to("share/boltboard/t.copy.json"));
    let whole = built.record();
    std::fs::write(&path, "{").expect("written");
    assert_eq!(built.record(), whole);
    std::fs::write(&copy, "{").expect("written");
    assert_eq!(Manifest::read(&path, &built.planner.board).expect("readable"), Recorded::Damaged);
    let fault = plan_install(&built.planner.input(), &built.planner.plan(), &all(None)).expect_err("damaged");
    assert!(matches!(fault, InstallFault::Damaged(_)));
    assert!(Manifest::read(Path::new("/dev/zero"), &built.planner.board).is_err(), "it is endless");
}

#[test]
fn places_with_detours_are_refused() {
    let built = Built::new();
    let detour = Planner::new(&built.tree, "prefix=/opt/../etc", true);
    let fault = plan_install(&detour.input(), &detour.plan(), &all(None)).expect_err("a detour");
    assert!(matches!(fault, InstallFault::Detour { .. }), "{fault}");
    let staging = built.tree.root().join("stage");
    let first = staging.join(built.tree.root().components().nth(1).expect("a name"));
    std::fs::create_dir_all(&staging).expect("made");
    std::os::unix::fs::symlink(
        first.strip_prefix(&staging).map(|name| Path::new("/").join(name)).expect("below"),
        &first,
    )
    .expect("linked");
    let fault =
        plan_install(&built.planner.input(), &built.planner.plan(), &all(Some(&staging))).expect_err("it leaves");
    assert!(matches!(fault, InstallFault::LeavesStaging { .. }), "{fault}");
}

#[test]
fn nothing_without_a_name_is_left_behind() {
    let built = Built::new();
    built.install().expect("installed");
    built.tree.write("build/out/bin/tool", "tool 2");
    built.install().expect("installed");
    let names = std::fs::read_dir(built.to("bin")).expect("there").map(|entry| entry.expect("an entry").file_name());
    assert_eq!(names.collect::<Vec<_>>(), ["tool"]);
}

/// A change with a place that cannot be written to.
fn halfway(root: &Path) -> (change::Yard, change::Change) {
    let at = |name: &str| root.join(name);
    std::fs::create_dir_all(root).expect("made");
    std::fs::write(at("first"), "old").expect("written");
    std::fs::write(at("gone"), "gone").expect("written");
    std::fs::write(at("wall"), "no folder").expect("written");
    let file = |text: &str| State::File { digest: Digest::of(text.as_bytes()), mode: 0o640 };
    let of = |name: &str, after| Move {
        path: at(name),
        before: State::of(&at(name)).expect("seen").expect("a file"),
        after,
    };
    let yard = change::Yard::of(&at("share/t.json"));
    let moves = vec![of("first", file("new")), of("gone", State::Nothing), of("wall/second", file("new"))];
    let change = change::Change {
        doing: Doing::Install,
        moves,
        folders: vec![at("made")],
        leaving: vec![],
        generation: 1,
        after: Some("{}".into()),
    };
    std::fs::write(at("new"), "new").expect("written");
    (yard, change)
}

#[test]
fn a_change_that_cannot_be_finished_is_taken_back() {
    let folder = tempfile::tempdir().expect("a folder");
    let (root, text) = (folder.path(), |name: &str| std::fs::read_to_string(folder.path().join(name)));
    let (yard, change) = halfway(root);
    let sources = [(Digest::of(b"new"), root.join("new"))].into();
    let fault = yard.make(&change, &sources, &mut |_| Ok(())).expect_err("a file is no folder");
    assert!(matches!(fault, ChangeFault::TakenBack(_)), "{fault}");
    assert_eq!((text("first").expect("there"), text("gone").expect("there")), ("old".into(), "gone".into()));
    assert!(!root.join("made").exists() && yard.begun().is_none() && !yard.manifest.exists());
    // Written down and cut off, it is taken back by whoever comes next, or finished once the wall is gone.
    for wall in [true, false] {
        let (yard, change) = halfway(root);
        let mut noted = Vec::new();
        yard.write_down(&change, &sources, &mut |seal| {
            noted.push(seal);
            Ok(())
        })
        .expect("written down");
        let (begun, seal) = yard.begun().expect("it is there");
        assert_eq!(
            (begun.moves.len(), noted),
            (3, vec![seal, Digest::of(b"{}")]),
            "the change, and the record to come"
        );
        std::fs::write(root.join("first"), "new").expect("it had come so far");
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(root.join("first"), std::fs::Permissions::from_mode(0o640)).expect("set");
        if !wall {
            std::fs::remove_file(root.join("wall")).expect("removed");
        }
        let ended = yard.recover(&begun).expect("one of both");
        assert_eq!(matches!(ended, Recovered::TakenBack(Doing::Install, _)), wall, "{ended:?}");
        let first = if wall { "old" } else { "new" };
        assert_eq!((text("first").expect("there").as_str(), root.join("gone").exists()), (first, wall));
        assert!(yard.begun().is_none());
    }
    assert_eq!(text("wall/second").expect("there"), "new");
}

#[test]
fn what_changed_meanwhile_is_left() {
    let folder = tempfile::tempdir().expect("a folder");
    let (yard, mut change) = halfway(folder.path());
    change.moves.pop();
    let sources = [(Digest::of(b"new"), folder.path().join("new"))].into();
    yard.write_down(&change, &sources, &mut |_| Ok(())).expect("written down");
    std::fs::write(folder.path().join("gone"), "dear to someone").expect("written");
    yard.recover(&change).expect("finished");
    assert_eq!(std::fs::read_to_string(folder.path().join("gone")).expect("there"), "dear to someone");
    assert_eq!(std::fs::read_to_string(folder.path().join("first")).expect("there"), "new");
}

#[test]
fn what_a_machine_was_booted_with_stays_beside_what_replaces_it() {
    let built = Built::new();
    built.install().expect("installed");
    built.tree.write("proc/cmdline", "BOOT_IMAGE=(hd0,gpt2)/bin/tool root=/dev/sda1\n");
    let booted = Running::of(&built.tree.root().join("proc"));
    let install = |running: &Running| {
        let ask = InstallAsk { running, ..all(None) };
        let plan = plan_install(&built.planner.input(), &built.planner.plan(), &ask).expect("a plan");
        let lock = built.lock();
        let seals = &mut |_| Ok(());
        super::install(&built.planner.board, &from(), &plan, Record::Write(&lock), seals).expect("installed")
    };
    let lies = |name: &str| std::fs::read_to_string(built.to(name)).ok();
    built.tree.write("build/out/bin/tool", "tool 2");
    let report = install(&booted);
    assert_eq!(report.kept_beside, [(built.to("bin/tool"), built.to("bin/tool.from-1"))]);
    assert_eq!((lies("bin/tool").as_deref(), lies("bin/tool.from-1").as_deref()), (Some("tool 2"), Some("tool 1")));
    // Going back, too, and whatever goes back keeps what was booted.
    let generations = Generations::read(&built.to("share/boltboard/t.json"), &built.planner.board);
    let generations = generations.expect("readable").expect("there");
    let plan = generations.plan_back(1, Believed::All, &booted).expect("a plan");
    generations.back(&plan, &mut |_| Ok(())).expect("done");
    assert_eq!((lies("bin/tool").as_deref(), lies("bin/tool.from-1-2").as_deref()), (Some("tool 1"), Some("tool 2")));
    // A removal leaves it; once another one was booted, what stayed goes.
    let path = built.to("share/boltboard/t.json");
    let removal = uninstall(&built.record(), &path, Believed::All, &booted, &mut |_| Ok(())).expect("removed");
    assert_eq!(removal.in_use, [built.to("bin/tool")]);
    assert_eq!(lies("bin/tool").as_deref(), Some("tool 1"));
    let other = Built::new();
    other.install().expect("installed");
    other.tree.write("proc/cmdline", "BOOT_IMAGE=/bin/tool\n");
    other.tree.write("build/out/bin/tool", "tool 2");
    let booted = Running::of(&other.tree.root().join("proc"));
    let ask = InstallAsk { running: &booted, ..all(None) };
    let plan = plan_install(&other.planner.input(), &other.planner.plan(), &ask).expect("a plan");
    let seals = &mut |_| Ok(());
    super::install(&other.planner.board, &from(), &plan, Record::Write(&other.lock()), seals).expect("installed");
    assert!(other.to("bin/tool.from-1").exists());
    let report = other.install().expect("installed");
    assert_eq!(report.removed, [other.to("bin/tool.from-1")]);
}
