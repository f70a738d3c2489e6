//! What builders that look less closely miss: time, environment, and headers that are reached in roundabout ways.

use crate::harness::{MINI, Scratch, usual_path};

#[test]
fn the_time_of_a_build_is_what_was_asked_for_and_concerns_those_that_name_it() {
    let tree = Scratch::with(MINI);
    tree.edit("src/main.c", "printf(", "printf(__DATE__ \" \" __TIMESTAMP__ \"\\n\"); printf(");
    tree.run("build").code(0);
    let program = || std::fs::read(tree.at("boltboard-work/builds/mine/out/bin/mini")).expect("built");
    let holds = |text: &str| program().windows(text.len()).any(|part| part == text.as_bytes());
    assert!(holds("Jan  1 1970 Thu Jan  1 00:00:00 1970"));

    let at = |words: &str, time: &str| tree.run_with(words, "SOURCE_DATE_EPOCH", time);
    at("preview --why src/main.c", "1767225599").code(0).says(&["__DATE__ 0 → 1767225599"]);
    at("preview --why src/depth.c", "1767225599").code(0).says(&["would not run"]);
    at("build --verify", "1767225599").code(0).says(&["Verified:"]);
    assert!(holds("Dec 31 2025 Wed Dec 31 23:59:59 2025"));
    at("build", "1767225599").code(0).steps(0);
    tree.run("build").code(0).says(&["reused"]);
    assert!(holds("Jan  1 1970 Thu Jan  1 00:00:00 1970"));
    at("build", "soon").code(2).complains(&["SOURCE_DATE_EPOCH is `soon`", "seconds since 1970"]);
}

const PASSED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[part.station]
kind = "generated"
command = ["sh", "-c", "echo \"const char *station = \\\"$STATION\\\";\" > ${step:output}"]
output = ["station.c"]
environment = ["STATION"]
[part.stamp]
kind = "generated"
command = ["sh", "-c", "echo \"const char *stamp = \\\"$SOURCE_DATE_EPOCH\\\";\" > ${step:output}"]
output = ["stamp.c"]
[part.prog]
kind = "program"
sources = ["main.c", { add = [], made = ["station.c", "stamp.c"] }]
uses = ["station", "stamp"]
"#;

#[test]
fn a_variable_that_a_generator_declares_counts_and_no_other_does() {
    let tree = Scratch::with(&[("boltboard.toml", PASSED), ("main.c", "int main(void) { return 0; }\n")]);
    let made = |file: &str| tree.read(&format!("boltboard-work/builds/mine/made/{file}"));
    tree.run("build").code(0);
    assert!(made("station.c").contains("\"\""));
    tree.run_with("build", "LANTERN", "lit").code(0).steps(0);
    let here = |words: &str| tree.run_with(words, "STATION", "Skerry Rock");
    here("preview").code(0).says(&["command: added STATION=Skerry Rock"]);
    here("build --verify").code(0);
    assert!(made("station.c").contains("\"Skerry Rock\""));
    here("build").code(0).steps(0);
    tree.run_with("preview", "STATION", "Inner Light")
        .code(0)
        .says(&["command: added STATION=Inner Light; removed STATION=Skerry Rock"]);
    tree.run("build").code(0);
    assert!(made("station.c").contains("\"\""), "it is not there any more");
    tree.run_with("build", "SOURCE_DATE_EPOCH", "7").code(0);
    assert!(made("stamp.c").contains("\"7\""), "what a generator makes of the time is not known, so it counts");

    tree.edit("boltboard.toml", "[\"STATION\"]", "[\"STA TION\"]");
    tree.run("build").code(3).complains(&["`STA TION` is neither NAME=VALUE nor NAME"]);
}

const ROUNDABOUT: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[header.h]
output = "t/options.h"
prefix = "T_"
[option.drive]
kind = "pick"
values = ["slow", "fast"]
macro = [{ name = "T_DRIVE_FILE", form = "quoted" }]
[part.first]
kind = "generated"
command = ["sh", "-c", "cat first.txt > ${step:output}"]
reads = ["first.txt"]
output = ["first.h"]
[part.second]
kind = "generated"
command = ["sh", "-c", "sed -e s/DEPTH/depth/ -e s/5/1/ ${part:first} second.txt > ${step:output}"]
reads = ["second.txt"]
output = ["second.h"]
uses = ["first"]
[part.low]
kind = "static-library"
sources = ["low/*.c"]
[part.prog]
kind = "program"
sources = ["main.c", "drive.c"]
include = ["drives"]
uses = ["low", "first", "second"]
"#;

