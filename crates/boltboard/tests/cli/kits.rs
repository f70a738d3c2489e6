//! Add-ons that are built against an installed tree, by its kit, where the tree's sources are not.

use std::path::Path;
use std::process::Command;

use crate::harness::{Ran, Scratch, copy};

/// A harbour, an add-on beside it, and a prefix.
struct Place {
    scratch: Scratch,
}

impl Place {
    /// Has the harbour built with these choices and installed, and takes its sources away.
    fn with(choices: &str) -> Place {
        let scratch = Scratch::new();
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/cli/kits"), scratch.path());
        let place = Place { scratch };
        let prefix = place.scratch.at("opt");
        place.run("harbour", &format!("set prefix={} depth=15 {choices}", prefix.display())).code(0);
        place
    }

    fn run(&self, folder: &str, words: &str) -> Ran {
        self.scratch.ran(self.scratch.command(words).current_dir(self.scratch.at(folder)))
    }

    fn install_harbour(&self) {
        self.run("harbour", "build").code(0);
        self.run("harbour", "install").code(0);
    }

    /// Builds the add-on against a kit, or an installed tree.
    fn build_tide(&self, against: &str) {
        self.run("tide", &format!("add-on add . --against {against}")).code(0);
        self.run("tide", "build").code(0);
    }

    fn without_sources(self) -> Place {
        std::fs::remove_dir_all(self.scratch.at("harbour")).expect("removed");
        self
    }
}

fn installed(choices: &str) -> Place {
    let place = Place::with(choices);
    place.install_harbour();
    place
}

const KIT: &str = "opt/lib/harbour/kit";

#[test]
fn an_add_on_is_built_tested_and_installed_without_the_sources_of_its_tree() {
    let place = installed("radio=on optimise=none").without_sources();
    place.run("tide", "add-on add . --against ../opt").code(0).says(&["Added: tide 1.0", "is on"]);
    place.run("tide", "overview").code(0).says(&["kit", "of harbour as it was built", "add-ons", "tide 1.0"]);
    // The sources of the tree are nowhere, so only the add-on's two are compiled.
    place.run("tide", "preview").code(0).says(&["compile", "tide/src/tide.c"]);
    place.run("tide", "build").code(0);
    place.run("tide", "build").code(0).says(&["Nothing to do"]);
    place.run("tide/src", "test").code(0).says(&["passed    loaded", "2 tests passed, 0 failed"]);
    // It is told apart from the tree, whose own record and files stay as they are.
    place.run("tide", "install").code(0).says(&["Installed: 1 file written"]);
    let daemon = Command::new(place.scratch.at("opt/bin/harbourd"))
        .args([place.scratch.at("opt/lib/harbour/tide.so").as_os_str(), "h_tide".as_ref()])
        .output()
        .expect("it runs");
    assert_eq!(String::from_utf8_lossy(&daemon.stdout), "depth 22\nlog: Safe \"in\" here at 15\ntide 40\n");
    place
        .run("tide", "inspect ../opt/lib/harbour/tide.so")
        .code(0)
        .says(&["module tide of harbour 2.4", "add-ons: tide 1.0"]);
    place.run("tide", "install --check").code(0);
    place.run("tide", "lint").code(0).says(&["No findings"]);
    place.run("tide", "uninstall").code(0);
    assert!(!place.scratch.at("opt/lib/harbour/tide.so").exists());
    assert!(place.scratch.at("opt/bin/harbourd").is_file());
    assert!(place.scratch.at(KIT).is_dir());
}

#[test]
fn what_the_tree_was_built_with_stands_and_what_is_open_is_chosen_anew() {
    let place = installed("radio=on").without_sources();
    place.run("tide", "add-on add . --against ../opt").code(0);
    let told = place.run("tide", "set depth=5").code(2);
    told.complains(&["depth is as the tree was built", "build the tree itself with another value"]);
    place.run("tide", "why depth").code(0).says(&["depth is 15", "as the tree was built", "boltboard-kit.toml"]);
    place.run("tide", "why label").code(0).says(&["Safe \"in\" here at 15"]);
    place.run("tide", "show depth").code(0).says(&["no choice"]);
    place.run("tide", "set optimise=none tide-range=6").code(0);
    place.run("tide", "profile flatten").code(0).says(&["based on no other profile"]);
    // What is there already takes nothing in.
    let told = place.run("tide", "set tide-module=builtin").code(3);
    told.complains(&["tide-module requires not tide-module = builtin", "boltboard-kit.toml"]);
    place
        .scratch
        .write("tide/boltboard-work/profiles/other.toml", "format = 1\ntree = \"harbour\"\n[choose]\ndepth = 5\n");
    place
        .run("tide", "--profile other overview")
        .code(3)
        .complains(&["depth is as the tree was built", "other.toml:4"]);
}

