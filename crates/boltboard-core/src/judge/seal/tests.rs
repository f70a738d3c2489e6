//! Seals that stand, break, and go on.

use super::*;

fn settled() -> SystemTime {
    SystemTime::now() + std::time::Duration::from_secs(1)
}

fn sealed(file: &Path, asked: Digest) -> Option<Sealed> {
    match SealFile::read(file)?.look(asked, |_| None)? {
        Standing::Whole(sealed) => Some(sealed),
        Standing::Changed(_) => None,
    }
}

#[test]
fn a_seal_stands_while_every_place_is_as_it_was() {
    let asked = Digest::of(b"asked");
    let mine = Sealed { steps: 3, output_bytes: 70 };
    type Change = fn(&Path);
    let changes: [(&str, Change, bool); 8] = [
        ("nothing", |_| {}, true),
        ("an edit", |root| std::fs::write(root.join("read.c"), "other").unwrap(), false),
        ("an edit of the same size", |root| std::fs::write(root.join("young.c"), "YOUNG").unwrap(), false),
        ("a file that is gone", |root| std::fs::remove_file(root.join("read.c")).unwrap(), false),
        ("a new name in a folder", |root| std::fs::write(root.join("sub/new"), "").unwrap(), false),
        ("something where nothing was", |root| std::fs::write(root.join("missing.h"), "").unwrap(), false),
        (
            "another link",
            |root| {
                std::fs::remove_file(root.join("link")).unwrap();
                std::os::unix::fs::symlink("elsewhere", root.join("link")).unwrap();
            },
            false,
        ),
        (
            "a damaged seal",
            |root| {
                let mut bytes = std::fs::read(root.join("seal")).unwrap();
                let last = bytes.len() - 1;
                bytes[last] ^= 1;
                std::fs::write(root.join("seal"), bytes).unwrap();
            },
            false,
        ),
    ];
    for (case, change, want) in changes {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        std::fs::create_dir(root.join("sub")).unwrap();
        std::fs::write(root.join("read.c"), "read").unwrap();
        std::fs::write(root.join("young.c"), "young").unwrap();
        std::os::unix::fs::symlink("read.c", root.join("link")).unwrap();
        let status = StatusMemo::default();
        let young = status.digest(&root.join("young.c")).unwrap();
        std::thread::sleep(std::time::Duration::from_millis(60));
        let read = status.digest(&root.join("read.c")).unwrap();
        let mut maker = SealMaker::new(&status, settled());
        let part = Concern::Part(PartId::new(4));
        maker.read(root.join("read.c"), part, |content| content == read);
        maker.read(root.join("young.c"), part, |content| content == young);
        maker.looked(root.join("sub"), Concern::Plan);
        maker.absent(root.join("missing.h"), part);
        maker.leads(root.join("link"), "read.c", part);
        let saying = Saying { asked, sealed: mine, basis: b"basis".to_vec(), variables: BTreeMap::new() };
        maker.write(&root.join("seal"), &saying, None).unwrap();
        change(root);
        assert_eq!(sealed(&root.join("seal"), asked), want.then_some(mine), "{case}");
        assert_eq!(sealed(&root.join("seal"), Digest::of(b"else")), None);
    }
}

#[test]
fn what_changed_during_the_build_is_not_sealed() {
    let folder = tempfile::tempdir().unwrap();
    let (file, seal) = (folder.path().join("a.c"), folder.path().join("seal"));
    std::fs::write(&file, "one").unwrap();
    let status = StatusMemo::default();
    let (asked, sum) = (Digest::of(b""), Sealed { steps: 1, output_bytes: 1 });
    let mut maker = SealMaker::new(&status, SystemTime::now());
    let saying = Saying { asked, sealed: sum, basis: Vec::new(), variables: BTreeMap::new() };
    maker.looked(file.clone(), Concern::Plan);
    maker.write(&seal, &saying, None).unwrap();
    assert!(!seal.exists(), "it is as young as the build");
    let before = status.digest(&file).unwrap();
    std::fs::write(&file, "two!").unwrap();
    status.digest(&file).unwrap();
    let mut maker = SealMaker::new(&status, settled());
    maker.read(file, Concern::Common, |content| content == before);
    maker.write(&seal, &saying, None).unwrap();
    assert!(!seal.exists(), "a step read it before it was edited");
}

