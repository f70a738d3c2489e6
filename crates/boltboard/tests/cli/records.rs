//! What built files say of how they were made, and what comes of it: shown, asked, made into a profile again, printed by programs.

use std::os::unix::fs::PermissionsExt;
use std::process::{Command, Stdio};

use crate::harness::{MINI, Scratch};

const OUT: &str = "boltboard-work/builds/mine/out";

/// A tree with a program, a module of it, an archive, and a program that sees no option.
const TREE: &[(&str, &str)] = &[
    (
        "boltboard.toml",
        "format = 1\n[tree]\nname = \"buoy\"\nversion = \"1.2\"\n[header.options]\noutput = \"options.h\"\nprefix = \"B_\"\n\
         [option.horn]\nkind = \"switch\"\n[option.chime]\nkind = \"module\"\ndefault = \"loadable\"\n\
         [option.depth]\nkind = \"number\"\nrange = [1, 90]\ndefault = 3\n\
         [option.data]\nkind = \"path\"\ndefault = \"/var/buoy\"\n\
         [option.more]\nkind = \"words\"\n\
         [part.low]\nkind = \"static-library\"\nsources = [\"low.c\"]\n\
         [part.buoy]\nkind = \"program\"\nsources = [\"main.c\"]\nuses = [\"low\", \"told\"]\nflags = [\"-O1\", \"${more}\"]\n\
         [part.told]\nkind = \"generated\"\nrecord = { output = \"told.h\", of = \"buoy\", macro = \"TOLD\" }\n\
         [part.plain]\nkind = \"program\"\nsources = [\"plain.c\"]\n\
         [part.chime]\nkind = \"module\"\noption = \"chime\"\nprogram = \"buoy\"\nsymbol = \"chime\"\nsources = [\"chime.c\"]\n",
    ),
    (
        "low.c",
        "#include <options.h>\n#ifdef B_HORN\nint low(void) { return B_DEPTH; }\n#else\nint low(void) { return 1; }\n#endif\n",
    ),
    (
        "main.c",
        "#include <stdio.h>\n#include <told.h>\nint low(void);\nint main(void) { fputs(TOLD, stdout); return low() > 99; }\n",
    ),
    ("plain.c", "#include <stdio.h>\nint main(void) { return getchar() == 'x'; }\n"),
    ("chime.c", "#include <options.h>\nint chime = 1;\n"),
];

fn built() -> Scratch {
    let tree = Scratch::with(TREE);
    tree.run("build").code(0);
    tree
}

fn tool(name: &str, words: &[&str], tree: &Scratch) {
    let done = Command::new(name).args(words).current_dir(tree.path()).status().expect("it runs");
    assert!(done.success(), "{name} {words:?}");
}

#[test]
fn a_built_file_tells_how_it_was_made_wherever_it_is() {
    let tree = built();
    tree.run("set horn=on depth=7").code(0);
    tree.run("build").code(0);
    let shown = tree.run(&format!("inspect {OUT}/bin/buoy")).code(0);
    shown.says(&[
        "program buoy of buoy 1.2, profile mine",
        "compiled with gcc",
        "The file is as it was made.",
        "flags for C: -O1",
        "depth  7",
        "horn   on",
        "chime  loadable",
        "→ boltboard inspect --profile from-buoy",
    ]);
    // Elsewhere, stripped, without a tree.
    let away = Scratch::new();
    std::fs::copy(tree.at(&format!("{OUT}/bin/buoy")), away.at("taken")).expect("copied");
    away.run("inspect taken").code(0).says(&["program buoy of buoy 1.2", "The file is as it was made."]);
    tool("strip", &["taken"], &away);
    away.run("inspect taken").code(0).says(&["program buoy of buoy 1.2", "The file was changed since it was made"]);
    tool("objcopy", &["--remove-section=.boltboard", "taken"], &away);
    away.run("inspect taken").code(1).says(&["Nothing to show: it has no record"]);
    // A module has one as well; an archive carries it as a member.
    let module = tree.run(&format!("inspect {OUT}/lib/buoy/chime.so")).code(0);
    module.says(&["module chime of buoy 1.2", "depth  7", "chime  loadable"]);
    tree.run(&format!("inspect {OUT}/lib/liblow.a"))
        .code(0)
        .says(&["static library low of buoy 1.2", "The file is as it was made."]);
    let told = tree.run(&format!("inspect {OUT}/bin/buoy {OUT}/lib/liblow.a --json")).code(0).json();
    assert_eq!(told["files"][0]["records"][0]["record"]["choices"]["depth"], 7);
    assert_eq!(told["files"][0]["records"][0]["standing"], "as-made");
}

