use std::os::unix::fs::PermissionsExt;

use super::*;
use crate::base::Digest;
use crate::testing::note;

#[test]
fn contents_come_back_as_they_were_with_their_mode() {
    let folder = tempfile::tempdir().expect("a folder");
    let (store, file) = (Store::at(&folder.path().join("store")), folder.path().join("made"));
    let aside = folder.path().join("aside");
    std::fs::write(&file, "content").expect("written");
    let digest = Digest::of(b"content");
    assert!(!store.has(&digest));
    store.put(&file, &digest).expect("kept");
    store.put(&file, &digest).expect("kept again");
    std::fs::remove_file(&file).expect("removed");
    let back = folder.path().join("deep/er/back");
    assert!(store.has(&digest) && store.restore(&digest, &aside, &back, 0o755).expect("restored"));
    assert_eq!(std::fs::read_to_string(&back).expect("there"), "content");
    assert_eq!(std::fs::metadata(&back).expect("there").permissions().mode() & 0o777, 0o755);
    assert!(!store.restore(&Digest::of(b"other"), &aside, &back, 0o644).expect("asked"));
}

#[test]
fn damaged_contents_are_dropped() {
    let folder = tempfile::tempdir().expect("a folder");
    let (store, file) = (Store::at(&folder.path().join("store")), folder.path().join("made"));
    let aside = folder.path().join("aside");
    std::fs::write(&file, "content").expect("written");
    let digest = Digest::of(b"content");
    store.put(&file, &digest).expect("kept");
    // The file that was made is the one that is kept, so an edit in place reaches both.
    std::fs::write(&file, "edited in place").expect("damaged");
    let back = folder.path().join("back");
    std::fs::write(&back, "older").expect("written");
    assert!(!store.restore(&digest, &aside, &back, 0o644).expect("asked"));
    assert!(!store.has(&digest), "it is dropped");
    assert_eq!(std::fs::read_to_string(&back).expect("there"), "older", "and nothing is put in place");
    assert_eq!(std::fs::read_to_string(&file).expect("there"), "edited in place");
    std::fs::write(&file, "content").expect("written");
    store.copy(&file, &digest).expect("kept");
    std::fs::write(&file, "edited again").expect("written");
    assert!(store.restore(&digest, &aside, &back, 0o644).expect("asked"), "a copy is not reached");
}

#[test]
fn notes_are_kept_newest_first_without_repeats_and_within_a_limit() {
    let folder = tempfile::tempdir().expect("a folder");
    let store = Store::at(folder.path());
    let key = Digest::of(b"command");
    assert!(store.notes(&key).is_empty());
    for (input, work_ms) in [("a", 1), ("b", 2), ("a", 3)] {
        store.add_note(&key, &note(input, work_ms), None).expect("kept");
    }
    let times: Vec<u64> = store.notes(&key).iter().map(|n| n.work_ms).collect();
    assert_eq!(times, [3, 2]);
    assert_eq!(store.notes(&key)[0], note("a", 3), "read back as written");
    let scrap = folder.path().join("scrap");
    for n in 0..50 {
        // Longer than the note, shorter, or not there.
        if n % 3 > 0 {
            std::fs::write(&scrap, "what was read\n".repeat(if n % 3 == 1 { 3000 } else { 1 })).expect("written");
        }
        store.add_note(&key, &note(&n.to_string(), n), Some(&scrap)).expect("kept");
        assert_eq!(store.notes(&key)[0].work_ms, n, "the file holds what was added and nothing else");
        assert!(!scrap.exists(), "it is the note's file now");
    }
    assert_eq!(store.notes(&key).len(), 32);
}
