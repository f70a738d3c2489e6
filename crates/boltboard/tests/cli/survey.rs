//! The survey through the program: gaps and the ways out of them, providers, other hosts, changes of this one, bad hosts.

use std::process::Command;

use super::harness::{MINI, Ran, Scratch};

const TREE: &str = r#"
format = 1
[tree]
name = "buoys"
version = "1"
[toolchain]
c-compiler = "${compiler}"
[option.compiler]
kind = "text"
default = "cc"
[option.light]
kind = "switch"
needs = "lamp"
[option.bell]
kind = "switch"
default = "on"
needs = "chime"
[option.paint]
kind = "pick"
values = ["plain", { name = "shiny", needs = "varnish" }]
[need.lamp]
summary = "lighting the buoy"
library = "surely-lamp"
version = ">= 2"
packages = { debian = "liblamp-dev", fedora = "lamp-devel" }
[need.chime]
library = "surely-chime"
header = "chime.h"
link = "chime"
bundled = "chime"
packages = { debian = "libchime-dev" }
[need.varnish]
header = "zlib-of-nowhere.h"
[part.chime]
kind = "static-library"
sources = ["chime/chime.c"]
public-include = ["chime"]
[part.buoy]
kind = "program"
sources = ["buoy.c"]
needs = [{ when = "bell", add = ["chime"] }]
"#;

/// A tree with a bundled library, and a made-up host below it that can have that library, too.
struct Harbour {
    tree: Scratch,
}

impl Harbour {
    fn new() -> Harbour {
        let tree = Scratch::with(&[
            ("boltboard.toml", TREE),
            (
                "buoy.c",
                "#include <stdio.h>\n#include <chime.h>\nint main(void) { printf(\"%s\\n\", chime()); return 0; }\n",
            ),
            ("chime/chime.c", "#include \"chime.h\"\nconst char *chime(void) { return \"bundled\"; }\n"),
            ("chime/chime.h", "const char *chime(void);\n"),
        ]);
        tree.write("etc/os-release", "PRETTY_NAME=\"Reef Linux 3\"\nID=reef\nID_LIKE=debian\n");
        Harbour { tree }
    }

    fn command(&self, words: &str) -> Command {
        let mut command = self.tree.command(words);
        let path = std::env::var("PATH").unwrap_or_default();
        command
            .env("PATH", format!("{}:{path}", self.tree.at("bin").display()))
            .env("BOLTBOARD_METADATA_PATH", self.tree.at("pc"))
            .env("BOLTBOARD_RELEASE_FILE", self.tree.at("etc/os-release"));
        command
    }

    fn run(&self, words: &str) -> Ran {
        self.tree.ran(&mut self.command(words))
    }

    /// Installs a real copy of the library below a folder.
    fn install(&self, folder: &str, version: &str, words: &str) {
        let at = self.tree.at(folder);
        self.tree.write(&format!("{folder}/include/chime.h"), "const char *chime(void);\n");
        self.tree.write(&format!("{folder}/chime.c"), &format!("const char *chime(void) {{ return \"{words}\"; }}\n"));
        std::fs::create_dir_all(at.join("lib")).expect("a folder");
        let status = Command::new("cc")
            .args(["-shared", "-fPIC", "-o"])
            .args([at.join("lib/libchime.so"), at.join("chime.c")])
            .status()
            .expect("the compiler runs");
        assert!(status.success());
        let flags = format!("Cflags: -I{0}/include\nLibs: -L{0}/lib -Wl,-rpath,{0}/lib -lchime\n", at.display());
        self.tree.write(&format!("{folder}/lib/pkgconfig/surely-chime.pc"), &format!("Version: {version}\n{flags}"));
    }

    /// Puts the copy of a folder where the host looks first.
    fn put_first(&self, folder: &str) {
        let text = std::fs::read_to_string(self.tree.at(&format!("{folder}/lib/pkgconfig/surely-chime.pc")));
        self.tree.write("pc/surely-chime.pc", &text.expect("installed before"));
    }

