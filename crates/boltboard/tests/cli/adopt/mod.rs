//! Trees without a description, adopted from one watched build by a plain script.

mod names;
mod drawing;
mod hard;
mod options;
mod plain;
mod recorded;

use std::path::PathBuf;

use crate::harness::{Ran, Scratch};

/// A tree with its own build script, in a folder of its own beside which descriptions can lie.
struct Yard {
    scratch: Scratch,
    name: &'static str,
}

/// What the quay is built with: a tool of the tree that writes a table, texts that are generated in three ways, an archive, a shared library,
/// sources that are compiled twice, one within a link, and one in its own folder.
const BUILD: &str = r#"
set -e
mkdir -p out/gen
cc -c -O2 -Wall -Iinclude -o out/maketab.o tools/maketab.c
cc -o out/maketab out/maketab.o
out/maketab < data/depths.txt > out/gen/depths.h
sed -e 's/.*/#define NAME "&"/' data/name.txt > out/gen/name.h
echo '#define BERTHS 4' > out/gen/berths.h
for name in rope bollard fender; do
    cc -c -O2 -Wall -Iinclude -Iout/gen -DQUAY -o out/$name.o lib/$name.c
    cc -c -O2 -Wall -Iinclude -Iout/gen -DQUAY -fPIC -o out/$name.lo lib/$name.c
done
ar rc out/libquay.a out/rope.o out/bollard.o out/fender.o
cc -shared -Wl,-soname,libquay.so.2 -o out/libquay.so.2 out/rope.lo out/bollard.lo out/fender.lo
(cd src && cc -c -O2 -Wall -I../include -I../out/gen -DLOUD=1 -DSILENT -USILENT -o ../out/main.o main.c)
cc -o out/quay out/main.o out/libquay.a -lm
cc -O2 -Wall -Iinclude -Iout/gen -o out/check src/check.c out/libquay.a
"#;

/// What makes a build hard to read: it asks about the host, recurses, runs a compiler through a script, at once and from files of arguments,
/// copies and links headers, writes texts from itself, compiles a source twice, links partially, strips, renames, installs.
const HARD: &str = r#"
set -e
mkdir -p out/inc out/obj
t=$(mktemp -d); echo 'int main(void){return 0;}' > $t/try.c; cc -o $t/try $t/try.c; $t/try
cc -c -fno-such-flag -o $t/x.o $t/try.c 2>/dev/null || true; rm -rf $t
echo 'int main(void){return 0;}' > conftest.c; cc -o conftest conftest.c -lm; ./conftest; rm -f conftest conftest.c
cc -dumpmachine > out/machine
cat > out/inc/config.h <<EOF
#define PIERS 3
EOF
echo 'echo \#define SLIPS $1 > $2' > out/status; sh out/status 2 out/inc/slips.h
sh -c 'mkdir -p out/more; sed "s/^/int /" inc/ferry.in > out/inc/ferry.h'
cp inc/pier.h out/inc/; ln -s ../../inc/tide.h out/inc/tide.h
for f in pier tide; do tools/wrap -O1 -g -Iout/inc -DDATE='"2026-11-29 10:11:12"' -c src/$f.c -o out/obj/$f.o & done; wait
echo "-O1 -g -Iout/inc" > out/args
cc @out/args -c src/main.c -o out/obj/main.o
ld -r -o out/obj/both.o out/obj/pier.o out/obj/tide.o
ar qc out/libharbour.a out/obj/both.o; ranlib out/libharbour.a
(cd sub; sh build.sh)
cc -o out/harbour.tmp out/obj/main.o -Lout -lharbour out/sub.a
strip -o out/harbour out/harbour.tmp
mv out/harbour.tmp out/harbour.full
install -d out/inst; install -m 755 out/harbour out/inst/harbour
"#;