fn roundabout() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", ROUNDABOUT),
        ("first.txt", "#define FIRST 1\n"),
        ("second.txt", "#define DEPTH 2\n"),
        ("low/a.c", "int a(void) { return 1; }\n"),
        ("low/b.c", "int b(void) { return 2; }\n"),
        ("drives/slow", "#define SPEED 1\n"),
        ("drives/fast", "#define SPEED 9\n"),
        (
            "main.c",
            "int a(void);\nint b(void) __attribute__((weak));\nint drive(void);\n\
             int main(void) { return b ? a() : drive(); }\n",
        ),
        ("drive.c", "#include <t/options.h>\n#include T_DRIVE_FILE\nint drive(void) { return SPEED; }\n"),
    ]);
    tree.run("build").code(0);
    tree
}

#[test]
fn a_header_named_by_an_option_is_followed() {
    let tree = roundabout();
    tree.run("set drive=fast").code(0);
    assert_eq!(tree.previewed("run"), ["write made/t/options.h", "compile drive.c"]);
    tree.run("build --verify").code(0);
    tree.edit("drives/fast", "9", "8");
    tree.run("build --verify").code(0).steps(2);
    tree.edit("drives/slow", "1", "3");
    tree.run("build").code(0).steps(0);
}

#[test]
fn generated_files_of_generated_files_follow_and_stop_where_they_stay_the_same() {
    let tree = roundabout();
    tree.edit("first.txt", "1", "5");
    let will = tree.previewed("run");
    assert_eq!(will, ["generate made/first.h"]);
    assert_eq!(tree.previewed("follows"), ["generate made/second.h"]);
    tree.run("build --verify").code(0).steps(2);
    tree.write("second.txt", "#define depth 2\n");
    tree.run("build --verify").code(0).steps(1);
}

#[test]
fn a_member_that_leaves_an_archive_is_gone_from_it() {
    let tree = roundabout();
    let members = || {
        let library = tree.at("boltboard-work/builds/mine/parts/lib/liblow.a");
        let output = std::process::Command::new("ar").arg("t").arg(library).output().expect("ar runs");
        String::from_utf8_lossy(&output.stdout).lines().map(str::to_string).collect::<Vec<_>>()
    };
    assert_eq!(members().len(), 2);
    std::fs::remove_file(tree.at("low/b.c")).expect("removed");
    tree.run("build --verify").code(0);
    assert_eq!(members().len(), 1);
    assert!(!tree.at("boltboard-work/builds/mine/objects/low/low/b.c.o").exists());
}

/// What each source does with the macro `T_FOG`, and whether a flip of it can change what its compile makes.
const SIGHTINGS: &[(&str, &str, bool)] = &[
    ("comment", "/* T_FOG */ int comment; // T_FOG\n", false),
    ("string", "const char *string = \"T_FOG\";\n", false),
    ("character", "int character = 'T'; /* _FOG */\n", false),
    ("longer", "int T_FOG_HORN_longer;\n", false),
    ("joined", "#ifdef T_\\\nFOG\nint joined;\n#endif\nint joined_too;\n", true),
    ("ifdef", "#ifdef T_FOG\nint ifdef;\n#endif\nint ifdef_too;\n", true),
    ("defined", "#if defined T_FOG && 1\nint defined_1;\n#endif\nint defined_2;\n", true),
    ("elif", "#if 0\n#elif defined(T_FOG)\nint elif_1;\n#endif\nint elif_2;\n", true),
    ("code", "#ifndef T_FOG\n#define T_FOG 7\n#endif\nint code = T_FOG;\n", true),
    ("header", "#include \"helper.h\"\nint header = IN_FOG(3);\n", true),
    ("unused", "#include \"helper.h\"\nint unused;\n", false),
    ("pasted", "#define S_(x) #x\n#define S(x) S_(x)\n#define T(x) T_##x\nconst char *pasted = S(T(FOG));\n", true),
    ("argument", "#include \"helper.h\"\nint argument = FIRST_OF(T_FOG_OR(2), 4);\n", true),
    ("undefined", "#undef T_FOG\n#ifdef T_FOG\nint never;\n#endif\nint undefined;\n", false),
    ("redefined", "#undef T_FOG\n#define T_FOG 3\nint redefined = T_FOG;\n", false),
    ("inactive", "#if 0\n#ifdef T_FOG\nint never;\n#endif\n#endif\nint inactive;\n", false),
    ("assembly", "__asm__(\"# T_FOG\");\nint assembly;\n", false),
];

