use super::*;
use crate::board::Board;
use crate::testing::TestTree;

fn board() -> Board {
    TestTree::board_only(
        "[section.fog]\ntitle = \"Fog signals\"\n[header.o]\noutput = \"o.h\"\nguard = \"O_H\"\nprefix = \"SK_\"\n\
         [option.horn]\nkind = \"switch\"\nsummary = \"A loud one\"\nsection = \"fog\"\n\
         [option.horn-speaker]\nkind = \"switch\"\nsummary = \"Through the watch speaker\"\n\
         [option.siren]\nkind = \"module\"\nsummary = \"Twenty miles, like a horn but more\"\n\
         [option.radar]\nkind = \"switch\"\nsummary = \"Sees ships\"\nhelp = \"Needs a mast and a fog lamp.\"\n",
    )
}

fn found(question: &str) -> Vec<String> {
    let board = board();
    let found = SearchIndex::of(&board).find(&board, question);
    found.options.into_iter().map(|id| board.options[id].name.clone()).collect()
}

#[test]
fn options_are_found_by_words_best_first() {
    for (case, question, want) in [
        (
            "a whole name comes first, then parts of names, then summaries",
            "horn",
            vec!["horn", "horn-speaker", "siren"],
        ),
        ("the beginning of a word", "spea", vec!["horn-speaker"]),
        ("the middle of a word", "ada", vec!["radar"]),
        ("all words must stand there", "horn watch", vec!["horn-speaker"]),
        ("a title of a section comes before help", "fog", vec!["horn", "radar"]),
        ("a macro", "SK_SIREN", vec!["siren"]),
        ("a typing error", "sirne", vec!["siren"]),
        ("two typing errors in a long word", "speeaekr", vec!["horn-speaker"]),
        ("short words must be right", "hrn", vec![]),
        ("nothing like it", "banana", vec![]),
        ("nothing at all", " ", vec![]),
    ] {
        assert_eq!(found(question), want, "{case}");
    }
    let board = board();
    let corrected = SearchIndex::of(&board).find(&board, "sirne").corrected;
    assert_eq!(corrected, [("sirne".to_string(), vec!["siren".to_string()])], "it says what it took the word for");
}

#[test]
fn filters_are_parted_from_words() {
    let board = board();
    let read = |text: &str| read_filters(&board, &[text.to_string()]);
    let fog = board.section("fog").expect("it is there");
    let (filters, words) = read("off kind:module in:fog level:expert loud one").expect("sound");
    assert_eq!(words, "loud one");
    let level = crate::board::Level::Expert;
    assert_eq!(filters, [Filter::State(State::Off), Filter::Kind("module"), Filter::In(fog), Filter::Level(level)]);
    let fault = read("kind:modul").expect_err("misspelt");
    assert_eq!((fault.what, fault.near), ("kind", vec!["module".to_string()]));
    assert_eq!(read("knd:module").expect_err("misspelt").near, ["kind"]);
}
