//! Reasons that are walked in.

use super::*;
use boltboard_core::slate::Item;

fn line_here(model: &Model) -> String {
    match &model.mode {
        Mode::Why(walk) => walk.lines[walk.at].text.trim().to_string(),
        other => panic!("no reasons are open: {other:?}"),
    }
}

#[test]
fn a_reason_leads_to_what_is_behind_it_and_back() {
    let tree = tree();
    let mut model = open(tree.path(), &["siren"]);
    control(&mut model, 'w');
    assert_eq!(line_here(&model), "siren is off: blocked; by default it would be on");
    press(&mut model, KeyCode::Enter);
    assert_eq!(line_here(&model), "siren is off: blocked; by default it would be on", "it leads to itself");
    press(&mut model, KeyCode::Down);
    press(&mut model, KeyCode::Down);
    assert!(line_here(&model).contains("the need air (A compressor) is missing"), "{}", line_here(&model));
    press(&mut model, KeyCode::Enter);
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("Why siren › need:air\n") && told.contains("siren asks for it"), "{told}");
    press(&mut model, KeyCode::Backspace);
    assert!(line_here(&model).contains("the need air"), "back where it was: {}", line_here(&model));
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Tab);
    assert_eq!(model.item(), model.session.board.need("air").map(Item::Need), "the list shows it");
    control(&mut model, 'w');
    press(&mut model, KeyCode::Backspace);
    assert!(matches!(model.mode, Mode::Choose), "nothing led here");
}

#[test]
fn a_definition_is_opened_at_its_line() {
    let tree = tree();
    let mut model = open(tree.path(), &["siren"]);
    let line = TREE.lines().position(|line| line == "[option.siren]").expect("a line") + 1;
    let want = Some(Wish::Edit(tree.path().canonicalize().expect("there").join("boltboard.toml"), line));
    assert_eq!(control(&mut model, 'e'), want);
    control(&mut model, 'w');
    assert_eq!(control(&mut model, 'e'), want);
}
