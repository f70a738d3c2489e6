//! The tree's own tests: what they are given, where they write, what they must write, and which run beside each other.

use crate::harness::Scratch;

fn tree(tests: &str) -> Scratch {
    let board = format!(
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[option.depth]\nkind = \"number\"\ndefault = 3\n[need.none]\nheader = \"never/there.h\"\n[part.say]\nkind = \"program\"\nsources = [\"say.c\"]\n{tests}"
    );
    let say = "#include <stdio.h>\n#include <stdlib.h>\nint main(int n, char **v) { int c; if (getenv(\"WORD\")) puts(getenv(\"WORD\")); while ((c = getchar()) != EOF) putchar(c); return n > 1 ? atoi(v[1]) : 0; }\n";
    Scratch::with(&[
        ("boltboard.toml", board.as_str()),
        ("say.c", say),
        ("in.txt", "tide\n"),
        ("want.txt", "deep 3\ntide\n"),
    ])
}

#[test]
fn a_test_has_an_environment_input_expected_output_and_codes_of_its_own() {
    let tree = tree(
        "[test.say]\ncommand = [\"${part:say}\", \"7\"]\nenvironment = [\"WORD=deep ${depth}\"]\nstdin = \"in.txt\"\nstdout = \"want.txt\"\nsuccess = [7]\n",
    );
    tree.run("test").code(0).says(&["1 test passed"]);
    tree.run("test").code(0).says(&["unchanged"]);
    tree.run("set depth=4").code(0);
    tree.run("test").code(1).says(&["line 1 of what it writes is `deep 4`, not `deep 3`"]);
    tree.write("want.txt", "deep 4\ntide\nebb\n");
    tree.run("test").code(1).says(&["line 3 of what it writes is nothing, not `ebb`"]);
    tree.write("want.txt", "deep 4\ntide\n");
    tree.run("test").code(0);
    tree.write("in.txt", "flood\n");
    tree.run("test").code(1).says(&["line 2 of what it writes is `flood`, not `tide`"]);
    tree.edit("boltboard.toml", "success = [7]", "success = [8]");
    tree.run("test").code(1).says(&["exit code 7"]);
}

#[test]
fn each_writes_into_a_folder_of_its_own_and_none_into_the_sources() {
    let tree = tree(
        "[test.writes]\ncommand = [\"sh\", \"-c\", \"echo x > here && test -f here && test -d \\\"$TMPDIR\\\" && echo y > $TMPDIR/there\"]\nscratch = true\n[test.litters]\ncommand = [\"sh\", \"-c\", \"echo x > ${path:tree}/litter.txt\"]\n",
    );
    tree.run("test writes").code(0);
    assert!(!tree.at("boltboard-work/builds/mine/out/here").exists());
    assert!(!tree.at("boltboard-work/builds/mine/tests/writes").exists(), "what passed leaves nothing");
    tree.run("test litters").code(1).says(&["it writes to litter.txt, a file of the sources", "scratch = true"]);
}

#[test]
fn needs_pace_order_and_company_are_kept() {
    let log = "cat >> ${path:made}/log";
    let step = |name: &str| {
        format!(
            "[test.{name}]\ncommand = [\"sh\", \"-c\", \"echo {name} begins | {log}; sleep 0.2; echo {name} ends | {log}\"]\n"
        )
    };
    let tree = tree(&format!(
        "{}after = [\"a\"]\n{}{}alone = true\n{}locks = [\"port\"]\n{}locks = [\"port\"]\n[test.lacks]\ncommand = [\"true\"]\nneeds = [\"none\"]\n[test.long]\ncommand = [\"true\"]\nslow = true\n[part.made]\nkind = \"generated\"\ncommand = [\"true\"]\nstdout = \"x\"\n",
        step("b"),
        step("a"),
        step("c"),
        step("d"),
        step("e")
    ));
    let ran = tree.run("test --jobs 4").code(0);
    assert!(ran.out.contains("need:none") && !ran.out.contains("long"), "{}", ran.out);
    let log = std::fs::read_to_string(tree.at("boltboard-work/builds/mine/made/log")).expect("a log");
    let at = |line: &str| log.lines().position(|known| known == line).unwrap_or_else(|| panic!("{line} in {log}"));
    assert!(at("a ends") < at("b begins"), "{log}");
    assert_eq!(at("c begins") + 1, at("c ends"), "{log}");
    assert!(at("d ends") < at("e begins") || at("e ends") < at("d begins"), "{log}");
    assert!(tree.run("test --slow").code(0).out.contains("long"));
    tree.run("test long").code(0).says(&["1 test passed"]);
}
