//! Hosts that are not as they should be, and needs of every sort on real files: metadata that leads nowhere, libraries for another
//! machine, several copies, several providers.

use std::process::Command;

use crate::harness::{Ran, Scratch};

const HEAD: &str = "format = 1\n[tree]\nname = \"quay\"\nversion = \"1\"\n";

/// A tree with these needs, and a made-up host below it.
struct Quay {
    tree: Scratch,
}

impl Quay {
    fn new(needs: &str) -> Quay {
        Quay { tree: Scratch::with(&[("boltboard.toml", &format!("{HEAD}{needs}"))]) }
    }

    fn run(&self, words: &str) -> Ran {
        let mut command = self.tree.command(words);
        let path = std::env::var("PATH").unwrap_or_default();
        command
            .env("PATH", format!("{}:{path}", self.tree.at("bin").display()))
            .env("BOLTBOARD_METADATA_PATH", self.tree.at("pc"));
        self.tree.ran(&mut command)
    }

    fn library(&self, path: &str, source: &str) {
        self.tree.write("made.c", source);
        let at = self.tree.at(path);
        std::fs::create_dir_all(at.parent().expect("a folder")).expect("made");
        let status = Command::new("cc")
            .args(["-shared", "-fPIC", "-o"])
            .args([at, self.tree.at("made.c")])
            .status()
            .expect("the compiler runs");
        assert!(status.success());
    }

    fn state(&self, name: &str) -> (String, String) {
        let answer = self.run("survey --json").json();
        let needs = answer["needs"].as_array().expect("needs");
        let need = needs.iter().find(|need| need["name"] == name).expect("the need");
        let text = |key: &str| need[key].as_str().unwrap_or_default().to_string();
        (text("state"), text("detail"))
    }
}

#[test]
fn metadata_that_leads_nowhere_is_named_with_its_file() {
    let many: String = (0..600).map(|number| format!("m{number} ")).collect();
    let doubled: String = (0..40).map(|n| format!("v{}=${{v{n}}}${{v{n}}}\n", n + 1)).collect();
    let large = "#".repeat(1024 * 1024 + 1);
    let cases: Vec<(&str, String, &str)> = vec![
        ("ring", "Version: 1\nRequires: ring\n".into(), "metadata files lead back to their start: ring.pc → ring.pc"),
        ("lost", "Version: 1\nRequires: surely-nowhere\n".into(), "lost.pc requires surely-nowhere"),
        (
            "picky",
            "Version: 1\nRequires: plain >= 9\n".into(),
            "picky.pc requires plain >= 9, and plain.pc is version 1",
        ),
        ("unset", "Version: 1\nLibs: -L${nothing}\n".into(), "the variable `nothing` is not set"),
        ("open", "Version: 1\nLibs: ${nothing\n".into(), "a `${` is never closed"),
        ("bomb", format!("v0=xxxxxxxxxx\n{doubled}Libs: ${{v40}}\n"), "grow beyond all bounds"),
        ("many", format!("Version: 1\nRequires: {many}\n"), "requires more than 512 libraries"),
        ("large", large, "it is larger than 1 MiB"),
        ("binary", "\u{0}\u{1}Version: \u{7f}\n".into(), ""),
    ];
    let needs: String = cases.iter().map(|(name, ..)| format!("[need.{name}]\nlibrary = \"{name}\"\n")).collect();
    let quay = Quay::new(&needs);
    quay.tree.write("pc/plain.pc", "Version: 1\n");
    (0..600).for_each(|number| quay.tree.write(&format!("pc/m{number}.pc"), "Version: 1\n"));
    for (name, text, _) in &cases {
        quay.tree.write(&format!("pc/{name}.pc"), text);
    }
    let answer = quay.run("survey --json").code(0).json();
    let needs = answer["needs"].as_array().expect("needs");
    for ((name, _, want), need) in cases.iter().zip(needs) {
        let detail = need["detail"].as_str().unwrap_or_default();
        assert!(detail.contains(want), "{name}: {need}");
        if !want.is_empty() {
            assert_eq!(need["state"], "unusable", "{name}");
        }
    }
}