#[test]
fn an_option_reaches_what_it_changes_however_it_is_named_and_nothing_else() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[header.h]\noutput = \"t/options.h\"\nprefix = \"T_\"\n\
             [option.fog]\nkind = \"switch\"\n[part.all]\nkind = \"objects\"\nsources = [\"s/*.c\"]\n",
        ),
        (
            "s/helper.h",
            "#define FIRST_OF(a, b) (a)\n#ifdef T_FOG\n#define IN_FOG(x) (x)\n#define T_FOG_OR(x) 1\n#else\n\
             #define IN_FOG(x) (-(x))\n#define T_FOG_OR(x) (x)\n#endif\n",
        ),
    ]);
    for (name, text, _) in SIGHTINGS {
        tree.write(&format!("s/{name}.c"), &format!("#include <t/options.h>\n{text}"));
    }
    tree.run("build").code(0);
    tree.run("set fog=on").code(0);
    let ran = tree.run("build --verbose").code(0);
    for (name, _, changes) in SIGHTINGS {
        let told = |what: &str| ran.err.contains(&format!("{what} s/{name}.c"));
        let compiled = told("compile  ") && !told("same text");
        assert_eq!(compiled, *changes, "{name}\n{}", ran.err);
    }
    tree.run("build --verify").code(0);
    tree.run("set fog=off").code(0);
    tree.run("build --verify").code(0).steps(0);
}

const OUTSIDE: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
c-flags = ["-IHOST/first", "-IHOST/second"]
[part.prog]
kind = "program"
sources = ["main.c", "other.c"]
"#;

#[test]
fn headers_of_the_host_count_and_so_do_those_that_come_before_them() {
    let host = Scratch::with(&[("second/host.h", "#define HOST 1\n"), ("first/none", "")]);
    let tree = Scratch::with(&[
        ("main.c", "#include <host.h>\nint other(void);\nint main(void) { return HOST + other(); }\n"),
        ("other.c", "int other(void) { return 0; }\n"),
    ]);
    tree.write("boltboard.toml", &OUTSIDE.replace("HOST", &host.path().display().to_string()));
    tree.run("build").code(0);
    host.write("second/host.h", "#define HOST 2\n");
    let told = tree.run("preview").code(0);
    assert!(told.out.contains("compile   main.c") && !told.out.contains("compile   other.c"), "{}", told.out);
    tree.run("build --verify").code(0).steps(2);
    host.write("first/host.h", "#define HOST 3\n");
    tree.run("preview").code(0).says(&["is new and comes first", "compile   main.c"]);
    tree.run("build --verify").code(0).steps(2);
    std::fs::remove_file(host.at("first/host.h")).expect("removed");
    tree.run("build --verify").code(0);
    std::fs::remove_file(host.at("second/host.h")).expect("removed");
    tree.run("build").code(1).complains(&["host.h"]);
    host.write("second/host.h", "#define HOST 2\n");
    tree.run("build --verify").code(0);
}

#[test]
fn flags_of_the_link_link_again_and_compile_nothing() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    let text = tree.read("boltboard.toml");
    let board = text.replacen("[part.mini]\n", "[part.mini]\nlink-flags = [\"-Wl,--build-id=none\"]\n", 1);
    assert_ne!(board, text, "the part is there");
    tree.write("boltboard.toml", &board);
    assert!(tree.previewed("run").iter().all(|step| !step.starts_with("compile")), "{:?}", tree.previewed("run"));
    tree.run("build --verify").code(0).steps(1);
}

#[test]
fn times_of_files_are_not_believed() {
    use std::time::{Duration, SystemTime};
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    let at = |file: &str, time: SystemTime| tree.set_time(file, time);
    let before = std::fs::metadata(tree.at("src/depth.c")).and_then(|status| status.modified()).expect("a time");
    // As an archive restores it: other content, the same length, the time of before.
    let text = tree.read("src/depth.c");
    let other = text.replacen("return MINI_DEPTH", "return-MINI_DEPTH", 1);
    tree.write("src/depth.c", &other);
    at("src/depth.c", before);
    tree.run("build --verify").code(0).steps(2);
    // A clock that was set back, and one that ran ahead.
    for away in [Duration::from_secs(1_000_000), Duration::ZERO] {
        tree.write("src/depth.c", &format!("{other}/* {away:?} */\n"));
        at("src/depth.c", SystemTime::UNIX_EPOCH + away);
        tree.run("build --verify").code(0);
    }
    at("src/depth.c", SystemTime::now() + Duration::from_secs(1_000_000));
    tree.run("build").code(0).steps(0);
    tree.write("src/depth.c", &text);
    tree.run("build --verify").code(0).steps(0).says(&["reused"]);
}

