//! Values that are written.

use super::*;

#[test]
fn numbers_go_by_steps_within_their_range_and_what_they_bring_is_told_before() {
    let tree = tree();
    let mut model = open(tree.path(), &["every"]);
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Up);
    settle(&mut model);
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("value: 6_") && told.contains("    6\n") && told.contains("2 compiles of"), "{told}");
    for _ in 0..9 {
        press(&mut model, KeyCode::Down);
    }
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set every=1"]);
    // Leaving without a value leaves the cards as they were.
    press(&mut model, KeyCode::Enter);
    types(&mut model, "2");
    press(&mut model, KeyCode::Esc);
    assert_eq!(model.cards.len(), 1);
    assert_eq!(value(&model, "every"), "1");
}

#[test]
fn paths_are_completed_by_the_files_that_are_there() {
    let tree = tree();
    let mut model = open(tree.path(), &["chart"]);
    press(&mut model, KeyCode::Enter);
    control(&mut model, 'u');
    types(&mut model, "ch");
    press(&mut model, KeyCode::Tab);
    press(&mut model, KeyCode::Char('n'));
    press(&mut model, KeyCode::Tab);
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("charts/north_   north  northern"), "{told}");
    types(&mut model, "e");
    press(&mut model, KeyCode::Tab);
    press(&mut model, KeyCode::Enter);
    assert_eq!(model.command_lines(), ["boltboard set chart=charts/northern"]);
}

#[test]
fn lists_of_words_are_edited_word_by_word() {
    let tree = tree();
    let mut model = open(tree.path(), &["tunes"]);
    press(&mut model, KeyCode::Enter);
    let told = drawn(&mut model, 100, 20);
    assert!(told.contains("tunes, word by word") && told.contains("  slow") && told.contains("  one more"), "{told}");
    types(&mut model, "fast");
    press(&mut model, KeyCode::Enter);
    types(&mut model, "low high");
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Home);
    press(&mut model, KeyCode::Delete);
    settle(&mut model);
    press(&mut model, KeyCode::Tab);
    assert_eq!(value(&model, "tunes"), "fast low high");
    // A word is written anew, and one that is emptied is gone.
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Enter);
    types(&mut model, "er");
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Enter);
    control(&mut model, 'u');
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Tab);
    assert_eq!(value(&model, "tunes"), "faster high");
    press(&mut model, KeyCode::Enter);
    press(&mut model, KeyCode::Delete);
    press(&mut model, KeyCode::Esc);
    assert_eq!(value(&model, "tunes"), "faster high", "left as it was");
}

#[test]
fn a_written_value_that_clashes_leads_to_the_ways_out() {
    let tree = tree();
    let file = tree.path().join("boltboard.toml");
    let text =
        TREE.replace("summary = \"No noise at all\"", "summary = \"No noise at all\"\nrequires = \"every < 10\"");
    std::fs::write(file, text).expect("written");
    let mut model = open(tree.path(), &["quiet"]);
    model.change([Change::Choose(option(&model, "quiet"), Value::Switch(boltboard_core::board::Switch::On))]);
    model.go_to(option(&model, "every"));
    press(&mut model, KeyCode::Enter);
    types(&mut model, "0");
    settle(&mut model);
    assert!(drawn(&mut model, 120, 24).contains("Enter: "), "{}", drawn(&mut model, 120, 24));
    press(&mut model, KeyCode::Enter);
    assert!(matches!(model.mode, Mode::Ways { .. }), "{}", model.said);
    press(&mut model, KeyCode::Enter);
    assert_eq!((value(&model, "every"), value(&model, "quiet")), ("50".into(), "off".into()), "{}", model.said);
}
