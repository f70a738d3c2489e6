//! Trees without a description, adopted from one watched build by a plain script.

use std::path::PathBuf;

use crate::harness::{Ran, Scratch};

/// A tree with its own build script, in a folder of its own beside which descriptions can lie.
struct Yard {
    scratch: Scratch,
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

impl Yard {
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
        Yard { scratch }
    }

    fn tree(&self) -> PathBuf {
        self.scratch.at("quay")
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
fn a_watched_build_becomes_a_description_by_which_the_same_comes_out() {
    let yard = Yard::quay();
    yard.run(&["adopt"]).code(0).says(&["No build of", "boltboard adopt watch"]);
    yard.watched().code(0).says(&["9 compiles", "5 links and archives", "→ boltboard adopt draw"]);
    yard.run(&["adopt"]).code(0).says(&["Watched builds of", "→ boltboard adopt draw"]);
    yard.run(&["adopt", "seen"]).code(0).says(&[
        "quay",
        "shared-library",
        "berths.h: the build wrote this text itself",
    ]);
    yard.run(&["adopt", "draw"]).code(0).says(&["quay-board/boltboard.toml", "→ boltboard adopt prove"]);
    let text = yard.scratch.read("quay-board/boltboard.toml");
    for line in [
        "flags = [\"-O2\", \"-Wall\"]",
        "stdin = \"data/depths.txt\"",
        "stdout = \"depths.h\"",
        "command = [\"${part:maketab}\"]",
        "sources = [\"lib/*.c\"]",
        "defines = [\"QUAY\"]",
        "defines = [\"LOUD=1\"]",
        "libraries = [\"m\"]",
        "abi = \"2\"",
    ] {
        assert!(text.contains(line), "no {line} in\n{text}");
    }
    assert_eq!(yard.scratch.read("quay-board/kept/berths.h"), "#define BERTHS 4\n");
    // What was built before is no help: only the description is gone by.
    std::fs::remove_dir_all(yard.tree().join("out")).expect("it is removed");
    yard.run(&["adopt", "prove"])
        .code(0)
        .says(&["All 8 objects are the same", "5 finished files: 2 the same, 3 made of the same objects"]);
    // It is never written over.
    yard.run(&["adopt", "draw"]).code(2).complains(&["there already is a description"]);
    // And it is an ordinary tree.
    yard.run(&["build"]).code(0).steps(0);
    yard.run(&[]).code(0).says(&["quay"]);
}

#[test]
fn a_build_that_fails_or_is_none_is_told() {
    let yard = Yard::quay();
    yard.scratch.write("quay/lib/fender.c", "no C\n");
    yard.watched().code(1).says(&["ended with exit code 1"]);
    yard.run(&["adopt", "seen"]).code(0).says(&["it failed, and is left out"]);
    yard.run(&["adopt", "watch", "--", "true"]).code(0).says(&["No compile was seen"]);
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
