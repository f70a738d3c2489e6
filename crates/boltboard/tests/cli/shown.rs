//! How answers look: in any width, in any locale, and the documents' own examples.

use crate::harness::{MINI, Scratch};

#[test]
fn a_locale_without_utf_8_gets_plain_ascii() {
    let tree = Scratch::with(MINI);
    for (words, variable, value) in [
        ("overview", "LC_ALL", "C"),
        ("set horn=on depth=4", "LC_ALL", "POSIX"),
        ("options changed", "LANG", "de_DE.ISO-8859-1"),
        ("survey", "LC_CTYPE", "C"),
        ("preview", "LC_ALL", "C"),
        ("show hron", "LC_ALL", "C"),
    ] {
        let ran = tree.run_with(words, variable, value);
        assert!(ran.out.is_ascii() && ran.err.is_ascii(), "{words}: {ran:?}");
        assert!(ran.out.contains("-> ") || ran.err.contains("-> ") || words == "preview", "{words}: {ran:?}");
    }
    assert!(tree.run_with("overview", "LC_ALL", "C.UTF-8").out.contains('→'));
    assert!(tree.run_with("overview", "LANG", "en_GB.utf8").out.contains('→'));
}

#[test]
fn narrow_terminals_break_lines_and_cut_nothing() {
    let tree = Scratch::skerry();
    tree.run("build").code(0);
    for words in [
        "options",
        "options fog",
        "survey",
        "ledger",
        "show horn-speaker",
        "install --preview",
        "profile list",
        "overview",
    ] {
        let narrow = tree.run_with(words, "COLUMNS", "60");
        assert!(!narrow.out.contains('…'), "{words} is cut:\n{}", narrow.out);
        let plain: String = narrow.out.split_whitespace().collect();
        let mut command = tree.command(words);
        let wide: String = tree.ran(command.env_remove("COLUMNS")).out;
        // Every word of the wide answer is there, though it may stand on two lines.
        let leaves_out = words == "ledger" || words == "install --preview";
        for word in wide.split_whitespace().filter(|word| word.len() < 12 && !leaves_out) {
            assert!(plain.contains(word), "{words}: {word} is lost:\n{}", narrow.out);
        }
    }
    let narrow = tree.run_with("options --table", "COLUMNS", "60").out;
    let widest = narrow.lines().filter(|line| !line.starts_with('→')).map(|line| line.chars().count()).max();
    assert!(widest.is_some_and(|widest| widest <= 60), "{narrow}");
}

#[test]
fn what_no_terminal_shows_is_one_line_each() {
    let tree = Scratch::skerry();
    let mut command = tree.command("options --table");
    let told = tree.ran(command.env_remove("COLUMNS")).code(0);
    let number = tree.run("options --count").out.trim().parse::<usize>().expect("a number");
    assert_eq!(told.out.lines().count(), number + 2, "{}", told.out);
}

#[test]
fn options_changed_tells_what_was_chosen_and_what_that_changed() {
    let tree = Scratch::skerry();
    tree.run("options changed").code(1).says(&["No option is changed"]);
    tree.run("set lamp-drive=arc").code(0);
    let told = tree.run("options changed --table").code(0);
    let rows: Vec<&str> = told.out.lines().filter(|line| !line.starts_with('→')).collect();
    assert_eq!(rows.len(), 4, "{}", told.out);
    told.says(&[
        "lamp-drive",
        "chosen, else led",
        "lamp-watts",
        "default, else 60",
        "power-generator",
        "for lamp-drive, else off",
    ]);
}

#[test]
fn comparing_says_only_what_is_known() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on").code(0);
    tree.run("profile new other").code(0);
    tree.run("compare mine other").code(1).says(&[
        "horn",
        "not known, because mine and other were never built here",
        "→ boltboard build --profile mine ",
    ]);
    tree.run("compare mine mine").code(0).says(&["a profile does not differ from itself"]);
}

#[test]
fn choices_say_what_was_recorded_even_when_no_value_changes() {
    let tree = Scratch::with(MINI);
    tree.run("set depth=3").code(0).says(&["Recorded in the profile mine: depth=3", "No value changed."]);
    tree.run("set need:nowhere=off").code(0).says(&["Recorded in the profile mine: need:nowhere=off"]);
    tree.run("unset depth need:nowhere").code(0).says(&["Removed from the profile mine: depth, need:nowhere"]);
    tree.run("set horn").code(2).complains(&["`horn` needs a value: horn=VALUE", "→ boltboard set horn=on "]);
    tree.run("set prefix=/a -x").code(2).complains(&["→ boltboard set 'prefix=/a -x'"]);
}