#[test]
fn an_add_on_that_does_not_fit_is_refused_and_nothing_is_kept() {
    let place = installed("radio=off").without_sources();
    let told = place.run("tide", "add-on add . --against ../opt").code(1);
    told.complains(&[
        "tide does not fit this harbour 2.4, as it was built",
        "tide requires radio",
        "Nothing was changed",
    ]);
    place.run("tide", "add-on list").code(0).says(&["Nothing from outside"]);
    place.scratch.edit("tide/boltboard.toml", ">= 2.4, < 3", ">= 3");
    let told = place.run("tide", "add-on add . --against ../opt").code(3);
    told.complains(&["the add-on `tide` is for harbour >= 3, and this is harbour 2.4"]);
    let told = place.run("tide", "add-on add . --against ../tide").code(1);
    told.complains(&["there is no kit of harbour in", "name the prefix"]);
}

#[test]
fn an_interface_that_changed_is_told_by_the_tree_and_refuses_the_add_on() {
    let place = installed("radio=on");
    copy(&place.scratch.at(KIT), &place.scratch.at("kept-kit"));
    place.build_tide("../kept-kit");
    place.run("tide", "install").code(0);
    // What is not of the interface may change.
    place.run("harbour", "set depth=20").code(0);
    place.install_harbour();
    place.run("tide", "install").code(0);
    place.run("harbour", "set wide-positions=on").code(0);
    let why = "tide 1.0 was built against version 2.4, and wide-positions was off and is on";
    let next = "run boltboard install in its folder once this is installed";
    place.run("harbour", "install --preview").code(0).says(&[why, next]);
    place.run("harbour", "install").code(0).says(&[why, next]);
    place.run("harbour", "install --check").code(1).says(&[why]);
    let json = place.run("harbour", "install --check --json").code(1).json();
    let misfit = json["unready"].as_array().and_then(|all| all.iter().find(|one| one["what"] == "misfit")).cloned();
    assert_eq!(misfit.expect("told")["add-on"], "tide 1.0");
    let told = place.run("tide", "install").code(1);
    told.complains(&[
        "harbour+tide was built against another harbour",
        "wide-positions was off and is on",
        "--against",
    ]);
    // Against the one that is installed it is built anew, and fits.
    place.run("tide", "add-on remove tide").code(0);
    std::fs::remove_dir_all(place.scratch.at("tide/boltboard-work")).expect("removed");
    place.build_tide("../opt");
    place.run("tide", "test").code(0);
    place.run("tide", "install").code(0);
    assert!(!place.run("harbour", "install --check").out.contains("does not fit"));
    // The next time an installation is all that it takes, as is told.
    place.run("harbour", "set wide-positions=off").code(0);
    place.run("harbour", "install").code(0).says(&["wide-positions was on and is off", next]);
    place.run("tide", "install").code(0);
    assert!(!place.run("harbour", "install --check").out.contains("does not fit"));
}

#[test]
fn a_kit_that_changes_has_built_anew_what_stands_on_it() {
    let place = installed("radio=on");
    place.build_tide("../opt");
    place.run("harbour", "set depth=30").code(0);
    place.install_harbour();
    // The label and the library are others now.
    place.run("tide", "build").code(0);
    place.run("tide", "test").code(0);
    place.run("tide", "why depth").code(0).says(&["depth is 30"]);
    let prefix = place.scratch.at("opt");
    let made =
        std::fs::read(place.scratch.at("tide/boltboard-work/builds/mine/out/lib/harbour/tide.so")).expect("built");
    assert!(String::from_utf8_lossy(&made).contains("here at 30"), "below {}", prefix.display());
    // A header of the tree, likewise.
    place.scratch.edit(
        "harbour/include/harbour/module.h",
        "int (*tick)(int minute);\n",
        "int (*tick)(int minute);\n    long spare;\n",
    );
    place.install_harbour();
    place.run("tide", "build").code(0);
    place.run("tide", "test").code(0).says(&["passed    loaded", "1 unchanged"]);
}

#[test]
fn a_kit_that_is_damaged_or_lacks_a_part_is_told() {
    let place = installed("radio=on").without_sources();
    place.scratch.edit("tide/boltboard.toml", "uses = [\"harbour\", \"buoy\"]", "uses = [\"fog-bell\"]");
    place.run("tide", "add-on add . --against ../opt").code(0);
    let told = place.run("tide", "build").code(3);
    told.complains(&["part `t-tide` uses `fog-bell`, which is not in the kit", "tide/boltboard.toml"]);
    let kit = format!("{KIT}/boltboard-kit.toml");
    let whole = place.scratch.read(&kit);
    for (old, new, why) in [
        ("depth = \"15\"", "depth = \"150\"", "`depth`"),
        ("built/lib/libbuoy.a", "../../libbuoy.a", "leaves the tree"),
        ("version = \"2.4\"", "version = \"2.5\"", "this kit is one of harbour 2.5"),
        ("format = 1", "format = 2", "format"),
        ("[values]", "[values", "boltboard-kit.toml:9"),
    ] {
        assert!(whole.contains(old), "{old}");
        place.scratch.write(&kit, &whole.replacen(old, new, 1));
        place.run("tide", "overview").code(3).complains(&[why]);
    }
}