    fn says(&self) -> String {
        self.run("build -q").code(0);
        let program = self.tree.at("boltboard-work/builds/mine/out/bin/buoy");
        let program = if program.exists() { program } else { self.tree.at("boltboard-work/builds/mine/out/buoy") };
        let output = Command::new(program).output().expect("it runs");
        String::from_utf8_lossy(&output.stdout).trim().to_string()
    }
}

#[test]
fn gaps_are_told_by_stops_with_the_ways_out() {
    let here = Harbour::new();
    here.run("survey").code(0).says(&[
        "Reef Linux 3",
        "chime  bundled copy: chime",
        "Not met, and nothing needs it now (2 needs)",
        "lamp     missing · lighting the buoy",
        "apt install liblamp-dev",
        "no package is known for it",
    ]);
    here.run("set light=on")
        .code(4)
        .complains(&["light=on cannot hold while the need lamp is not met", "apt install liblamp-dev"]);
    here.run("survey --try light=on").code(4).says(&[
        "Stops what you chose (1 need)",
        "without it light=on, which you chose, cannot hold",
        "boltboard set light=off",
        "To install all that has a package (1 of 2 needs)",
        "To do without what stops you",
    ]);
    here.tree.write("pc/surely-lamp.pc", "Version: 1.1\n");
    let told = ["version 1.1 is there, wanted >= 2", "pc/surely-lamp.pc comes before what a package installs"];
    here.run("survey --try light=on").code(4).says(&told);
    let gap = here.run("survey --try paint=shiny --json").code(4).json();
    let gap = gap["gaps"].as_array().and_then(|gaps| gaps.iter().find(|g| g["need"] == "varnish")).cloned();
    let gap = gap.expect("the gap");
    assert_eq!((&gap["stops"], &gap["severity"]), (&"chosen".into(), &"error".into()));
    assert_eq!(gap["switch-off"], serde_json::json!(["paint=plain"]));
}

#[test]
fn another_provider_can_be_chosen_and_builds_with_it() {
    let here = Harbour::new();
    assert_eq!(here.says(), "bundled");
    here.install("one", "1.5", "one");
    here.install("two", "2.0", "two");
    here.put_first("one");
    assert_eq!(here.says(), "one");
    here.run("set need:chime=bundled").code(0);
    assert_eq!(here.says(), "bundled");
    let two = here.tree.at("two").display().to_string();
    here.run(&format!("set need:chime={two} --reason mine")).code(0);
    assert_eq!(here.says(), "two");
    here.run("survey chime").code(0).says(&[
        "found, version 2.0",
        "(\"mine",
        "in use: the folder that you chose",
        "version 1.5",
    ]);
    here.run("profile show").code(0).says(&["need:chime", "two"]);
    here.run("set need:chime=off").code(0);
    here.run("survey").code(0).says(&[
        "switched off by you; version 1.5 is there",
        "bell is off instead of on",
        "boltboard unset need:chime",
    ]);
    here.run("unset need:chime").code(0);
    assert_eq!(here.says(), "one");
    here.run("set need:chime=brass").code(2).complains(&[
        "`chime` cannot be met by `brass`; it can be met by system, bundled, off, a folder such as /opt/x",
    ]);
    here.run("set need:chyme=off").code(2).complains(&["there is no need `chyme`", "did you mean `chime`?"]);
    here.run("unset need:chime").code(2).complains(&["`need:chime` is not chosen in the profile mine"]);
    here.tree.edit("boltboard-work/profiles/mine.toml", "[choose]", "[providers]\nchime = \"brass\"\n[choose]");
    here.run("options").code(3).complains(&["mine.toml:6:9", "`chime` cannot be met by `brass`"]);
}

