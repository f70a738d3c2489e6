//! What the main views print, whole. `BOLTBOARD_WRITE_VIEWS=1` writes the files anew, to be read before they are kept.

use std::path::Path;

use crate::harness::Scratch;

/// Where the texts lie.
const FOLDER: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/cli/views");

/// A host of which everything is known, so that views are the same on every machine.
const HOST: &str = r#"format = 1
tree = "skerry"
[host]
distribution = "Reef Linux 3"
compiler = "gcc 12.2.0"
target = "x86_64-linux-gnu"
[need.dlopen]
state = "found"
place = "/usr/include/dlfcn.h"
link-flags = ["-ldl"]
[need.maths]
state = "found"
place = "/usr/include/math.h"
link-flags = ["-lm"]
[need.squeeze]
state = "bundled"
[need.gps]
state = "wrong-version"
version = "3.17"
[need.alsa]
state = "missing"
[need.fortran]
state = "missing"
"#;

/// What is asked, in this order and one after the other: the name of its file, and the words.
const VIEWS: [(&str, &str); 24] = [
    ("overview", ""),
    ("options", "options"),
    ("options-section", "options --section fog"),
    ("options-blocked", "options --blocked"),
    ("options-find", "options --find lmap"),
    ("options-changed-nothing", "options --changed"),
    ("show-switch", "show crc"),
    ("show-module", "show fog-horn"),
    ("show-pick", "show lamp-drive"),
    ("show-blocked", "show clock-gps"),
    ("why", "why report"),
    ("why-value", "why crc=off"),
    ("ways", "ways lamp-drive=arc"),
    ("preview-try", "preview --try fog-horn=builtin"),
    ("set-refused", "set crc=off link-satellite=loadable"),
    ("set-unknown-value", "set lamp-drive=gas"),
    ("set-unknown-option", "set lamp-drvie=arc"),
    ("set", "set lamp-drive=arc units=metric"),
    ("options-changed", "options --changed"),
    ("profile-list", "profile list"),
    ("profile-show", "profile show mine"),
    ("compare", "compare small-station mine"),
    ("lint", "lint"),
    ("unset", "unset lamp-drive"),
];

#[test]
fn the_main_views_are_what_people_have_read() {
    let tree = Scratch::skerry();
    tree.write("host.toml", HOST);
    let mut wrong = Vec::new();
    for (name, words) in VIEWS {
        let changes = ["set ", "unset "].iter().any(|verb| words.starts_with(verb));
        let asked = if changes || words.starts_with("profile list") {
            words.to_string()
        } else {
            format!("{words} --facts host.toml")
        };
        let ran = tree.run(&asked);
        let shown = format!("$ boltboard {words}\n{}{}[{}]\n", ran.out, ran.err, ran.code);
        let file = Path::new(FOLDER).join(format!("{name}.txt"));
        if std::env::var_os("BOLTBOARD_WRITE_VIEWS").is_some() {
            std::fs::write(&file, &shown).expect("written");
        }
        let kept = std::fs::read_to_string(&file).unwrap_or_default();
        if kept != shown {
            wrong.push(format!("--- {} is\n{kept}--- and now\n{shown}", file.display()));
        }
    }
    assert!(wrong.is_empty(), "{}\nBOLTBOARD_WRITE_VIEWS=1 writes them anew", wrong.join("\n"));
}