impl Yard {
    fn harbour() -> Yard {
        let scratch = Scratch::new();
        for (path, text) in [
            ("harbour/build.sh", HARD),
            (
                "harbour/sub/build.sh",
                "set -e\nsh gen.sh names.txt ../out/inc/names.h\ncc -c -I../out/inc -O1 -g sub.c -o sub.o\ncc -c -I../out/inc -O1 -g -DAGAIN sub.c -o sub2.o\nar rcs ../out/sub.a sub.o sub2.o\n",
            ),
            ("harbour/sub/gen.sh", "echo \"#define NAMES \\\"$(cat $1)\\\"\" > $2\n"),
            ("harbour/sub/names.txt", "Anna\n"),
            (
                "harbour/sub/sub.c",
                "#include <names.h>\n#ifdef AGAIN\nconst char *again(void) { return NAMES; }\n#else\nconst char *sub(void) { return NAMES; }\n#endif\n",
            ),
            ("harbour/inc/pier.h", "int pier(void);\n"),
            ("harbour/inc/ferry.in", "ferry(void);\n"),
            ("harbour/inc/tide.h", "int tide(void);\n"),
            (
                "harbour/src/pier.c",
                "#include <config.h>\n#include <slips.h>\n#include <pier.h>\nint slips = SLIPS;\nconst char *date = DATE;\nint pier(void) { return PIERS; }\n",
            ),
            ("harbour/src/tide.c", "#include <tide.h>\n#include <ferry.h>\nint tide(void) { return 7; }\n"),
            (
                "harbour/src/main.c",
                "#include <pier.h>\n#include <tide.h>\nconst char *sub(void);\nint main(void) { return pier() + tide() - 10 + sub()[0] - 'A'; }\n",
            ),
        ] {
            scratch.write(path, text);
        }
        scratch.script("harbour/tools/wrap", "exec cc \"$@\"");
        Yard { scratch, name: "harbour" }
    }

    fn quay() -> Yard {
        let scratch = Scratch::new();
        for (path, text) in [
            ("quay/build.sh", BUILD),
            ("quay/data/depths.txt", "3 5 8\n"),
            ("quay/data/name.txt", "North quay\n"),
            ("quay/include/quay.h", "int rope(int length);\nint bollard(void);\nconst char *fender(void);\n"),
            (
                "quay/tools/maketab.c",
                "#include <stdio.h>\nint main(void) { int n; while (scanf(\"%d\", &n) == 1) printf(\"#define DEPTH_%d %d\\n\", n, n * 10); return 0; }\n",
            ),
            (
                "quay/lib/rope.c",
                "#include \"quay.h\"\n#include <depths.h>\nint rope(int length) { return length + DEPTH_5; }\n",
            ),
            (
                "quay/lib/bollard.c",
                "#include \"quay.h\"\n#include \"berths.h\"\nint bollard(void) { return BERTHS; }\n",
            ),
            (
                "quay/lib/fender.c",
                "#include \"quay.h\"\n#include <name.h>\nconst char *fender(void) { return NAME; }\n",
            ),
            (
                "quay/src/main.c",
                "#include <math.h>\n#include <stdio.h>\n#include \"quay.h\"\nint main(int count, char **words) { (void)words; printf(\"%s %d %.0f\\n\", fender(), rope(LOUD), pow(2, count)); return 0; }\n",
            ),
            ("quay/src/check.c", "#include \"quay.h\"\nint main(void) { return bollard() - 4; }\n"),
        ] {
            scratch.write(path, text);
        }
        Yard { scratch, name: "quay" }
    }

    /// Lets its build do more.
    fn also(&self, lines: &str) {
        let build = self.scratch.read(&format!("{}/build.sh", self.name));
        self.scratch.write(&format!("{}/build.sh", self.name), &format!("{build}\n{lines}"));
    }

    fn tree(&self) -> PathBuf {
        self.scratch.at(self.name)
    }

    fn run(&self, words: &[&str]) -> Ran {
        let mut command = self.scratch.command("");
        command.args(words).current_dir(self.tree());
        self.scratch.ran(&mut command)
    }

    fn watched(&self) -> Ran {
        self.run(&["adopt", "watch", "--", "sh", "build.sh"])
    }
}