#[test]
fn a_change_of_the_host_is_named_before_anything_uses_it() {
    let here = Harbour::new();
    here.install("one", "1.5", "one");
    here.put_first("one");
    assert_eq!(here.says(), "one");
    assert_eq!(here.run("options").code(0).err, "");
    here.install("one", "1.6", "newer");
    here.put_first("one");
    let told = [
        "the host has changed since mine was last built",
        "chime: version 1.5 at TREE/pc/surely-chime.pc → version 1.6",
    ];
    here.run("options").code(0).complains(&told);
    here.run("preview").code(0).complains(&told);
    here.run("build").code(0).complains(&told);
    assert_eq!(here.run("options").code(0).err, "", "a build takes the host as it is");
    std::fs::remove_file(here.tree.at("pc/surely-chime.pc")).expect("removed");
    here.run("why bell").code(0).complains(&["chime: version 1.6 at TREE/pc/surely-chime.pc → the bundled copy"]);
    // What the person asked for is no news.
    here.run("survey").code(0);
    assert_eq!(here.run("set need:chime=system").err, "");
    // The facts travel with the profile, and tell on another machine.
    let there = Harbour::new();
    there.run("set bell=on").code(0);
    let kept = std::fs::read(here.tree.at("boltboard-work/profiles/mine.host.toml")).expect("kept beside the profile");
    std::fs::write(there.tree.at("boltboard-work/profiles/mine.host.toml"), kept).expect("moved");
    there.install("one", "3.0", "three");
    there.put_first("one");
    there.run("preview").code(0).complains(&["chime: the bundled copy → version 3.0"]);
    there.run("profile list").code(0).says(&["mine"]);
}

#[test]
fn facts_can_be_assumed_saved_loaded_and_compared() {
    let here = Harbour::new();
    here.run("survey --assume lamp=2.5").code(0).says(&["lamp   found, version 2.5 (assumed)"]);
    here.run("survey --assume lamp=1.5").code(0).says(&["does not fit: version 1.5 is there, wanted >= 2 (assumed)"]);
    here.run("options --try light=on --assume lamp").code(0).says(&["light     on"]);
    here.run("set light=on --assume lamp").code(2).complains(&["--assume only answers questions"]);
    here.run("build --assume lamp").code(2).complains(&["--assume only answers questions"]);
    here.run("survey --forbid chime").code(0).says(&["bell is off instead of on"]);
    here.run("survey --assume lump").code(2).complains(&["there is no need `lump`"]);
    here.run("survey --save here.toml --forbid chime").code(2).complains(&["--forbid only answers questions"]);
    here.run("survey --save here.toml").code(0).complains(&["Saved the facts to here.toml."]);
    here.run("survey --against here.toml").code(0).says(&["just as here.toml does"]);
    here.install("one", "1.5", "one");
    here.put_first("one");
    here.run("survey --against here.toml").code(1).says(&[
        "1 difference from here.toml",
        "chime  the bundled copy",
        "version 1.5",
    ]);
    here.run("survey --facts here.toml").code(0).says(&["a saved host", "chime  bundled copy"]);
    here.run("survey --facts none.toml").code(2).complains(&["there is no file none.toml"]);
    here.tree.edit("here.toml", "tree = \"buoys\"", "tree = \"others\"");
    here.run("survey --against here.toml")
        .code(3)
        .complains(&["here.toml holds facts for the tree `others`, not for `buoys`"]);
    here.tree.write("here.toml", "format = 1\ntree = [\n");
    here.run("survey --facts here.toml").code(3).complains(&["here.toml:"]);
}

#[test]
fn prices_come_from_the_package_manager() {
    let here = Harbour::new();
    here.tree.script(
        "bin/apt-get",
        "case \"$*\" in *--simulate*liblamp-dev) echo 'Inst liblamp1 (1)'; echo 'Inst liblamp-dev (1)';; esac",
    );
    here.tree.script("bin/apt-cache", "printf 'Package: liblamp1\\nSize: 1000\\nInstalled-Size: 4\\n\\nPackage: liblamp-dev\\nSize: 24\\nInstalled-Size: 1\\n'");
    here.run("survey --cost --try light=on")
        .code(4)
        .says(&["2 packages, 1.0 KiB to download, 5.0 KiB on disk", "installs also: liblamp1"]);
    here.run("survey lamp --cost").says(&["liblamp1 liblamp-dev"]);
    here.tree.script("bin/apt-get", "echo 'E: Unable to locate package liblamp-dev' >&2; exit 100");
    here.run("survey --cost").code(0).says(&["the cost is not known", "Unable to locate package liblamp-dev"]);
    here.tree.write("etc/os-release", "ID=reef\nNAME=Reef\n");
    here.run("survey --cost")
        .code(0)
        .says(&["This distribution is not known", "liblamp-dev (debian), lamp-devel (fedora)"]);
    std::fs::remove_file(here.tree.at("etc/os-release")).expect("removed");
    here.run("survey").code(0).says(&["an unknown distribution"]);
    here.tree.write("etc/os-release", "ID=fedora\n");
    here.run("survey --cost").code(0).says(&["dnf install lamp-devel", "there is no `dnf` in the search path"]);
}

