//! Every wrong definition gives exactly the message that stands beside it in `tests/cli/wrong/`.

use std::os::unix::ffi::OsStringExt;

use std::path::Path;

use crate::harness::Scratch;

fn message(text: &str) -> String {
    let mut files = vec![("boltboard.toml".to_string(), String::new())];
    for line in text.split_inclusive('\n') {
        match line.strip_prefix("#=== ") {
            Some(path) => files.push((path.trim().to_string(), String::new())),
            None => files.last_mut().expect("a file").1.push_str(line),
        }
    }
    let scratch = Scratch::with(&[("src/a.c", "int a;\n"), ("src/b.c", "int b;\n"), ("src/notes.txt", "x\n")]);
    scratch.write("src/t.in", "depth @depth@\nother @dpeth@\n");
    files.iter().for_each(|(path, text)| scratch.write(path, text));
    let ran = scratch.run("preview").code(3);
    assert_eq!(ran.out, "", "nothing but the message");
    assert!(!scratch.at("boltboard-work").exists(), "nothing is written");
    ran.err
}

#[test]
fn each_wrong_definition_gives_its_message() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/wrong");
    let mut cases: Vec<_> =
        std::fs::read_dir(&folder).expect("cases").filter_map(Result::ok).map(|e| e.path()).collect();
    cases.retain(|path| path.extension().is_some_and(|e| e == "toml"));
    cases.sort();
    assert!(cases.len() >= 40, "there are {} cases", cases.len());
    let mut different = Vec::new();
    for case in &cases {
        let given = message(&std::fs::read_to_string(case).expect("a case"));
        let wanted_file = case.with_extension("txt");
        let wanted = std::fs::read_to_string(&wanted_file).unwrap_or_default();
        if std::env::var("BOLTBOARD_WRITE_MESSAGES").is_ok() {
            std::fs::write(&wanted_file, &given).expect("written");
        } else if given != wanted {
            different.push(format!("{}\n--- wanted\n{wanted}--- given\n{given}", case.display()));
        }
    }
    assert!(different.is_empty(), "{}", different.join("\n"));
}

#[test]
fn a_file_that_is_not_text_is_named() {
    let scratch = Scratch::new();
    std::fs::write(scratch.at("boltboard.toml"), b"format = 1\n[tree]\nname = \"caf\xe9\"\n").expect("written");
    scratch.run("overview").code(3).complains(&["boltboard.toml is not UTF-8: byte 29", "save the file as UTF-8"]);
}