#[test]
fn an_edit_in_place_of_what_was_built_never_comes_back_from_the_store() {
    let tree = Scratch::with(MINI);
    tree.run("build").code(0);
    for folder in ["objects", "out"] {
        let mut open = vec![tree.at("boltboard-work/builds/mine").join(folder)];
        while let Some(at) = open.pop() {
            for path in std::fs::read_dir(at).expect("a folder").filter_map(Result::ok).map(|entry| entry.path()) {
                if path.is_dir() {
                    open.push(path);
                } else if !path.is_symlink() {
                    let mut bytes = std::fs::read(&path).expect("built");
                    if let Some(last) = bytes.last_mut() {
                        *last ^= 0x55;
                    }
                    // Written into, not put in its place: whatever shares the file sees it.
                    let mut file = std::fs::File::options().write(true).open(&path).expect("it can be written");
                    std::io::Write::write_all(&mut file, &bytes).expect("written");
                }
            }
        }
    }
    tree.run("build --verify").code(0);
    tree.equals_clean();
}

#[test]
fn what_is_asked_for_by_has_include_counts_when_it_comes_and_when_it_goes() {
    let tree = Scratch::with(MINI);
    tree.edit("src/depth.c", "int depth", "#if __has_include(\"late.h\")\n#include \"late.h\"\n#endif\nint depth");
    tree.run("build").code(0);
    tree.write("src/late.h", "int late;\n");
    tree.run("preview").code(0).says(&["src/late.h is new and comes first", "compile   src/depth.c"]);
    tree.run("build --verify").code(0).steps(2);
    std::fs::remove_file(tree.at("src/late.h")).expect("removed");
    tree.run("preview").code(0).says(&["src/late.h is gone"]);
    tree.run("build --verify").code(0).says(&["reused"]);
}

#[test]
fn the_programs_behind_a_compiler_count_and_so_do_those_that_come_before_them() {
    let tree = Scratch::with(MINI);
    tree.write("tools/none", "");
    let path = format!("{}:{}", tree.at("tools").display(), usual_path());
    let run = |words: &str| tree.run_with(words, "PATH", &path).code(0);
    run("build");
    run("build").steps(0);
    for version in ["one", "another"] {
        tree.script("tools/as", &format!("# {version}\nexec /usr/bin/as \"$@\""));
        run("preview").says(&[
            "cc, or a program behind it, has changed",
            "compile   src/depth.c",
            "compile   src/main.c",
        ]);
        run("build").steps(3);
        run("build").steps(0);
    }
    // The same program, put there again: everything that it made before stands.
    std::thread::sleep(std::time::Duration::from_millis(20));
    let before = std::fs::metadata(tree.at("tools/as")).and_then(|status| status.modified()).expect("a time");
    tree.script("tools/as", "# another\nexec /usr/bin/as \"$@\"");
    tree.set_time("tools/as", before);
    run("build").steps(0);
    std::fs::remove_file(tree.at("tools/as")).expect("removed");
    run("build").steps(0).says(&["reused"]);
}

#[test]
fn another_processor_counts_for_code_that_is_made_for_it() {
    let tree = Scratch::with(MINI);
    tree.edit("boltboard.toml", "\"src/depth.c\"", "{ add = [\"src/depth.c\"], flags = [\"-mtune=native\"] }");
    tree.write("one", "a processor");
    tree.write("other", "another one");
    let on =
        |words: &str, processor: &str| tree.run_with(words, "BOLTBOARD_PROCESSOR_FILE", &format!("TREE/{processor}"));
    on("build", "one").code(0);
    on("build", "one").code(0).steps(0);
    on("preview", "other").code(0).says(&["compile   src/depth.c"]);
    on("build --verbose", "other").code(0).complains(&["compile   src/depth.c"]).steps(1);
    on("build", "one").code(0).says(&[": 1 reused"]);
    tree.write("one", "another one");
    on("build", "one").code(0).says(&[": 1 reused"]);
}

#[test]
fn a_linker_that_flags_choose_counts_for_links_alone() {
    let tree = Scratch::with(MINI);
    tree.edit("boltboard.toml", "uses = [\"names\"]", "uses = [\"names\"]\nlink-flags = [\"-fuse-ld=bfd\"]");
    let path = format!("TREE/tools:{}", usual_path());
    let run = |words: &str| tree.run_with(words, "PATH", &path).code(0);
    tree.script("tools/ld.bfd", "# one\nexec /usr/bin/ld \"$@\"");
    run("build");
    run("build").steps(0);
    tree.script("tools/ld.bfd", "# another\nexec /usr/bin/ld \"$@\"");
    run("preview").says(&["link      out/bin/mini", "tools/ld.bfd has changed"]);
    run("build").steps(1);
    run("build").steps(0);
}