#[test]
fn every_answer_has_just_its_documented_fields() {
    let page =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json.md")).expect("docs/json.md");
    let keys = |answer: &serde_json::Value| -> Vec<String> {
        let keys: Vec<String> = answer.as_object().expect("an object").keys().cloned().collect();
        keys.iter()
            .for_each(|key| assert!(page.contains(&format!("`{key}`")), "docs/json.md does not tell of `{key}`"));
        keys
    };
    let yard = Yard::quay();
    yard.watched().code(0);
    let status = yard.run(&["adopt", "--json"]).code(0).json();
    assert_eq!(keys(&status), ["description", "format", "tree", "watched"]);
    let seen = yard.run(&["adopt", "seen", "--json"]).code(0).json();
    assert_eq!(
        keys(&seen),
        [
            "command",
            "compiles",
            "doubts",
            "exit",
            "format",
            "generated",
            "joins",
            "name",
            "needs",
            "parts",
            "probes",
            "processes",
            "questions",
            "unused"
        ]
    );
    assert_eq!(keys(&seen["parts"][0]), ["kind", "name", "sources"]);
    assert_eq!(keys(&seen["doubts"][0]), ["about", "said"]);
    assert_eq!(keys(&seen["questions"][0]), ["question", "usual"]);
    let drawn = yard.run(&["adopt", "draw", "--json"]).code(0).json();
    assert_eq!(keys(&drawn), ["doubts", "file", "format", "lines", "parts", "questions"]);
    // A description that says something else is proved wrong.
    yard.scratch.edit("quay-board/boltboard.toml", "LOUD=1", "LOUD=2");
    let proof = yard.run(&["adopt", "prove", "--json"]).code(1).json();
    assert_eq!(
        keys(&proof),
        [
            "differences",
            "format",
            "gone",
            "objects",
            "objects-alike",
            "objects-same",
            "outputs",
            "outputs-alike",
            "outputs-same"
        ]
    );
    assert_eq!(keys(&proof["differences"][0]), ["command", "ours", "own-command", "theirs", "why"]);
    assert_eq!(proof["differences"][0]["theirs"], "out/main.o");
    yard.run(&["adopt", "prove"]).code(1).says(&[
        "7 of 8 objects are the same, 1 differs",
        "out/main.o differs from",
        "-DLOUD=1",
    ]);
    let tree = Scratch::new();
    let begun = tree.run("init --name beacon --json").code(0).json();
    assert_eq!(keys(&begun), ["files", "format"]);
}

#[test]
fn a_build_that_fails_or_is_none_is_told() {
    let yard = Yard::quay();
    yard.scratch.write("quay/lib/fender.c", "no C\n");
    yard.watched().code(1).says(&["ended with exit code 1"]);
    yard.run(&["adopt", "seen"]).code(0).says(&["it failed, and is left out"]);
    yard.run(&["adopt", "watch", "--", "true"]).code(0).says(&["No compile was seen"]);
    yard.run(&["adopt", "watch", "--", "sh", "-c", "kill -TERM $$"]).code(1).says(&["The build was ended by SIGTERM"]);
    // What a build says stays out of what machines read.
    let told = yard.run(&["adopt", "watch", "--json", "--", "sh", "-c", "echo loud; echo louder >&2"]).code(0);
    assert_eq!((&told.json()["exit"], told.err.contains("loud\nlouder")), (&0.into(), true), "{}", told.err);
    yard.run(&["adopt", "watch", "--", "no-such-program"])
        .code(7)
        .complains(&["there is no program `no-such-program`"]);
    yard.run(&["adopt", "seen", "--name", "other"])
        .code(2)
        .complains(&["no build called `other`", "watched builds here: build"]);
    yard.run(&["adopt", "seen", "--name", "../x"]).code(2).complains(&["cannot be the name"]);
    std::fs::write(yard.tree().join("boltboard-work/adopt/build"), "damaged").expect("written");
    yard.run(&["adopt", "seen"]).code(2).complains(&["is damaged"]);
}

#[test]
fn a_new_tree_is_begun_and_builds_at_once() {
    let tree = Scratch::new();
    tree.run("").code(2).complains(&["→ boltboard adopt", "→ boltboard init"]);
    tree.run("init --name beacon").code(0).says(&["boltboard.toml and src/main.c"]).complains(&["Version: 0.1"]);
    tree.run("build --verify").code(0);
    tree.run("lint").code(0).says(&["No findings"]);
    tree.run("init").code(2).complains(&["there already is a description"]);
    let tree = Scratch::with(&[("lib/a.c", "int a(void) { return 1; }\n"), ("include/a.h", "int a(void);\n")]);
    tree.run("init --name buoys --kind shared-library").code(0);
    assert!(tree.read("boltboard.toml").contains("sources = [\"lib/*.c\"]\ninclude = [\"include\"]"));
    tree.run("build").code(0);
    Scratch::new().run("init --name 7-").code(2).complains(&["cannot be a name"]);
}