#[test]
fn a_compiler_that_runs_another_one_says_what_it_adds() {
    let here = Harbour::new();
    let wrapper = |library: &str| {
        let words =
            format!("[ \"$1\" = -show ] && {{ echo 'cc -I/opt/swell/include {library}'; exit 0; }}; exec cc \"$@\"");
        here.tree.script("bin/mpicc", &words);
    };
    wrapper("-lswell");
    here.run("set compiler=mpicc").code(0);
    here.run("survey").code(0).says(&["behind mpicc", "mpicc runs cc and adds -I/opt/swell/include -lswell"]);
    here.run("survey --toolchains").code(0).says(&["  mpicc  ", "mpicc runs cc and adds -I/opt/swell/include -lswell"]);
    here.run("build").code(0);
    here.run("preview").code(0).says(&["Nothing to do"]);
    wrapper("-lswell -lmore");
    here.run("survey").code(0).says(&["adds -I/opt/swell/include -lswell -lmore"]);
    here.run("preview").code(0).says(&["mpicc"]);
}

#[test]
fn compilers_are_found_chosen_and_told_when_broken() {
    let here = Harbour::new();
    here.tree.script("bin/gcc-99", "case \"$*\" in *-v*) echo 'Target: x86_64-linux-gnu' >&2; echo 'gcc version 99.1 (made up)' >&2;; esac; exec cc \"$@\"");
    here.tree.script(
        "bin/arm-reef-linux-gcc",
        "echo 'Target: arm-reef-linux' >&2; echo 'gcc version 7.1 (made up)' >&2; exit 0",
    );
    here.tree.script("bin/clang-0", "exit 1");
    here.run("survey --toolchains").code(0).says(&[
        "gcc-99",
        "gcc 99.1",
        "arm-reef-linux-gcc",
        "in use",
        "clang-0",
        "failed without a message",
    ]);
    here.run("build").code(0);
    here.run("set compiler=gcc-99").code(0);
    here.run("survey").code(0).says(&["gcc 99.1 for x86_64-linux-gnu"]);
    let steps = here.tree.ran(&mut here.command("preview --json")).code(0).json();
    let steps = steps["steps"].as_array().expect("steps");
    let done = |does: &str| steps.iter().filter(|s| s["does"] == does && s["verdict"] == "run").count();
    assert_eq!(
        (done("compile"), done("archive")),
        (2, 0),
        "another compiler compiles anew; archives follow what comes out"
    );
    assert_eq!(here.says(), "bundled");
    here.tree.script(
        "bin/gcc-99",
        "case \"$*\" in */dev/null*) echo 'gcc version 99.1' >&2; exit 0;; esac; echo 'gcc-99: no licence' >&2; exit 1",
    );
    here.tree.edit("boltboard.toml", "[need.varnish]\n", "[need.varnish]\nfunction = \"printf\"\n");
    here.tree.edit("boltboard.toml", "zlib-of-nowhere.h", "stdio.h");
    let ran = here.run("survey").code(4).says(&["1 need could not be checked"]);
    assert!(ran.err.contains("gcc-99` fails on the plainest program: gcc-99: no licence"), "{}", ran.err);
    assert_eq!((ran.out + &ran.err).matches("no licence").count(), 1, "said once");
    here.run("set compiler=surely-none").code(4).complains(&[
        "surely-none is not in the search path",
        "Nothing was changed.",
        "→ boltboard set compiler=cc ",
    ]);
    here.tree.edit("boltboard-work/profiles/mine.toml", "gcc-99", "surely-none");
    here.run("survey").code(4).complains(&[
        "surely-none is not in the search path",
        "compiler=surely-none is chosen in the profile mine, line ",
        "→ boltboard unset compiler ",
    ]);
}

