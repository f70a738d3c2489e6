//! Whole screens, at the sizes that people have. `BOLTBOARD_WRITE_MESSAGES=1` writes them anew.

use super::*;

/// A screen as it is kept beside the tests.
fn is_kept(name: &str, shown: &str) {
    let file = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/board/tests/drawn").join(format!("{name}.txt"));
    if std::env::var_os("BOLTBOARD_WRITE_MESSAGES").is_some() {
        std::fs::create_dir_all(file.parent().expect("a folder")).expect("made");
        std::fs::write(&file, shown).expect("written");
    }
    let kept = std::fs::read_to_string(&file).unwrap_or_default();
    assert!(kept == shown, "{name} is drawn otherwise:\n{shown}\nkept:\n{kept}");
}

#[test]
fn the_board_is_drawn_as_it_is_kept() {
    for (width, height) in [(60, 20), (80, 24), (128, 40), (220, 60)] {
        let tree = tree();
        let mut model = open(tree.path(), &["quiet"]);
        settle(&mut model);
        is_kept(&format!("choose-{width}x{height}"), &drawn(&mut model, width, height));
        // Something on the slate, a clash, and its ways out.
        model.go_to(option(&model, "power"));
        settle(&mut model);
        press(&mut model, KeyCode::Enter);
        model.go_to(option(&model, "quiet"));
        settle(&mut model);
        press(&mut model, KeyCode::Enter);
        is_kept(&format!("ways-{width}x{height}"), &drawn(&mut model, width, height));
        press(&mut model, KeyCode::Esc);
        control(&mut model, 'w');
        is_kept(&format!("why-{width}x{height}"), &drawn(&mut model, width, height));
    }
}

#[test]
fn signs_of_any_width_keep_the_columns() {
    let tree = tree();
    let text =
        TREE.replace("A bell in fog", "霧の鐘 e\u{301}t\u{e9} in fog, and this goes on for long enough to be cut");
    std::fs::write(tree.path().join("boltboard.toml"), text).expect("written");
    let mut model = open(tree.path(), &["quiet"]);
    settle(&mut model);
    for width in [80, 97, 121, 140] {
        let mut terminal = Terminal::new(TestBackend::new(width, 24)).expect("a screen");
        terminal.draw(|frame| draw::draw(frame, &mut model)).expect("drawn");
        let buffer = terminal.backend().buffer();
        let list = model.areas.list;
        let row = (list.y..list.bottom())
            .find(|y| (list.x..list.right()).map(|x| buffer[(x, *y)].symbol()).collect::<String>().contains("bell"))
            .expect("its row");
        // What lies right of the list begins where it begins in every other row.
        assert!((list.right()..model.areas.cards.x).all(|x| buffer[(x, row)].symbol() == " "), "at {width}");
    }
}