#[test]
fn one_question_is_answered_by_the_exit_code() {
    let tree = built();
    tree.run("set horn=on").code(0);
    tree.run("build").code(0);
    let asked = |words: &str| tree.run(&format!("inspect {words} {OUT}/bin/buoy"));
    asked("--has horn").code(0).says(&["yes:", "horn: on"]);
    asked("--has chime=loadable --has depth=3").code(0);
    asked("--has depth=4").code(1).says(&["no:", "depth=4: 3"]);
    asked("--has more").code(1);
    asked("--has hron").code(3).complains(&["says nothing of an option `hron`", "did you mean `horn`?"]);
    tree.run("inspect --has horn low.c").code(3).complains(&["low.c is no program, library, module or archive"]);
    tree.run("inspect --has horn /bin/true").code(3).complains(&["has no record"]);
    tree.run("inspect no-such-file").code(1).says(&["no-such-file", "No such file"]);
    tree.run(&format!("inspect --has depth {OUT}/lib/buoy/chime.so")).code(0);
    let json = asked("--has depth=4 --json").code(1).json();
    assert_eq!((&json["answers"][0]["yes"], &json["answers"][0]["value"]), (&false.into(), &"3".into()));
}

#[test]
fn a_running_process_is_asked_by_its_number() {
    let tree = built();
    let program = tree.at(&format!("{OUT}/bin/plain"));
    let mut running = Command::new(&program).stdin(Stdio::piped()).spawn().expect("it runs");
    // Its file goes away meanwhile.
    std::fs::remove_file(&program).expect("removed");
    let number = running.id();
    tree.run(&format!("inspect {number}")).code(0).says(&[&format!("process {number}"), "program plain of buoy 1.2"]);
    tree.run(&format!("inspect --has depth=3 {number}")).code(0);
    drop(running.stdin.take());
    running.wait().expect("it ends");
    tree.run(&format!("inspect {number}")).code(1).says(&[&format!("there is no process {number}")]);
    // A file of that name comes first.
    std::fs::copy(tree.at(&format!("{OUT}/lib/liblow.a")), tree.at("4711")).expect("copied");
    tree.run("inspect 4711").code(0).says(&["static library low"]);
}

#[test]
fn a_record_becomes_a_profile_again_with_folders_of_whoever_asks() {
    let tree = built();
    let home = |name: &str| {
        let home = tree.at(name);
        std::fs::create_dir_all(&home).expect("made");
        home.canonicalize().expect("there")
    };
    let (maker, other) = (home("maker"), home("other"));
    let at_home = |home: &std::path::Path, words: &str| {
        let mut command = tree.command(words);
        tree.ran(command.env("HOME", home))
    };
    let data = maker.join("data").display().to_string();
    at_home(&maker, &format!("set horn=on data={data} more=-DHERE=\"{data}\"")).code(0);
    at_home(&maker, "build").code(0);
    let bytes = std::fs::read(tree.at(&format!("{OUT}/bin/buoy"))).expect("built");
    let text = String::from_utf8_lossy(&bytes);
    let record = &text[text.find("# boltboard record").expect("a record")..];
    assert!(record.contains("data = \"~/data\"") && record.contains("-DHERE=\"~/data\""), "{record}");
    assert!(!record.contains(&tree.path().display().to_string()), "no place of the maker's: {record}");
    let made = at_home(&maker, &format!("inspect --profile again {OUT}/bin/buoy")).code(0);
    made.says(&["Made the profile again", "3 choices", "gives the same values", "→ boltboard profile use again"]);
    // What prints its record tells another profile.
    let compared = at_home(&maker, "compare mine again").code(1);
    compared.says(&["mine and again give every option the same value", "write     made/told.h"]);
    at_home(&other, &format!("inspect --profile theirs {OUT}/bin/buoy"))
        .code(0)
        .says(&["are your own now: data, more"]);
    let theirs = other.join("data").display().to_string();
    assert!(tree.read("boltboard-work/profiles/theirs.toml").contains(&format!("data = \"{theirs}\"")));
    at_home(&maker, &format!("inspect --profile again {OUT}/bin/buoy")).code(2).complains(&["already is a profile"]);
    // Another tree takes none of it.
    let mini = Scratch::with(MINI);
    let program = tree.at(&format!("{OUT}/bin/buoy")).display().to_string();
    mini.run(&format!("inspect --profile taken {program}")).code(3).complains(&["built from the tree `buoy`"]);
}