#[test]
fn a_library_for_another_machine_is_told_from_none() {
    let quay = Quay::new("[need.bell]\nlibrary = \"bell\"\n[need.plain]\nlink = \"surely-nowhere\"\n");
    quay.library("lib/libbell.so", "int bell(void) { return 1; }\n");
    let libs = quay.tree.at("lib").display().to_string();
    quay.tree.write("pc/bell.pc", &format!("Version: 1\nLibs: -L{libs} -lbell\n"));
    assert_eq!(quay.state("bell").0, "found");
    // The two bytes that say which machine it is for.
    let path = quay.tree.at("lib/libbell.so");
    let mut bytes = std::fs::read(&path).expect("the library");
    bytes[18] ^= 0x55;
    std::fs::write(&path, bytes).expect("written");
    let (state, detail) = quay.state("bell");
    assert_eq!(state, "unusable");
    assert!(detail.contains("libbell.so") || detail.contains("-lbell"), "{detail}");
    std::fs::write(&path, "this is no library").expect("written");
    assert_eq!(quay.state("bell").0, "unusable", "neither is a file of another sort");
    std::fs::remove_file(&path).expect("removed");
    let (state, detail) = quay.state("bell");
    assert_eq!((state.as_str(), detail.contains("its library bell was not found")), ("unusable", true), "{detail}");
    assert_eq!(quay.state("plain").0, "missing");
}

#[test]
fn the_first_of_several_providers_that_is_there_is_used() {
    let quay = Quay::new(
        r#"
[need.sound]
any-of = ["brass", "iron"]
[need.brass]
library = "brass"
[need.iron]
library = "iron"
[need.both]
all-of = ["brass", "iron"]
[option.ring]
kind = "switch"
default = "on"
needs = "sound"
[option.peal]
kind = "switch"
default = "on"
needs = "both"
[part.bell]
kind = "program"
sources = ["bell.c"]
needs = ["sound"]
"#,
    );
    quay.tree.write(
        "bell.c",
        "#include <stdio.h>\nint tone(void);\nint main(void) { printf(\"%d\\n\", tone() + TONE); return 0; }\n",
    );
    let libs = quay.tree.at("lib").display().to_string();
    let install = |name: &str, tone: u32| {
        quay.library(&format!("lib/lib{name}.so"), &format!("int tone(void) {{ return {tone}; }}\n"));
        let flags = format!("Version: {tone}\nCflags: -DTONE={tone}00\nLibs: -L{libs} -Wl,-rpath,{libs} -l{name}\n");
        quay.tree.write(&format!("pc/{name}.pc"), &flags);
    };
    let rings = || {
        quay.run("build -q").code(0);
        let built = ["out/bin/bell", "out/bell"].map(|path| quay.tree.at("boltboard-work/builds/mine").join(path));
        let built = built.into_iter().find(|path| path.exists()).expect("the program");
        let output = Command::new(built).output().expect("it runs");
        String::from_utf8_lossy(&output.stdout).trim().to_string()
    };
    let (state, detail) = quay.state("sound");
    assert_eq!((state.as_str(), detail.contains("none of brass, iron is there")), ("not-met", true), "{detail}");
    quay.run("build").code(4).complains(&["part `bell` cannot be built while the need `sound` is not met"]);
    install("iron", 2);
    assert_eq!(rings(), "202");
    assert_eq!(quay.state("both").0, "not-met");
    quay.run("survey").code(0).says(&["sound  found, version 2 by iron", "lacks brass", "peal is off instead of on"]);
    install("brass", 1);
    assert_eq!(rings(), "101", "the first as they are written");
    quay.run("options").says(&["peal  on"]);
    quay.run("set need:sound=iron").code(0);
    assert_eq!(rings(), "202");
    quay.run("survey sound").says(&["iron, chosen in", "the need iron", "met"]);
    quay.run("set need:sound=copper").code(2).complains(&["it can be met by system, off, brass, iron"]);
}

#[test]
fn copies_are_listed_with_the_one_in_use_and_why() {
    let quay =
        Quay::new("[need.lead]\ntool = \"lead\"\nversion = \">= 2\"\n[need.chart]\nheader = \"chart-of-nowhere.h\"\n");
    quay.tree.script("bin/lead", "echo lead 1.0");
    quay.tree.script("own/bin/lead", "echo lead 2.5");
    assert_eq!(quay.state("lead").0, "wrong-version");
    let own = quay.tree.at("own").display().to_string();
    // The folder lies within the tree, whose programs are not run for a question.
    quay.run(&format!("survey lead --try need:lead={own}")).code(0).says(&["a survey runs no program of the tree"]);
    let outside = Scratch::new();
    outside.script("bin/lead", "echo lead 2.5");
    let own = outside.path().display().to_string();
    let told = quay.run(&format!("survey lead --try need:lead={own}")).code(0);
    told.says(&["found, version 2.5", "Copies on this host", "in use: the folder that you chose", "bin/lead"]);
    quay.run("survey --try need:chart=/surely/nowhere").says(&["the folder /surely/nowhere is not there"]);
}

