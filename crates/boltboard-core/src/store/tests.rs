use std::os::unix::fs::PermissionsExt;

use super::*;
use crate::base::Digest;
use crate::profile::ProfileName;

fn note(input: &str, wall_ms: u64) -> Note {
    Note {
        inputs: vec![(format!("tree:{input}"), Digest::of(input.as_bytes()))],
        absent: vec![],
        macros: vec![("A".into(), Some("1".into())), ("B".into(), None)],
        macro_names: Digest::of(b"names"),
        outputs: vec![],
        said: "a warning".into(),
        wall_ms,
        memory: 0,
        text: None,
        closely: false,
    }
}

#[test]
fn contents_come_back_as_they_were_with_their_mode() {
    let folder = tempfile::tempdir().expect("a folder");
    let (store, file) = (Store::at(&folder.path().join("store")), folder.path().join("made"));
    std::fs::write(&file, "content").expect("written");
    let digest = Digest::of(b"content");
    assert!(!store.has(&digest));
    store.put(&file, &digest).expect("kept");
    store.put(&file, &digest).expect("kept again");
    std::fs::remove_file(&file).expect("removed");
    let back = folder.path().join("deep/er/back");
    assert!(store.has(&digest) && store.restore(&digest, &back, 0o755).expect("restored"));
    assert_eq!(std::fs::read_to_string(&back).expect("there"), "content");
    assert_eq!(std::fs::metadata(&back).expect("there").permissions().mode() & 0o777, 0o755);
    assert!(!store.restore(&Digest::of(b"other"), &back, 0o644).expect("asked"));
}

#[test]
fn damaged_contents_are_dropped() {
    let folder = tempfile::tempdir().expect("a folder");
    let (store, file) = (Store::at(&folder.path().join("store")), folder.path().join("made"));
    std::fs::write(&file, "content").expect("written");
    let digest = Digest::of(b"content");
    store.put(&file, &digest).expect("kept");
    // The file that was made is the one that is kept, so an edit in place reaches both.
    std::fs::write(&file, "edited in place").expect("damaged");
    let back = folder.path().join("back");
    std::fs::write(&back, "older").expect("written");
    assert!(!store.restore(&digest, &back, 0o644).expect("asked"));
    assert!(!store.has(&digest), "it is dropped");
    assert_eq!(std::fs::read_to_string(&back).expect("there"), "older", "and nothing is put in place");
    assert_eq!(std::fs::read_to_string(&file).expect("there"), "edited in place");
    std::fs::write(&file, "content").expect("written");
    store.copy(&file, &digest).expect("kept");
    std::fs::write(&file, "edited again").expect("written");
    assert!(store.restore(&digest, &back, 0o644).expect("asked"), "a copy is not reached");
}

#[test]
fn notes_are_kept_newest_first_without_repeats_and_within_a_limit() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::at(folder.path());
    let key = Digest::of(b"command");
    assert!(store.notes(&key).is_empty());
    for (input, wall_ms) in [("a", 1), ("b", 2), ("a", 3)] {
        store.add_note(&key, &note(input, wall_ms), None).expect("kept");
    }
    let times: Vec<u64> = store.notes(&key).iter().map(|n| n.wall_ms).collect();
    assert_eq!(times, [3, 2]);
    assert_eq!(store.notes(&key)[0], note("a", 3), "read back as written");
    let scrap = folder.path().join("scrap");
    for n in 0..50 {
        // Longer than the note, shorter, or not there.
        if n % 3 > 0 {
            std::fs::write(&scrap, "what was read\n".repeat(if n % 3 == 1 { 3000 } else { 1 })).expect("written");
        }
        store.add_note(&key, &note(&n.to_string(), n), Some(&scrap)).expect("kept");
        assert_eq!(store.notes(&key)[0].wall_ms, n, "the file holds what was added and nothing else");
        assert!(!scrap.exists(), "it is the note's file now");
    }
    assert_eq!(store.notes(&key).len(), 32);
}

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
        started_s: 7,
        profile: "p".into(),
        outcome: LedgerOutcome::Done,
        steps: 3,
        ran: 2,
        from_store: 1,
        spared: 2,
        unsteady: 0,
        change: vec!["option fog".into()],
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
    let held = WorkLock::take(&work, &mut |_| panic!("nobody has it")).expect("taken");
    let waited = std::sync::Mutex::new(None);
    std::thread::scope(|scope| {
        let second = scope
            .spawn(|| WorkLock::take(&work, &mut |holder| *waited.lock().expect("unpoisoned") = Some(holder)).is_ok());
        while waited.lock().expect("unpoisoned").is_none() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
        drop(held);
        assert!(second.join().expect("ends"));
    });
    assert_eq!(*waited.lock().expect("unpoisoned"), Some(Some(std::process::id())));
}

#[test]
fn a_long_journal_is_written_anew() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut journal = Journal::open(folder.path()).expect("opened");
    let record = |step: &str, wall_ms| StepRecord {
        step: step.into(),
        part: "p".into(),
        base_key: Digest::of(b"k"),
        command: vec!["cc".into()],
        tool: Digest::of(b"t"),
        note: Some(note("a", wall_ms)),
    };
    for n in 0..200 {
        journal.add(&record("s", n)).expect("added");
    }
    journal.add(&record("gone", 1)).expect("added");
    journal.remove("gone").expect("removed");
    journal.settle().expect("settled");
    let size = |name: &str| std::fs::metadata(folder.path().join(name)).expect("there").len();
    let size = size("journal") + size("records");
    assert!(size < 500, "one record takes {size} bytes");
    journal.add(&record("t", 5)).expect("added after");
    let again = Journal::open(folder.path()).expect("opened");
    assert_eq!(again.names(), ["s", "t"]);
    assert_eq!(again.get("s"), Some(record("s", 199)));
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