#[test]
fn a_profile_is_compared_with_what_a_file_says() {
    let tree = built();
    let away = tree.at("away");
    std::fs::copy(tree.at(&format!("{OUT}/bin/plain")), &away).expect("copied");
    tree.run("compare mine --with-record away")
        .code(0)
        .says(&["mine and the record of away give every option the same value"]);
    tree.run("set depth=9 chime=off").code(0);
    let compared = tree.run("compare mine --with-record away").code(1);
    compared.says(&["the record of away", "depth", "chime"]);
    let json = tree.run("compare mine --with-record away --json").code(1).json();
    assert_eq!(json["sides"], serde_json::json!(["mine", "the record of away"]));
    let causes: Vec<&str> =
        json["causes"].as_array().expect("a list").iter().filter_map(|c| c["name"].as_str()).collect();
    assert_eq!(causes, ["chime", "depth"]);
    tree.run("compare mine --with-record low.c").code(3).complains(&["low.c is no program"]);
    // What the maker's host had counts, and an earlier version is carried over.
    let host = Scratch::with(TREE);
    let needs = "[need.radio]\nlibrary = \"no-such-radio\"\n[option.relay]\nkind = \"switch\"\ndefault = \"on\"\nrequires = \"need:radio\"\n[part.low]";
    host.edit("boltboard.toml", "[part.low]", needs);
    host.run("build").code(0);
    host.run(&format!("compare mine --with-record {OUT}/bin/plain --assume radio")).code(1).says(&["radio", "relay"]);
    host.edit("boltboard.toml", "version = \"1.2\"", "version = \"2.0\"");
    host.edit("boltboard.toml", "[option.depth]", "[option.fathoms]\nwas = \"depth\"");
    let told = host.run(&format!("compare mine --with-record {OUT}/bin/plain"));
    told.says(&["mine and the record of plain give every option the same value"]);
}

#[test]
fn other_choices_make_no_step_run_that_does_not_see_them() {
    let tree = built();
    let record = |file: &str| tree.run(&format!("inspect --json {OUT}/{file}")).code(0).json()["files"][0].clone();
    let plain = |file: &str| std::fs::read(tree.at("boltboard-work/builds/mine/parts").join(file)).expect("made");
    let before = plain("bin/plain");
    tree.run("set data=/srv/buoy").code(0);
    let preview = tree.run("preview").code(0);
    preview.says(&["write     made/told.h", "get a record of the new choices; no step runs for that"]);
    // What prints the record is made anew, nothing else.
    assert_eq!(tree.previewed("run"), ["write made/options.h", "write made/told.h", "compile main.c"]);
    tree.run("build").code(0);
    assert_eq!(record("bin/plain")["records"][0]["record"]["choices"]["data"], "/srv/buoy");
    assert_eq!(record("bin/plain")["records"][0]["standing"], "as-made");
    assert!(plain("bin/plain") == before);
    tree.run("build").code(0).says(&["Nothing to do:"]);
    tree.equals_clean();
}

#[test]
fn many_values_are_compressed_once_and_read_alike() {
    let tree = Scratch::with(TREE);
    let options: String = (0..3000).map(|n| format!("[option.station-number-{n}]\nkind = \"switch\"\n")).collect();
    tree.edit("boltboard.toml", "[part.low]", &format!("{options}[part.low]"));
    tree.run("set station-number-7=on").code(0);
    tree.run("build").code(0);
    let program = std::fs::metadata(tree.at(&format!("{OUT}/bin/plain"))).expect("built").len();
    let plain = std::fs::metadata(tree.at("boltboard-work/builds/mine/parts/bin/plain")).expect("built").len();
    assert!(program - plain < 30_000, "{program} {plain}");
    tree.run(&format!("inspect --has station-number-7 {OUT}/bin/plain")).code(0);
    tree.run(&format!("inspect --has station-number-8 {OUT}/bin/plain")).code(1);
    tree.run(&format!("inspect {OUT}/bin/plain"))
        .code(0)
        .says(&["station-number-7  on", "The file is as it was made."]);
    tree.run("set station-number-9=on").code(0);
    tree.run("build").code(0).says(&["current"]);
    tree.run(&format!("inspect --has station-number-9 {OUT}/bin/plain")).code(0);
    tree.equals_clean();
    tool("strip", &[&format!("{OUT}/bin/plain")], &tree);
    tree.run(&format!("inspect --has station-number-9 {OUT}/bin/plain")).code(0);
}