#[test]
fn a_work_folder_that_cannot_be_written_is_no_hindrance() {
    let tree = Scratch::with(MINI);
    tree.run("set depth=4").code(0);
    let work = tree.at("boltboard-work");
    let mode = |mode| {
        std::fs::set_permissions(&work, std::os::unix::fs::PermissionsExt::from_mode(mode)).expect("permissions")
    };
    std::fs::write(work.join("probes.json"), "damaged").expect("written");
    tree.run("survey").code(0).says(&["nowhere  missing"]);
    mode(0o555);
    // A folder in the place of the file cannot be written by anybody, an administrator included.
    std::fs::remove_file(work.join("profiles/mine.host.toml")).expect("kept by the survey before");
    std::fs::create_dir_all(work.join("profiles/mine.host.toml/in-the-way")).expect("made");
    tree.run("survey").code(0).says(&["nowhere  missing"]);
    mode(0o755);
}

#[test]
fn why_shows_what_was_looked_for() {
    let tree = Scratch::with(MINI);
    tree.run("why radio").code(0).says(&[
        "the need nowhere (a library that no host has) is missing",
        "looked for the header <surely/nowhere.h>",
        "boltboard survey nowhere",
    ]);
}

#[test]
fn a_package_that_is_installed_is_no_advice() {
    let here = Harbour::new();
    here.run("survey").says(&["apt install liblamp-dev"]);
    here.tree.write("host/var/lib/dpkg/info/liblamp-dev.list", "/usr/include/lamp.h\n");
    let said = |words: &str| {
        let mut command = here.command(words);
        here.tree.ran(command.env("BOLTBOARD_PACKAGE_ROOT", here.tree.at("host")))
    };
    let ran = said("survey lamp");
    assert!(!ran.out.contains("apt install") && !ran.err.contains("apt install"), "{}{}", ran.out, ran.err);
    let ran = said("set light=on");
    assert!(ran.err.contains("light=on cannot hold") && !ran.err.contains("apt install"), "{}", ran.err);
}

#[test]
fn the_compiler_that_is_asked_is_the_one_that_builds() {
    let definitions = r#"
format = 1
[tree]
name = "quick"
version = "1"
[toolchain]
c-compiler = "${compiler}"
[need.stdio]
header = "stdio.h"
[option.quick]
kind = "switch"
[option.speedy]
kind = "switch"
requires = "quick"
[option.compiler]
kind = "text"
default = [{ when = "quick", value = "TREE/bin/quick-cc" }, { value = "cc" }]
[option.io]
kind = "switch"
needs = "stdio"
[part.p]
kind = "program"
sources = ["m.c"]
needs = ["stdio"]
"#;
    let tree = Scratch::with(&[("m.c", "int main(void) { return 0; }\n")]);
    let aside = Scratch::new();
    tree.write("boltboard.toml", &definitions.replace("TREE", &aside.path().display().to_string()));
    let log = aside.at("asked");
    aside.script("bin/quick-cc", &format!("echo \"$@\" >> {}\nexec cc \"$@\"", log.display()));
    tree.run("survey").code(0).says(&["1 of 1 needs met"]);
    assert!(!log.exists(), "another compiler than the one that would build is not asked");
    // Nobody names the compiler; it follows from what is pulled in.
    tree.run("set speedy=on").code(0);
    tree.run("survey").code(0);
    let asked = std::fs::read_to_string(&log).expect("it was asked");
    assert!(asked.contains("-fsyntax-only") || asked.contains("-c") || asked.contains("-E"), "{asked}");
    tree.run("build").code(0);
    assert!(std::fs::read_to_string(&log).expect("there").contains("m.c"), "and it builds");
}
