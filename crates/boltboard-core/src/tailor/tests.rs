use super::*;
use crate::logic::encode;
use crate::resolve::resolve;
use crate::testing::{TestTree, choices, facts};

const BOARD: &str = r#"
[option.radio]
kind = "switch"
[option.wind]
kind = "module"
default = "loadable"
serves = ["usb:vF00Dp0011*", "usb:vF00Dp00[45]1*"]
[option.wave]
kind = "module"
default = "loadable"
serves = "i2c:buoy"
requires = "radio"
[option.log]
kind = "switch"
default = "on"
shown-by = ["logd", "/etc/logd.conf"]
[option.bell]
kind = "module"
default = "loadable"
[option.horn]
kind = "module"
default = "builtin"
[option.base]
kind = "switch"
default = "on"
shown-by = "based"
[option.top]
kind = "switch"
default = "on"
shown-by = "topd"
requires = "base"
[option.depth]
kind = "number"
default = 4
[part.prog]
kind = "program"
sources = ["a.c"]
[part.bell-strike]
kind = "module"
option = "bell"
program = "prog"
symbol = "s"
sources = ["b.c"]
[part.horn]
kind = "module"
option = "horn"
program = "prog"
symbol = "s"
sources = ["b.c"]
"#;

fn machine(name: &str, devices: &[&str], modules: &[&str], mapped: &[&str], files: &[&str]) -> Evidence {
    let root = tempfile::tempdir().expect("a folder");
    let write = |path: String, text: String| {
        let path = root.path().join(path);
        std::fs::create_dir_all(path.parent().expect("a parent")).expect("made");
        std::fs::write(path, text).expect("written");
    };
    write("proc/sys/kernel/hostname".into(), format!("{name}\n"));
    for (at, device) in devices.iter().enumerate() {
        write(format!("sys/devices/bus{at}/deep/modalias"), format!("{device}\n"));
    }
    write("proc/modules".into(), modules.iter().map(|module| format!("{module} 4096 0 - Live 0x0\n")).collect());
    write("proc/7/maps".into(), mapped.iter().map(|name| format!("1-2 r-xp 0 08:01 5 /usr/lib/{name}\n")).collect());
    files.iter().for_each(|file| write(file.trim_start_matches('/').into(), String::new()));
    let asked = ["/etc/logd.conf".to_string()].into();
    let evidence = Evidence::of_machine(root.path(), &asked);
    let saved = root.path().join("saved.toml");
    evidence.save(&saved).expect("saved");
    assert_eq!(Evidence::load(&saved).expect("read"), evidence, "it is the same elsewhere");
    evidence
}

/// What comes of it: kept with values, left out, required, impossible.
fn tailored(chosen: &str, evidence: &[Evidence], keep: &[&str]) -> [String; 4] {
    let board = TestTree::new(BOARD, &[("a.c", ""), ("b.c", "")]).board();
    let (logic, none) = (encode(&board), facts(&[]));
    let below = choices(&board, chosen);
    let now = resolve(&board, &logic, &below, &none).expect("it resolves");
    let keep = keep.iter().map(|name| board.option(name).expect("there")).collect();
    let tailored = tailor(&board, &logic, &below, (&none, &now), evidence, &keep).expect("the rest holds");
    let name = |option: &OptionId| board.options[*option].name.clone();
    let kept =
        tailored.kept.iter().map(|kept| format!("{}={} by {}", name(&kept.option), kept.value, kept.signs.len()));
    let names = |options: &[OptionId]| options.iter().map(name).collect::<Vec<_>>().join(" ");
    [
        kept.collect::<Vec<_>>().join(" "),
        names(&tailored.left_out),
        names(&tailored.required),
        names(&tailored.impossible),
    ]
}

#[test]
fn what_is_shown_stays_and_what_nothing_shows_goes() {
    let nothing = machine("rock", &[], &[], &[], &[]);
    assert_eq!(
        tailored("", std::slice::from_ref(&nothing), &[]),
        ["", "wind log bell base top", "", ""],
        "built-in horn and depth are left alone"
    );
    let some = machine("rock", &["usb:vF00Dp0041d01", "pci:v1"], &["bell_strike"], &["logd"], &[]);
    let [kept, left_out, ..] = tailored("", std::slice::from_ref(&some), &[]);
    assert_eq!((kept.as_str(), left_out.as_str()), ("wind=loadable by 1 log=on by 1 bell=loadable by 1", "base top"));
    let buoy = machine("isle", &["i2c:buoy"], &[], &["bell-strike.so"], &["/etc/logd.conf"]);
    let [kept, ..] = tailored("", &[some, buoy], &["top"]);
    assert_eq!(kept, "wind=loadable by 1 wave=loadable by 1 log=on by 2 bell=loadable by 2 top=on by 1");
    assert_eq!(tailored("", std::slice::from_ref(&nothing), &["depth"])[0], "depth=4 by 1", "a number keeps its value");
    let [_, _, required, _] = tailored("", &[nothing], &["top"]);
    assert_eq!(required, "base", "what stays requires it");
}

#[test]
fn what_was_chosen_besides_stays_and_what_cannot_be_is_told() {
    let buoy = machine("isle", &["i2c:buoy"], &[], &[], &[]);
    let [kept, left_out, _, impossible] = tailored("radio=off depth=9", &[buoy], &[]);
    assert_eq!((kept.as_str(), impossible.as_str()), ("", "wave"), "{left_out}");
    let horn = machine("isle", &[], &[], &["horn.so"], &[]);
    assert!(tailored("horn=builtin", &[horn], &[])[0].contains("horn=builtin by 1"), "it stays as it is");
}

#[test]
fn odd_machines_and_files_are_read_without_harm() {
    let odd = machine("r\u{1b}[31mock", &[&"x".repeat(5000), ""], &[""], &["gone.so (deleted)"], &[]);
    assert!(odd.devices.is_empty() && odd.mapped.contains("gone.so"), "{odd:?}");
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("e.toml");
    for (text, want) in [
        ("format = 2\nmachine = \"\"\n", "format 2"),
        ("format = 1\nmachine = \"\"\nextra = 1\n", "extra"),
        ("[", "holds no evidence"),
    ] {
        std::fs::write(&file, text).expect("written");
        let fault = Evidence::load(&file).expect_err(text).to_string();
        assert!(fault.contains(want), "{fault}");
    }
    assert!(Evidence::load(&folder.path().join("none")).expect_err("absent").to_string().contains("not there"));
    assert!(Evidence::of_process(folder.path(), 1).is_err());
    for (text, want) in [("serves = \"a[\"", "is no pattern"), ("shown-by = \"a/b\"", "an absolute path, is wanted")] {
        let tree = TestTree::new(&format!("[option.x]\nkind = \"switch\"\n{text}\n"), &[]);
        let problems: Vec<String> = tree.reading().problems.iter().map(|problem| problem.fault.to_string()).collect();
        assert!(problems.iter().any(|problem| problem.contains(want)), "{problems:?}");
    }
}