#[test]
fn a_file_that_is_left_out_because_it_is_the_same_as_one_that_was_read_counts() {
    for (case, once) in
        [("by a pragma", "#pragma once\n"), ("by an operator", "_Pragma(\"once\")\n"), ("by import", "")]
    {
        let ask = if once.is_empty() { "import" } else { "include" };
        let of = |number: usize| {
            format!("#{ask} \"first.h\"\n#{ask} \"second.h\"\nint of{number}(void) {{ return FOG; }}\n")
        };
        let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.t]\nkind = \"static-library\"\nsources = [\"src/*.c\"]\n";
        let tree = Scratch::with(&[("boltboard.toml", board)]);
        let text = format!("{once}#ifdef FOG\n#undef FOG\n#define FOG 2\n#else\n#define FOG 1\n#endif\n");
        tree.write("src/first.h", &text);
        std::fs::hard_link(tree.at("src/first.h"), tree.at("src/second.h")).expect("a name");
        // The first compile of its sort is watched, and one of fifty later ones: most must be known without.
        (0..4).for_each(|number| tree.write(&format!("src/of{number}.c"), &of(number)));
        tree.run("build").code(0);
        // Now it is another file, of almost the same text.
        std::fs::remove_file(tree.at("src/second.h")).expect("removed");
        tree.write("src/second.h", &format!("{text}\n/* another */\n"));
        let ran = tree.run("build --verify").code(0);
        assert!(ran.out.contains("Verified:"), "{case}: {}", ran.out);
        tree.equals_clean();
    }
}

/// A board with one number and one library.
fn with_depth(part: &str) -> String {
    format!(
        "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[header.options]\noutput = \"options.h\"\nprefix = \"T_\"\n\
         [option.depth]\nkind = \"number\"\nrange = [1, 9]\ndefault = 3\nsummary = \"depth\"\n\
         [part.t]\nkind = \"static-library\"\n{part}"
    )
}

#[test]
fn an_option_counts_behind_signs_that_few_texts_have() {
    let board = with_depth("sources = [\"*.S\", \"*.c\"]\n");
    let tree = Scratch::with(&[
        ("boltboard.toml", &board),
        // To an assembler's preprocessor the sign is no letter, so the macro's value stands behind it.
        ("a.S", "#include \"options.h\"\n.set at$3, 30\n.set at$8, 80\n.data\n.long at$T_DEPTH\n"),
        // Some editors write one before all else, and compilers leave it out.
        ("b.c", "\u{feff}#include \"b.h\"\nint b = DEPTH;\n"),
        ("b.h", "\u{feff}#include \"options.h\"\n#define DEPTH T_DEPTH\n"),
        // A carriage return alone ends a line.
        ("c.c", "#include \"options.h\"\nint c; // x\rint d = T_DEPTH;\n"),
    ]);
    tree.run("build").code(0);
    let ran = tree.run("set depth=8").code(0);
    assert!(ran.err.is_empty(), "{}", ran.err);
    tree.run("preview --why a.S").code(0).says(&["T_DEPTH"]);
    tree.run("build").code(0).steps(4);
    tree.equals_clean();
    // What stands behind the mark is followed: its header, and where that could come to lie first.
    tree.write("b.h", "#define DEPTH 5\n");
    tree.run("build").code(0).steps(2);
    tree.equals_clean();
}

#[test]
fn an_option_counts_that_a_file_of_words_names() {
    let more = "sources = [\"*.c\"]\nflags = [\"@${path:tree}/words\", \"-DPLACE=T_DEPTH, ${path:made}\"]\n";
    let board = with_depth(more);
    let tree = Scratch::with(&[
        ("boltboard.toml", &board),
        ("words", "@more\n-O1\n"),
        ("more", "-include options.h -DDEPTH=T_DEPTH\n"),
        ("a.c", "int a = DEPTH;\n"),
        (
            "b.c",
            "#include \"options.h\"\n#define FIRST_(a, ...) a\n#define FIRST(x) FIRST_(x)\nint b = FIRST(PLACE);\n",
        ),
    ]);
    tree.run("build").code(0);
    tree.run("set depth=8").code(0);
    tree.run("build").code(0).steps(3);
    tree.equals_clean();
    tree.write("more", "-DDEPTH=5\n");
    tree.run("build").code(0);
    tree.equals_clean();
    // Now only one of them names it.
    tree.run("set depth=7").code(0);
    tree.run("build").code(0).steps(2);
}
