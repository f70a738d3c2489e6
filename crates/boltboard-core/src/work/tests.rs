use super::*;
use crate::base::Digest;
use crate::profile::ProfileName;

#[test]
fn a_work_folder_belongs_to_one_tree() {
    let folder = tempfile::tempdir().expect("a folder");
    let work = WorkFolder::at(&folder.path().join("w"));
    assert!(!work.exists());
    work.check("skerry").expect("nothing there yet");
    work.prepare("skerry").expect("made");
    work.prepare("skerry").expect("made already");
    assert!(work.exists());
    assert!(matches!(work.check("other"), Err(WorkFault::OtherTree { owner, .. }) if owner == "skerry"));
    std::fs::write(work.root().join("boltboard-work"), "format 7\ntree skerry\n").expect("written");
    assert!(matches!(work.check("skerry"), Err(WorkFault::Later(_))));
    let full = WorkFolder::at(folder.path());
    assert!(matches!(full.prepare("skerry"), Err(WorkFault::NotOurs(_))));
}

#[test]
fn the_profile_in_use_is_remembered() {
    let folder = tempfile::tempdir().expect("a folder");
    let work = WorkFolder::at(folder.path());
    assert_eq!(work.active().expect("readable"), None);
    let name = ProfileName::parse("small-station").expect("a name");
    work.set_active(&name).expect("written");
    assert_eq!(work.active().expect("readable"), Some(name));
    std::fs::write(folder.path().join("active"), "../../etc\n").expect("written");
    assert!(work.active().is_err(), "what is no name is nobody");
}

#[test]
fn status_tells_when_a_file_must_be_read_again() {
    let folder = tempfile::tempdir().expect("a folder");
    let (file, kept) = (folder.path().join("a.c"), folder.path().join("status.json"));
    std::fs::write(&file, "one").expect("written");
    let memo = StatusMemo::default();
    assert_eq!(memo.digest(&file), Some(Digest::of(b"one")));
    std::fs::write(&file, "two").expect("written");
    assert_eq!(memo.digest(&file), Some(Digest::of(b"two")), "the same size, another time");
    std::thread::sleep(std::time::Duration::from_millis(80));
    let memo = StatusMemo::default();
    memo.digest(&file);
    memo.save(&kept).expect("kept");
    assert_eq!(StatusMemo::load(&kept).seen(&file).map(|(_, digest)| digest), Some(Digest::of(b"two")));
    // What is kept is believed as long as the status is the same: that is what saves the reading.
    let lie = StatusMemo::default();
    lie.learn(&file, Digest::of(b"lie"));
    lie.save(&kept).expect("kept");
    assert_eq!(StatusMemo::load(&kept).digest(&file), Some(Digest::of(b"lie")));
    let mut bytes = std::fs::read(&kept).expect("there");
    let last = bytes.len() - 1;
    bytes[last] ^= 1;
    std::fs::write(&kept, bytes).expect("written");
    assert_eq!(StatusMemo::load(&kept).digest(&file), Some(Digest::of(b"two")), "a damaged memo is not believed");
    lie.save(&kept).expect("kept");
    std::fs::write(&file, "3").expect("written");
    assert_eq!(StatusMemo::load(&kept).digest(&file), Some(Digest::of(b"3")));
    assert_eq!(memo.digest(&folder.path().join("none")), None);
    assert_eq!(memo.digest(folder.path()), None, "a folder is no file");
}

#[test]
fn the_ledger_survives_a_torn_line() {
    let folder = tempfile::tempdir().expect("a folder");
    let path = folder.path().join("ledger.jsonl");
    let entry = LedgerEntry {
        shared: 0,
        started_s: 7,
        profile: "p".into(),
        outcome: LedgerOutcome::Done,
        steps: 3,
        ran: 2,
        away: 0,
        reused: 1,
        same_text: 2,
        flaky: 0,
        reasons: vec![Why::Tool { tool: "cc".into() }],
        cpu_ms: 60,
        memory: 1 << 20,
        disk: Disk::default(),
        wall_ms: 40,
        output_bytes: 9,
        slowest: vec![("out/bin/p".into(), 30)],
    };
    assert!(Ledger::read(&path).expect("none yet").entries.is_empty());
    Ledger::append(&path, &entry).expect("written");
    Ledger::append(&path, &LedgerEntry { outcome: LedgerOutcome::Failed, ..entry.clone() }).expect("written");
    let text = std::fs::read_to_string(&path).expect("there");
    std::fs::write(&path, format!("{text}{{\"started_s\": 8, \"prof")).expect("torn");
    let outcomes: Vec<LedgerOutcome> = Ledger::read(&path).expect("read").entries.iter().map(|e| e.outcome).collect();
    assert_eq!(outcomes, [LedgerOutcome::Done, LedgerOutcome::Failed]);
}

#[test]
fn one_lock_at_a_time() {
    let folder = tempfile::tempdir().expect("a folder");
    let work = WorkFolder::at(folder.path());
    let Locking::Taken(held) = WorkLock::ask(&work).expect("asked") else { panic!("nobody has it") };
    let Locking::Held(waiting) = WorkLock::ask(&work).expect("asked") else { panic!("it is had") };
    assert_eq!(waiting.holder, Some(std::process::id()));
    std::thread::scope(|scope| {
        let second = scope.spawn(|| waiting.wait().map(drop).is_ok());
        drop(held);
        assert!(second.join().expect("ends"));
    });
}

#[test]
fn a_file_that_changes_after_a_time_of_files_never_seems_older() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.c");
    for round in 0..200 {
        let before = time_of_files();
        std::fs::write(&file, format!("{round}")).expect("written");
        assert!(Stamp::of(&file).expect("there").changed_since(before), "round {round}");
    }
    std::thread::sleep(std::time::Duration::from_millis(30));
    assert!(!Stamp::of(&file).expect("there").changed_since(time_of_files()));
}

#[test]
fn content_counts_only_when_it_is_that_of_the_whole_time() {
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("a.c");
    let status = StatusMemo::default();
    std::fs::write(&file, "int a;\n").expect("written");
    std::thread::sleep(std::time::Duration::from_millis(30));
    let started = time_of_files();
    assert_eq!(status.digest_since(&file, started), Some(Digest::of(b"int a;\n")));
    std::fs::write(&file, "int b;\n").expect("written");
    assert_eq!(status.digest_since(&file, started), None, "it may have been read before");
    std::fs::write(&file, "int a;\n").expect("written");
    assert_eq!(status.digest_since(&file, started), None, "what it was in between nobody knows");
    assert_eq!(status.digest(&file), Some(Digest::of(b"int a;\n")));
    std::fs::remove_file(&file).expect("removed");
    assert_eq!(status.digest_since(&file, started), None);
}
