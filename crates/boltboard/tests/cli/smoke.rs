//! Short runs of what is installed: what they must say, and what is told of those that do not.

use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "light"
version = "4.2"
[option.prefix]
kind = "path"
default = "/usr/local"
macro = []
[option.beam]
kind = "switch"
macro = "BEAM"
[header.options]
output = "options.h"
[part.lightd]
kind = "program"
sources = ["lightd.c"]
uses = ["light"]
install = "${prefix}/bin"
[part.light]
kind = "shared-library"
sources = ["light.c"]
install = "${prefix}/lib"
[smoke.version]
summary = "it tells its version"
program = "lightd"
arguments = ["version"]
says = ["light ${tree:version}\n", { when = "beam", add = ["beam yes"] }]
silent-on = ["broken", { when = "not beam", add = ["beam yes"] }]
[smoke.never]
program = "lightd"
when = "beam"
arguments = ["code", "7"]
success = [7]
"#;

const LIGHTD: &str = r#"#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
int light(void);
int main(int count, char **words)
{
    char at[4096];
    if (count < 2)
        return 2;
    if (!strcmp(words[1], "code"))
        return atoi(words[2]);
    if (!strcmp(words[1], "sleep"))
        sleep(30);
    printf("light 4.2\n");
    if (light())
        printf("beam yes\n");
    printf("home %s\nplace %s\nother %s\n", getenv("HOME"), getcwd(at, sizeof at), getenv("LIGHT_OTHER"));
    return 0;
}
"#;

fn installed() -> Scratch {
    let tree = Scratch::with(&[
        ("boltboard.toml", BOARD),
        ("lightd.c", LIGHTD),
        (
            "light.c",
            "#include \"options.h\"\nint light(void)\n{\n#ifdef BEAM\n    return 1;\n#else\n    return 0;\n#endif\n}\n",
        ),
    ]);
    tree.run(&format!("set prefix={}", tree.at("inst").display())).code(0);
    tree.run("install").code(0);
    tree
}

#[test]
fn what_is_installed_is_run_and_held_against_what_was_chosen() {
    let tree = installed();
    // Its folder is not in the search path, which is told as well.
    tree.run("install --check").code(1).says(&["works: version (it tells its version)"]);
    // Chosen, and not installed yet: the program does not say it.
    tree.run("set beam=on").code(0);
    let told = tree.run("install --check").code(1);
    let told = told.says(&[
        "fails: version (it tells its version): it does not say `beam yes`",
        "  light 4.2",
        "works: never",
    ]);
    told.says(&["→ TREE/inst/bin/lightd version   run it by hand"]);
    tree.run("install").code(0);
    tree.run("install --check").code(1).says(&["works: version", "works: never"]);
    tree.run("set beam=off").code(0);
    tree.run("install --check").code(1).says(&["fails: version (it tells its version): it says `beam yes`"]);
}

#[test]
fn runs_are_in_a_clean_environment_and_end() {
    let tree = installed();
    tree.edit("boltboard.toml", "arguments = [\"version\"]", "arguments = [\"sleep\"]\nlimit-seconds = 1");
    tree.run("install --check").code(1).says(&["fails: version (it tells its version): it did not end within 1 s"]);
    tree.edit("boltboard.toml", "arguments = [\"sleep\"]", "arguments = [\"code\", \"3\"]");
    tree.run("install --check").code(1).says(&["it ended with 3"]);
    tree.edit("boltboard.toml", "arguments = [\"code\", \"3\"]", "arguments = [\"version\"]");
    tree.edit("boltboard.toml", "says = [", "says = [\"other (null)\", \"home /\", ");
    tree.edit("boltboard.toml", "silent-on = [", &format!("silent-on = [\"place {}\", ", tree.path().display()));
    std::fs::remove_file(tree.at("inst/bin/lightd")).expect("removed");
    tree.run("install --check").code(1).says(&["fails: version", "TREE/inst/bin/lightd is not there"]);
    tree.run("install").code(0);
    let told = tree.run("install --check --json").code(1).json();
    let fields: Vec<&String> = told["smoke"][0].as_object().expect("an object").keys().collect();
    assert_eq!(fields, ["command", "name", "said", "why", "works"]);
    assert_eq!((told["smoke"][0]["name"].clone(), told["smoke"][0]["works"].clone()), ("version".into(), true.into()));
}

#[test]
fn what_was_unpacked_is_run_where_it_lies_with_its_own_libraries() {
    let tree = installed();
    tree.run("install --staging root").code(0);
    tree.run("uninstall").code(0);
    tree.run("install --check").code(1).complains(&["light is not installed"]);
    let ran = tree.run("install --check --staging root").code(0);
    assert_eq!(ran.out, "works: version (it tells its version)\n");
    tree.edit("boltboard.toml", "install = \"${prefix}/bin\"\n", "");
    tree.run("install --check").code(3).complains(&["it must be an installed program"]);
}