/// The text of the first block of a language in a document.
fn block(text: &str, language: &str) -> String {
    let fence = format!("```{language}\n");
    let (_, rest) = text.split_once(&fence).expect("a block");
    rest.split("```").next().unwrap_or_default().to_string()
}

#[test]
fn the_first_tree_of_the_documents_builds() {
    let page = include_str!("../../../../docs/first-tree.md");
    let board = block(page, "toml");
    assert_eq!(board.lines().count(), 15, "as many lines as it promises");
    let tree = Scratch::with(&[
        ("boltboard.toml", &board),
        (
            "src/main.c",
            "#include <beacon-options.h>\n#ifdef BEACON_FLASH\nint flash(void);\n#else\n#define flash() 0\n#endif\nint main(void) { return flash(); }\n",
        ),
        ("src/flash/flash.c", "int flash(void) { return 0; }\n"),
    ]);
    for line in block(page, "sh").lines() {
        let command = line.split('#').next().unwrap_or_default().trim().trim_start_matches("boltboard").trim();
        tree.run(command).code(0);
    }
    assert!(tree.at("boltboard-work/builds/mine/out/bin/beacon").is_file());
}

#[test]
fn a_tree_that_is_described_elsewhere_is_known_within_its_sources() {
    let tree = Scratch::with(&[
        (
            "desc/boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.p]\nkind = \"program\"\nsources = [\"*.c\"]\n",
        ),
        ("code/main.c", "int main(void) { return 0; }\n"),
        ("code/deep/note", ""),
    ]);
    let within = |folder: &str, words: &str| {
        let mut command = tree.command(words);
        tree.ran(command.current_dir(tree.at(folder)))
    };
    within("code", "build").code(2).complains(&["no `boltboard.toml`"]);
    within("code", "build --tree ../desc --sources .").code(0).says(&["Built 1 part"]);
    assert!(tree.at("code/boltboard-work/builds/mine/out/bin/p").is_file() && !tree.at("desc/boltboard-work").exists());
    within("code", "build").code(0).says(&["Nothing to do:"]);
    within("code/deep", "build").code(0).says(&["Nothing to do:"]);
    within("code/deep", "overview").code(0).says(&["t 1", "1 file, 29 B", "program 1: p"]);
    tree.write("code/main.c", "int main(void) { return 1; }\n");
    within("code/deep", "build").code(0).steps(2);
    within("code/deep", "build --verify").code(0).says(&["Verified:"]);
}

#[test]
fn each_option_is_explained_once_however_many_ways_lead_to_it() {
    let mut board = String::from("format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n");
    for index in 0..36 {
        board.push_str(&format!("[option.o{index}]\nkind = \"switch\"\n"));
        if index >= 2 {
            board.push_str(&format!("default = \"on\"\nrequires = \"o{} and o{}\"\n", index - 1, index - 2));
        }
    }
    let tree = Scratch::with(&[("boltboard.toml", &board)]);
    let told = tree.run("why o35").code(0).out;
    assert!(told.lines().count() < 200, "{} lines", told.lines().count());
    assert!(told.contains("(told above)"), "{told}");
}

#[test]
fn what_a_tree_says_cannot_act_on_the_terminal() {
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\nsummary = \"a\\u001b[2Jb\\u202Ec\"\n[option.x]\nkind = \"switch\"\n\
                 summary = \"d\\u0007\\u009b\"\n[part.p]\nkind = \"generated\"\noutput = [\"o\"]\n\
                 command = [\"sh\", \"-c\", \"printf '\\\\033[31m\\\\007' >&2; touch ${step:output}\"]\n";
    let tree = Scratch::with(&[("boltboard.toml", board)]);
    let acts = |c: char| c.is_control() && c != '\n' || ('\u{202a}'..='\u{202e}').contains(&c);
    for words in ["overview", "options", "show x", "overview --json", "options --json", "build", "build --json"] {
        let ran = tree.run(words);
        assert!(!ran.out.contains(acts) && !ran.err.contains(acts), "{words}: {ran:?}");
    }
    tree.run("overview").says(&["a\\u{1b}[2Jb\\u{202e}c"]);
    assert_eq!(tree.run("overview --json").json()["summary"], "a\u{1b}[2Jb\u{202e}c", "the same text for a program");
}