#[test]
fn an_unreadable_file_is_named() {
    let head = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\nmore = [\"sub/boltboard.toml\"]\n";
    let scratch = Scratch::with(&[("boltboard.toml", head)]);
    // A folder in the file's place cannot be read, not even by root.
    std::fs::create_dir_all(scratch.at("sub/boltboard.toml")).expect("a folder");
    scratch.run("overview").code(3).complains(&["cannot read sub/boltboard.toml"]);
}

#[test]
fn a_link_that_leads_out_of_the_tree_is_not_followed() {
    let outside = Scratch::with(&[("boltboard.toml", "[option.x]\nkind = \"switch\"\n")]);
    let head = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\nmore = [\"*/boltboard.toml\"]\n";
    let scratch = Scratch::with(&[("boltboard.toml", head), ("sub/readme", "")]);
    std::os::unix::fs::symlink(outside.at("boltboard.toml"), scratch.at("sub/boltboard.toml")).expect("a link");
    scratch.run("overview").code(3).complains(&["sub/boltboard.toml leads out of the tree through a link"]);
}

#[test]
fn outside_of_a_tree_the_way_in_is_told() {
    let scratch = Scratch::new();
    scratch.run("options").code(2).complains(&["no `boltboard.toml` with a [tree] table in TREE", "boltboard demo"]);
}

#[test]
fn a_board_may_live_outside_of_the_tree_that_it_describes() {
    let scratch = Scratch::with(&[
        (
            "board/boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\nsources = \"../code\"\nmore = [\"src/boltboard.toml\"]\n[header.h]\noutput = \"config.h\"\n",
        ),
        (
            "board/src/boltboard.toml",
            "[option.fog]\nkind = \"switch\"\nmacro = { name = \"HAVE_FOG\", form = \"one-or-zero\" }\n[part.p]\nkind = \"program\"\nsources = [\"*.c\"]\n",
        ),
        ("code/src/p.c", "#include <config.h>\nint main(void) { return HAVE_FOG; }\n"),
    ]);
    scratch.run("build --tree board --work w").code(0);
    assert!(!scratch.at("code/boltboard-work").exists() && !scratch.at("board/boltboard-work").exists());
    let exit = |scratch: &Scratch| {
        std::process::Command::new(scratch.at("w/builds/mine/out/bin/p")).status().expect("runs").code()
    };
    assert_eq!(exit(&scratch), Some(0));
    scratch.run("set fog=on --tree board --work w").code(0);
    scratch.run("build --tree board --work w").code(0);
    assert_eq!(exit(&scratch), Some(1));
}

#[test]
fn sources_that_are_described_elsewhere_lead_to_their_description() {
    let scratch = Scratch::with(&[
        (
            "board/boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\nsources = \"../code\"\n[option.fog]\nkind = \"switch\"\n[part.p]\nkind = \"program\"\nsources = [\"src/*.c\", { when = \"fog\", add = [\"fog.c\"] }]\n",
        ),
        ("code/src/p.c", "int main(void) { return 0; }\n"),
        ("code/fog.c", "int fog;\n"),
    ]);
    let from = |folder: &str, words: &str| scratch.ran(scratch.command(words).current_dir(scratch.at(folder)));
    from("code/src", "overview").code(2).complains(&["no `boltboard.toml` with a [tree] table"]);
    from("board", "build").code(0);
    assert!(scratch.at("board/boltboard-work/builds/mine/out/bin/p").exists());
    from("code/src", "overview").code(0).says(&["t 1"]);
    from("code/src", "set fog=on").code(0);
    from("code", "build").code(0).says(&["2 steps ran"]);
    from("board", "build").code(0).says(&["Nothing to do"]);
    let kept = std::fs::read_dir(scratch.at("code/boltboard-work")).expect("a folder").count();
    assert_eq!(kept, 3, "it only leads there");
    assert!(scratch.read("board/boltboard-work/profiles/mine.toml").contains("fog"));
    // Without it, the sources are as they were.
    std::fs::remove_dir_all(scratch.at("code/boltboard-work")).expect("removed");
    from("board", "build").code(0).says(&["Nothing to do"]);
}

#[test]
fn a_file_whose_name_is_no_text_is_told_and_not_left_out() {
    let odd = |name: &[u8]| std::ffi::OsString::from_vec(name.to_vec());
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.t]\nkind = \"program\"\nsources = [\"src/*.c\"]\n[part.d]\nkind = \"data\"\nsources = [\"data/**\"]\n",
        ),
        ("src/main.c", "int main(void) { return 0; }\n"),
        ("data/plain", "plain\n"),
        ("aside/other", "nobody means it\n"),
    ]);
    std::fs::write(tree.at("aside").join(odd(b"odd\xff")), "odd").expect("written");
    tree.run("build").code(0);
    // What is current is looked at again where such a name comes to it.
    let source = tree.at("src").join(odd(b"odd\xff.c"));
    std::fs::write(&source, "int odd;\n").expect("written");
    let told = tree.run("build").code(3);
    told.complains(&["`src/odd\\xff.c` is meant by a pattern here", "boltboard.toml:7", "UTF-8"]);
    std::fs::remove_file(&source).expect("removed");
    tree.run("build").code(0).steps(0);
    let folder = tree.at("data").join(odd(b"f\xffolder"));
    std::fs::create_dir(&folder).expect("a folder");
    tree.run("preview").code(3).complains(&["`data/f\\xffolder` is meant"]);
    tree.edit("boltboard.toml", "[\"data/**\"]", "[\"data/**\"]\nexcept = [\"data/f*/**\"]");
    tree.run("build").code(0);
}