#[test]
fn versions_come_from_headers_programs_and_modules_too() {
    let quay = Quay::new(
        r#"
[need.text]
header = "chart.h"
version-macro = "CHART_VERSION"
version = ">= 1.2"
[need.number]
header = "chart.h"
version-macro = "CHART_NUMBER"
version = ">= 300"
[need.pieces]
header = "chart.h"
version-macro = "CHART_PIECES"
version = "= 4.5"
[need.none]
header = "chart.h"
version-macro = "CHART_NOTHING"
version = ">= 1"
[need.module]
interpreter-module = { program = "python3", module = "tides" }
version = ">= 3"
[need.no-module]
interpreter-module = { program = "python3", module = "surely_nothing" }
[need.no-interpreter]
interpreter-module = { program = "perl-of-nowhere", module = "Tides" }
"#,
    );
    let macros = "#define CHART_VERSION \"1.2.13\"\n#define CHART_NUMBER 299\n#define CHART_PIECES \"4\" \".\" \"5\"\n";
    let outside = Scratch::new();
    outside.write("include/chart.h", macros);
    let code = "case \"$*\" in *surely_nothing*) exit 1;; esac; echo 'bolt-loaded 3.1'";
    quay.tree.script("bin/python3", code);
    let all =
        ["text", "number", "pieces", "none"].map(|name| format!("--try need:{name}={}", outside.path().display()));
    let answer = quay.run(&format!("survey --json {}", all.join(" "))).json();
    let told: Vec<String> = answer["needs"]
        .as_array()
        .expect("needs")
        .iter()
        .map(|need| format!("{} {} {}", need["name"], need["state"], need["version"]).replace('"', ""))
        .collect();
    assert_eq!(
        told,
        [
            "text found 1.2.13",
            "number wrong-version 299",
            "pieces found 4.5",
            "none unusable null",
            "module found 3.1",
            "no-module missing null",
            "no-interpreter missing null"
        ]
    );
}

#[test]
fn the_cxx_compiler_is_asked_about_cxx() {
    let quay = Quay::new(
        r#"
[need.vector]
language = "c++"
header = "vector"
type = "std::vector<int>"
[need.no-vector]
language = "c++"
header = "vector"
type = "std::surely_nothing<int>"
[need.standard]
standard = "c++17"
[need.no-standard]
standard = "c++99"
[need.wide]
language = "c++"
header = "cstdint"
size = { of = "std::int64_t", value = "= 8" }
alignment = { of = "char", value = "= 1" }
[need.not-c]
header = "vector"
[need.only-cxx]
flag = "-fno-rtti"
"#,
    );
    for (name, want) in [
        ("vector", "found"),
        ("no-vector", "unusable"),
        ("standard", "found"),
        ("no-standard", "missing"),
        ("wide", "found"),
        ("not-c", "missing"),
        ("only-cxx", "missing"),
    ] {
        assert_eq!(quay.state(name).0, want, "{name}: {:?}", quay.state(name));
    }
}

#[test]
fn the_kernel_s_headers_and_the_byte_order_are_judged() {
    let needs = "[need.new]\nkernel-headers = \">= 99\"\n[need.old]\nkernel-headers = \">= 2.6\"\n[need.big]\nbyte-order = \"big\"\n[need.little]\nbyte-order = \"little\"\n";
    let quay = Quay::new(needs);
    let (state, detail) = quay.state("new");
    assert_eq!((state.as_str(), detail.contains("wanted >= 99")), ("wrong-version", true), "{detail}");
    assert_eq!(quay.state("old").0, "found");
    let orders = [quay.state("big").0, quay.state("little").0];
    assert!(orders.contains(&"found".to_string()) && orders.contains(&"unusable".to_string()), "{orders:?}");
    let told = quay.run("survey").code(0);
    assert!(!told.out.contains("need:new=/FOLDER") && !told.out.contains("No package is known"), "{}", told.out);
}
