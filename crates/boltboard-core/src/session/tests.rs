//! A front end of our own that shows nothing: the whole way through the core alone.

use super::*;
use crate::judge::{Standing, Verdict};
use crate::testing::TestTree;
use crate::testing::sessions::{Silent, around, built, open, resolved};
use crate::work::{Ledger, LedgerOutcome, Locking, Why};

const TREE: &str = r#"
[header.h]
output = "t/options.h"
prefix = "T_"
[option.fog]
kind = "switch"
[part.prog]
kind = "program"
sources = ["main.c", "other.c"]
"#;

fn tree() -> TestTree {
    let main = "#include <t/options.h>\n#ifdef T_FOG\nint fog;\n#endif\nint main(void) { return 0; }\n";
    TestTree::new(TREE, &[("main.c", main), ("other.c", "int other;\n")])
}

#[test]
fn a_front_end_goes_the_whole_way_through_the_core() {
    let tree = tree();
    let scope = Scope::default();
    let session = open(&tree, &scope);
    let planned = session.plan(&resolved(&session)).expect("a plan");
    let preview = session.preview(&planned, None).expect("a preview");
    assert_eq!(preview.steps.iter().filter(|step| step.verdict == Verdict::Run).count(), 4, "all of it");
    let first = built(&session);
    assert_eq!((first.report.ran.len(), first.entry.outcome), (3, LedgerOutcome::Done));
    assert_eq!(first.entry.reasons, [Why::New]);
    let again = built(&open(&tree, &scope));
    assert_eq!((again.report.ran.len(), again.report.current), (0, 4));
    let entries = Ledger::read(&session.work.ledger()).expect("read").entries;
    assert_eq!(entries.iter().map(|entry| entry.ran).collect::<Vec<_>>(), [3, 0]);

    let Locking::Taken(lock) = session.lock().expect("asked") else { panic!("nobody has it") };
    let of = (&resolved(&session), &planned);
    let verified = session.verify(of, &lock, &BuildAsk::default(), &mut Silent).expect("verified");
    assert_eq!((verified.verification.files, verified.verification.differences.len()), (4, 0));
}

#[test]
fn what_is_known_of_the_last_build_is_known_without_reading_the_board() {
    let tree = tree();
    let (scope, around) = (Scope::default(), around(&tree));
    let place = Whereabouts::find(&scope, &around).expect("a tree");
    assert!(place.seal(&scope).is_none(), "nothing was built");
    // What has just changed cannot be sealed yet.
    std::thread::sleep(std::time::Duration::from_millis(60));
    built(&open(&tree, &scope));
    let seal = place.seal(&scope).expect("sealed");
    let Some(Standing::Whole(sealed)) = place.standing(&seal, &scope, &around) else { panic!("it stands") };
    let (report, _) = place.note_whole(&sealed, Start::now()).expect("noted");
    assert_eq!(report.current, 4);

    tree.write("other.c", "int other = 1;\n");
    let Some(Standing::Changed(sweep)) = place.standing(&seal, &scope, &around) else { panic!("one has changed") };
    let session = open(&tree, &scope);
    let begun = session.begin(resolved(&session), Some(&sweep), Start::now()).expect("begun");
    assert!(begun.is_partial(), "only the part that reads it is planned");
    let tried = Scope { tried: vec!["fog=on".into()], ..Scope::default() };
    assert!(place.seal(&tried).is_none(), "a seal says nothing of what is only tried");
}

#[test]
fn what_is_only_supposed_is_not_built() {
    let tree = tree();
    let session = open(&tree, &Scope { forbid: vec!["zlib".into()], ..Scope::default() });
    assert!(matches!(session.only_real(), Err(SessionFault::Supposed(names)) if names == ["--forbid"]));
    let wrong = Scope { profile: Some("a b".into()), ..Scope::default() };
    assert!(matches!(Session::open(wrong, around(&tree)), Err(SessionFault::ProfileName(name)) if name == "a b"));
    let nowhere = Scope { tree: Some("/nowhere-at-all".into()), ..Scope::default() };
    assert!(matches!(Session::open(nowhere, around(&tree)), Err(SessionFault::Tree(_))));
    let at = |epoch: &str| {
        let mut around = around(&tree);
        around.variables.insert("SOURCE_DATE_EPOCH".into(), epoch.into());
        Session::open(Scope::default(), around).map(|session| session.epoch.to_string())
    };
    assert!(at("60").is_ok());
    assert!(matches!(at("soon"), Err(SessionFault::Epoch { text, .. }) if text == "soon"));
}