#[test]
fn packages_of_an_add_on_need_the_package_of_its_tree() {
    let place = installed("radio=on").without_sources();
    place.run("tide", "add-on add . --against ../opt").code(0);
    place.run("tide", "package --preview").code(0).says(&["tide.so"]);
    place.run("tide", "package --as deb").code(0);
    let folder = place.scratch.at("tide/boltboard-work/packages");
    let names: Vec<String> = std::fs::read_dir(folder)
        .expect("packages")
        .filter_map(|entry| entry.ok()?.file_name().into_string().ok())
        .filter(|name| name.ends_with(".deb"))
        .collect();
    assert!(names.len() == 1 && names[0].starts_with("harbour-tide_1.0_"), "{names:?}");
}

const PUMP: &str = r#"format = 1
[tree]
name = "pump"
version = "1"
sources = "../src"
[option.prefix]
kind = "path"
default = "/usr/local"
summary = "Where it goes"
macro = []
[option.shiny]
kind = "switch"
summary = "Shine"
macro = []
[part.pumpd]
kind = "program"
sources = ["main.c"]
exports = "names.txt"
link-flags = ["-rdynamic"]
install = "${prefix}/bin"
[part.shine]
kind = "static-library"
sources = ["shine.c"]
when = "shiny"
public-include = ["."]
[part.polish]
kind = "objects"
sources = ["polish.c"]
[kit.pump]
parts = ["pumpd", { when = "shiny", add = ["shine"] }]
headers = ["*.h"]
"#;

const VALVE: &str = r#"format = 1
[add-on]
name = "valve"
version = "3"
tree = "pump"
[option.valve-module]
kind = "module"
default = "loadable"
summary = "A valve"
[part.valve-module]
kind = "module"
option = "valve-module"
program = "pumpd"
symbol = "valve"
sources = ["valve.c"]
install = "${prefix}/lib/pump"
"#;

fn pump() -> Place {
    let scratch = Scratch::with(&[
        ("described/boltboard.toml", PUMP),
        (
            "src/main.c",
            "int pump_flow(void) { return 4; }\nint pump_secret(void) { return 5; }\nint main(void) { return 0; }\n",
        ),
        ("src/names.txt", "pump_flow\n"),
        ("src/pump.h", "int pump_flow(void);\nint pump_secret(void);\nint shine(void);\n"),
        ("src/shine.c", "int shine(void) { return 6; }\n"),
        ("src/polish.c", "int polish(void) { return 7; }\n"),
        ("valve/boltboard.toml", VALVE),
        ("valve/valve.c", "int pump_flow(void);\nint valve(void) { return pump_flow(); }\n"),
    ]);
    Place { scratch }
}

#[test]
fn a_kit_holds_what_modules_may_use_also_of_a_tree_that_is_described_elsewhere() {
    let place = pump();
    place.run("described", &format!("set prefix={}", place.scratch.at("opt").display())).code(0);
    place.run("described", "build").code(0);
    place.run("described", "install").code(0);
    for gone in ["described", "src"] {
        std::fs::remove_dir_all(place.scratch.at(gone)).expect("removed");
    }
    place.run("valve", "add-on add . --against ../opt").code(0);
    place.run("valve", "build").code(0);
    place.scratch.edit("valve/valve.c", "return pump_flow", "int pump_secret(void); return pump_secret() + pump_flow");
    place.run("valve", "build").code(1).complains(&["pump_secret", "does not let modules use it"]);
    // What was not made when the tree was built is not there.
    place.scratch.edit("valve/valve.c", "int pump_secret(void); return pump_secret() + ", "return ");
    place.scratch.edit(
        "valve/boltboard.toml",
        "sources = [\"valve.c\"]",
        "sources = [\"valve.c\"]\nuses = [\"shine\"]",
    );
    place.run("valve", "build").code(3).complains(&["part `valve-module` uses `shine`, which is not in the kit"]);
}

#[test]
fn what_a_kit_takes_in_is_told_where_it_cannot_be() {
    for (old, new, why) in [
        ("[\"pumpd\",", "[\"polish\",", "`polish` is no library and no program"),
        ("headers = [\"*.h\"]", "headers = [\"*.hh\"]", "*.hh"),
        ("headers = [\"*.h\"]", "open = [\"shiny\"]\ninterface = [\"shiny\"]", "`shiny` cannot be both"),
        ("headers = [\"*.h\"]", "interface = [\"shine\"]", "there is no option `shine`"),
        ("headers = [\"*.h\"]", "header = [\"*.h\"]", "no key `header`"),
    ] {
        let place = pump();
        place.scratch.edit("described/boltboard.toml", old, new);
        let told = place.run("described", "build");
        assert!(told.err.contains(why), "{why}: {}", told.err);
    }
    // An add-on has no kit of its own.
    let place = pump();
    place.scratch.edit("valve/boltboard.toml", "[option.valve", "[kit.valve]\nparts = [\"pumpd\"]\n[option.valve");
    place.run("described", "add-on add ../valve").code(3).complains(&["a kit is one of the tree"]);
}