#[test]
fn modules_and_archives_that_are_many_tell_what_their_definitions_name() {
    let tree = Scratch::with(TREE);
    let libraries: String =
        (0..64).map(|n| format!("[part.low{n}]\nkind = \"static-library\"\nsources = [\"low.c\"]\n")).collect();
    tree.edit("boltboard.toml", "[part.low]", &format!("{libraries}[part.low]"));
    tree.run("build chime plain low7").code(0);
    let module = tree.run(&format!("inspect {OUT}/lib/buoy/chime.so")).code(0);
    module.says(&["it tells those that this part names", "chime  loadable"]);
    let asked = tree.run(&format!("inspect --has depth {OUT}/lib/buoy/chime.so")).code(3);
    asked.complains(&["tells only the options that its definition names"]);
    let taken = tree.run(&format!("inspect --profile x {OUT}/lib/liblow7.a")).code(3);
    taken.complains(&["does not tell what was chosen", "a program or shared library of the same build"]);
    // What they tell does not change with what they do not see; that of programs does.
    let bytes = |file: &str| std::fs::read(tree.at(OUT).join(file)).expect("built");
    let files = ["lib/buoy/chime.so", "lib/liblow7.a", "bin/plain"];
    let before = files.map(bytes);
    tree.run("set data=/srv/buoy").code(0);
    tree.run("build chime plain low7").code(0);
    let same: Vec<bool> = files.iter().zip(&before).map(|(file, before)| bytes(file) == *before).collect();
    assert_eq!(same, [true, true, false]);
}

