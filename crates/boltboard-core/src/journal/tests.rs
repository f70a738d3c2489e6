use super::*;
use crate::base::Digest;
use crate::testing::note;

#[test]
fn a_long_journal_is_written_anew() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut journal = Journal::open(folder.path()).expect("opened");
    let record = |step: &str, work_ms| StepRecord {
        step: step.into(),
        part: "p".into(),
        base_key: Digest::of(b"k"),
        command: vec!["cc".into()],
        tool: Digest::of(b"t"),
        note: Some(note("a", work_ms)),
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