#[test]
fn a_seal_tells_whom_a_change_concerns_and_goes_on_from_there() {
    let folder = tempfile::tempdir().unwrap();
    let (root, seal) = (folder.path(), folder.path().join("seal"));
    let part = |number| Concern::Part(PartId::new(number));
    for name in ["a.c", "both.h", "gone.h"] {
        std::fs::write(root.join(name), name).unwrap();
    }
    std::fs::create_dir(root.join("sub")).unwrap();
    let status = StatusMemo::default();
    std::thread::sleep(std::time::Duration::from_millis(60));
    assert!(["a.c", "both.h", "gone.h"].iter().all(|name| status.digest(&root.join(name)).is_some()));
    let mut maker = SealMaker::new(&status, settled());
    for (name, number) in [("a.c", 0), ("both.h", 0), ("both.h", 7), ("gone.h", 7)] {
        maker.read(root.join(name), part(number), |_| true);
    }
    maker.names(root.join("sub"));
    let saying = Saying {
        asked: Digest::of(b""),
        sealed: Sealed { steps: 1, output_bytes: 1 },
        basis: b"b".to_vec(),
        variables: BTreeMap::new(),
    };
    maker.write(&seal, &saying, None).unwrap();
    std::fs::write(root.join("both.h"), "other").unwrap();
    std::fs::remove_file(root.join("gone.h")).unwrap();
    std::fs::write(root.join("sub/passing"), "").unwrap();
    std::fs::remove_file(root.join("sub/passing")).unwrap();
    let file = SealFile::read(&seal).unwrap();
    let Some(Standing::Changed(sweep)) = file.look(saying.asked, |_| None) else { panic!("two files have changed") };
    let mut changed: Vec<_> = sweep.changed().collect();
    changed.sort();
    let want = [("both.h", BTreeSet::from([part(0), part(7)])), ("gone.h", BTreeSet::from([part(7)]))];
    assert_eq!(changed, want.map(|(name, whom)| (root.join(name), whom)), "a folder with the same names is as it was");
    assert!(sweep.status(&root.join("a.c")).is_some() && sweep.status(&root.join("both.h")).is_none());
    // Part 7 was done again, no longer reads `gone.h`, and reads something new.
    std::fs::write(root.join("new.h"), "new").unwrap();
    let status = StatusMemo::default();
    assert!(["both.h", "new.h"].iter().all(|name| status.digest(&root.join(name)).is_some()));
    let mut maker = SealMaker::new(&status, settled());
    ["both.h", "new.h"].iter().for_each(|name| maker.read(root.join(name), part(7), |_| true));
    maker.write(&seal, &saying, Some(&sweep)).unwrap();
    assert_eq!(sealed(&seal, saying.asked), Some(saying.sealed));
    std::fs::write(root.join("both.h"), "again").unwrap();
    let file = SealFile::read(&seal).unwrap();
    let Some(Standing::Changed(sweep)) = file.look(saying.asked, |_| None) else { panic!("a file has changed") };
    assert_eq!(sweep.whom(&root.join("both.h")), BTreeSet::from([part(0), part(7)]));
    assert_eq!(sweep.whom(&root.join("new.h")), BTreeSet::from([part(7)]));
    assert_eq!(sweep.whom(&root.join("gone.h")), BTreeSet::new());
}

#[test]
fn a_seal_stands_while_the_variables_that_steps_were_given_do() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path();
    std::fs::write(root.join("a.c"), "a").unwrap();
    let status = StatusMemo::default();
    let content = status.digest(&root.join("a.c")).unwrap();
    let mut maker = SealMaker::new(&status, settled());
    maker.read(root.join("a.c"), Concern::Part(PartId::new(0)), |seen| seen == content);
    let (asked, sealed) = (Digest::of(b"asked"), Sealed { steps: 1, output_bytes: 2 });
    let variables = BTreeMap::from([("STATION".to_string(), Some("skerry".to_string())), ("LENS".to_string(), None)]);
    maker.write(&root.join("seal"), &Saying { asked, sealed, basis: Vec::new(), variables }, None).unwrap();
    let file = SealFile::read(&root.join("seal")).unwrap();
    for (case, station, lens, stands) in [
        ("as they were", Some("skerry"), None, true),
        ("another value", Some("rock"), None, false),
        ("gone", None, None, false),
        ("one that was not set", Some("skerry"), Some("first"), false),
    ] {
        let variable = |name: &str| if name == "STATION" { station } else { lens }.map(str::to_string);
        assert_eq!(file.look(asked, variable).is_some(), stands, "{case}");
    }
}