#[test]
fn a_program_prints_the_text_of_its_record() {
    let tree = built();
    let said = |tree: &Scratch, program: &str, words: &[&str]| {
        let output = Command::new(tree.at(program)).args(words).output().expect("it runs");
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    let carried = |tree: &Scratch, program: &str| {
        let bytes = std::fs::read(tree.at(program)).expect("built");
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let record = &text[text.rfind("# boltboard record").expect("a record")..];
        let (_, record) = record.split_once('\n').expect("lines");
        record[..record.find('\0').unwrap_or(record.len())].to_string()
    };
    let program = format!("{OUT}/bin/buoy");
    let (printed, record) = (said(&tree, &program, &[]), carried(&tree, &program));
    let (without_file, _) = record.split_once("\n[file]\n").expect("the mark of the file");
    assert_eq!(printed.trim_end(), without_file.trim_end());
    // Skerry reads it from its own file, so that nothing is compiled anew.
    let skerry = Scratch::skerry();
    skerry.run("build skerryd").code(0);
    let program = format!("{OUT}/bin/skerryd");
    let printed = said(&skerry, &program, &["--version"]);
    assert!(printed.starts_with("Skerry 2.4\n\nformat = 1\ntree = \"skerry\"\n"), "{printed}");
    assert!(carried(&skerry, &program).starts_with(printed.split_once("\n\n").expect("the record").1));
}

#[test]
fn damaged_doubled_and_hostile_records_do_no_harm() {
    let tree = built();
    let file = tree.at(&format!("{OUT}/bin/buoy"));
    let bytes = std::fs::read(&file).expect("built");
    let hurt = |from: &str, to: &str| {
        assert_eq!(from.len(), to.len());
        let at = bytes.windows(from.len()).rposition(|window| window == from.as_bytes()).expect("in the record");
        let mut hurt = bytes.clone();
        hurt[at..at + to.len()].copy_from_slice(to.as_bytes());
        std::fs::write(tree.at("hurt"), hurt).expect("written");
    };
    hurt("tree = \"buoy\"", "tree = \"bouy\"");
    tree.run("inspect hurt").code(1).says(&["The record cannot be used: it is damaged: its digest"]);
    tree.run("inspect --has horn hurt").code(3).complains(&["the record of hurt cannot be used"]);
    tree.run("inspect --profile x hurt").code(3).complains(&["it is damaged"]);
    assert!(!tree.at("boltboard-work/profiles/x.toml").exists());
    // A section of one's own, with what a terminal would obey.
    let text = "format = 1\ntree = \"\\u001b[2Jbuoy\"\nversion = \"1\"\npart = \"p\"\nkind = \"program\"\nprofile = \"\\u202Ex\"\ncovers = \"all\"\n";
    let digest = boltboard_core::base::Digest::of(text.as_bytes());
    tree.write("section", &format!("# boltboard record 1: {} bytes, {digest}\n{text}", text.len()));
    let evil = ["--add-section", ".boltboard=section", "hostile"];
    std::fs::copy("/bin/true", tree.at("hostile")).expect("copied");
    tree.at("hostile")
        .metadata()
        .map(|status| {
            let mut mode = status.permissions();
            mode.set_mode(0o755);
            std::fs::set_permissions(tree.at("hostile"), mode).expect("set");
        })
        .expect("there");
    tool("objcopy", &evil, &tree);
    let shown = tree.run("inspect hostile").code(0).says(&["program p of"]).out;
    assert!(!shown.contains('\u{1b}') && !shown.contains('\u{202e}'), "{shown:?}");
    // Two that say the same, then two that do not.
    tool("objcopy", &["--dump-section", ".boltboard=own", &format!("{OUT}/bin/buoy"), "hurt"], &tree);
    let own = std::fs::read(tree.at("own")).expect("dumped");
    let doubled = |second: &str| {
        std::fs::write(tree.at("two"), [&own[..], second.as_bytes()].concat()).expect("written");
        tool("objcopy", &["--update-section", ".boltboard=two", &format!("{OUT}/bin/buoy"), "doubled"], &tree);
    };
    let own_text = String::from_utf8_lossy(&own).into_owned();
    doubled(&own_text);
    tree.run("inspect doubled").code(0).says(&["It has 2 records", "record 2"]);
    tree.run("inspect --has depth=3 doubled").code(0);
    let other = own_text.split_once('\n').expect("a line").1.replace("horn", "hurn").replace("depth = 3", "depth = 9");
    let digest = boltboard_core::base::Digest::of(other.as_bytes());
    doubled(&format!("# boltboard record 1: {} bytes, {digest}\n{other}", other.len()));
    tree.run("inspect --has depth=3 doubled").code(3).complains(&["2 records, and they contradict each other"]);
}

#[test]
fn a_build_that_was_cut_off_before_it_handed_over_is_not_taken_for_whole() {
    let tree = built();
    tree.write("plain.c", "#include <stdio.h>\nint main(void) { return getchar() == 'y'; }\n");
    let before = std::fs::read(tree.at(&format!("{OUT}/bin/plain"))).expect("built");
    let handed = tree.at("boltboard-work/builds/mine/handed");
    tree.run("build").code(0);
    let after = std::fs::read(tree.at(&format!("{OUT}/bin/plain"))).expect("built");
    assert!(before != after);
    // As a kill between the last step and the handing over leaves it.
    std::fs::write(tree.at(&format!("{OUT}/bin/plain")), &before).expect("written");
    std::fs::rename(&handed, tree.at("boltboard-work/builds/mine/handed-before")).expect("moved");
    tree.run("build").code(0).steps(0);
    assert!(std::fs::read(tree.at(&format!("{OUT}/bin/plain"))).expect("built") == after);
    // What a program without records left there goes, where it is no longer made.
    ["handed", "handed-before"].iter().for_each(|name| {
        let _ = std::fs::remove_file(tree.at("boltboard-work/builds/mine").join(name));
    });
    tree.write(&format!("{OUT}/bin/left-over"), "from before");
    tree.run("build").code(0).steps(0);
    assert!(!tree.at(&format!("{OUT}/bin/left-over")).exists());
    // A part that is no longer made is no longer there.
    tree.run("set chime=off").code(0);
    tree.run("build").code(0);
    assert!(!tree.at(&format!("{OUT}/lib/buoy/chime.so")).exists());
    tree.equals_clean();
}
