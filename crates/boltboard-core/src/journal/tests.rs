use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;
use crate::base::Digest;
use crate::testing::note;

/// What happens to a journal.
#[derive(Debug, Clone, Copy)]
enum Happens {
    Adds(u8, u64),
    Removes(u8),
    Settles,
    /// The program ends, and another one goes on.
    Ends,
}

fn happens() -> impl Strategy<Value = Happens> {
    prop_oneof![
        60 => (0_u8..8, 0_u64..5).prop_map(|(step, work)| Happens::Adds(step, work)),
        10 => (0_u8..8).prop_map(Happens::Removes),
        2 => Just(Happens::Settles),
        2 => Just(Happens::Ends),
    ]
}

/// Steps of two parts; some share their texts with others.
fn record_of(step: u8, work_ms: u64) -> StepRecord {
    StepRecord {
        step: format!("s{step}"),
        part: format!("p{}", step % 2),
        base_key: Digest::of(&[step]),
        command: vec!["cc".into(), format!("s{}", step / 2)],
        tool: Digest::of(b"cc"),
        note: (work_ms > 0).then(|| note(&format!("s{}", step / 3), work_ms)),
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn a_journal_tells_what_happened_last_and_never_what_did_not(
        all in prop::collection::vec(happens(), 0..260),
        damage in (0.0_f64..1.0, any::<bool>()),
    ) {
        let folder = tempfile::tempdir().expect("a folder");
        let mut journal = Journal::open(folder.path()).expect("opened");
        let mut last: BTreeMap<u8, StepRecord> = BTreeMap::new();
        let mut ever: Vec<StepRecord> = Vec::new();
        for happens in all {
            match happens {
                Happens::Adds(step, work) => {
                    let record = record_of(step, work);
                    journal.add(&record).expect("added");
                    ever.push(record.clone());
                    last.insert(step, record);
                }
                Happens::Removes(step) => {
                    journal.remove(&format!("s{step}")).expect("removed");
                    last.remove(&step);
                }
                Happens::Settles => journal.settle().expect("settled"),
                Happens::Ends => journal = Journal::open(folder.path()).expect("opened"),
            }
            let told = journal.all().count();
            prop_assert_eq!(told, last.len());
        }
        let again = Journal::open(folder.path()).expect("opened");
        prop_assert!(!again.damaged);
        for step in 0..8 {
            let name = format!("s{step}");
            prop_assert_eq!(journal.get(&name), last.get(&step).cloned());
            prop_assert_eq!(again.get(&name), last.get(&step).cloned());
        }
        drop((journal, again));
        // Cut off or turned anywhere, it tells less, or what was so once.
        let path = folder.path().join("journal");
        let mut bytes = std::fs::read(&path).unwrap_or_default();
        let (place, cuts) = damage;
        #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss, clippy::cast_precision_loss, reason = "small")]
        let at = (place * bytes.len() as f64) as usize;
        match bytes.get_mut(at) {
            Some(byte) if !cuts => *byte ^= 1,
            _ => bytes.truncate(at),
        }
        std::fs::write(&path, bytes).expect("written");
        let mut damaged = Journal::open(folder.path()).expect("opened");
        for step in 0..8 {
            if let Some(told) = damaged.get(&format!("s{step}")) {
                prop_assert!(ever.contains(&told), "never so: {:?}", told);
            }
        }
        // And it goes on.
        damaged.add(&record_of(9, 3)).expect("added");
        let after = Journal::open(folder.path()).expect("opened");
        prop_assert_eq!(after.get("s9"), Some(record_of(9, 3)));
    }
}

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
