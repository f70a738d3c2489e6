//! Real compilers other than the machine's own. `scripts/install-toolchains` installs them; stand-ins are tested in `survey`.

use crate::harness::Scratch;

const TREE: &str = r#"
format = 1
[tree]
name = "buoys"
version = "1"
[toolchain]
c-compiler = "${compiler}"
sysroot = "${sysroot}"
[option.compiler]
kind = "text"
default = "cc"
[option.sysroot]
kind = "path"
default = ""
[need.maths]
header = "math.h"
link = "m"
function = "cos"
required = true
[need.wide]
size = { of = "void *", value = "= 8" }
byte-order = "little"
[need.host-only]
library = "zlib"
[part.sea]
kind = "static-library"
sources = ["sea.c"]
[part.buoy]
kind = "program"
sources = ["buoy.c"]
uses = ["sea"]
needs = ["maths"]
"#;

fn tree() -> Scratch {
    Scratch::with(&[
        ("boltboard.toml", TREE),
        ("sea.c", "#include <math.h>\ndouble wave(double at) { return cos(at); }\n"),
        ("buoy.c", "double wave(double at);\nint main(void) { return wave(0.0) > 0.5 ? 0 : 1; }\n"),
    ])
}

/// The machine that a program is for, as its header says.
fn machine(tree: &Scratch) -> u16 {
    let built = tree.at("boltboard-work/builds/mine/out/bin/buoy");
    let built = if built.exists() { built } else { tree.at("boltboard-work/builds/mine/out/buoy") };
    let bytes = std::fs::read(built).expect("a program");
    u16::from_le_bytes([bytes[18], bytes[19]])
}

#[test]
#[ignore = "needs scripts/install-toolchains"]
fn other_compilers_of_this_machine_compile_anew_and_come_back_from_the_store() {
    let tree = tree();
    tree.run("build").code(0);
    let own = machine(&tree);
    for compiler in ["gcc-12", "clang"] {
        tree.run(&format!("set compiler={compiler}")).code(0);
        tree.run("survey").code(0).says(&["3 needs met", "for "]);
        tree.run("build").code(0);
        assert_eq!(machine(&tree), own);
        tree.equals_clean();
    }
    tree.run("set compiler=cc").code(0);
    assert_eq!(tree.previewed("run"), Vec::<String>::new(), "what was made before is still there");
    tree.run("survey --toolchains").code(0).says(&["gcc-12", "clang", "in use", "aarch64-linux-gnu"]);
}

#[test]
#[ignore = "needs scripts/install-toolchains"]
fn programs_of_a_message_passing_library_are_built_by_its_wrappers_and_run() {
    let tree = Scratch::with(&[
        (
            "boltboard.toml",
            r#"format = 1
[tree]
name = "swell"
version = "1"
[toolchain]
c-compiler = "mpicc"
fortran-compiler = "mpifort"
[part.swell]
kind = "program"
sources = ["swell.c"]
[part.surf]
kind = "program"
sources = ["surf.f90"]
[test.swell]
command = ["mpiexec", "-n", "2", "${part:swell}"]
stdout = "swell.txt"
[test.surf]
command = ["mpiexec", "-n", "2", "${part:surf}"]
"#,
        ),
        (
            "swell.c",
            "#include <mpi.h>\n#include <stdio.h>\nint main(int c, char **v) { int n; MPI_Init(&c, &v); \
             MPI_Comm_size(MPI_COMM_WORLD, &n); printf(\"%d\\n\", n); MPI_Finalize(); return 0; }\n",
        ),
        ("swell.txt", "2\n2\n"),
        (
            "surf.f90",
            "program surf\n  use mpi\n  integer :: e, n\n  call MPI_Init(e)\n  call MPI_Comm_size(MPI_COMM_WORLD, n, e)\n  \
             if (n /= 2) call exit(1)\n  call MPI_Finalize(e)\nend program\n",
        ),
    ]);
    tree.run("survey").code(0).says(&["behind mpicc", "mpicc runs gcc and adds ", "mpifort runs ", "-lmpich"]);
    tree.run("build").code(0);
    tree.run("test").code(0).says(&["2 tests passed"]);
    tree.equals_clean();
}

#[test]
#[ignore = "needs scripts/install-toolchains"]
fn a_cross_compiler_answers_for_its_target_and_brings_its_archiver() {
    const AARCH64: u16 = 183;
    let tree = tree();
    tree.run("set compiler=aarch64-linux-gnu-gcc").code(0);
    let survey = tree.run("survey --json").code(0).json();
    assert_eq!(survey["target"], "aarch64-linux-gnu");
    let state = |name: &str| {
        survey["needs"].as_array().expect("needs").iter().find(|n| n["name"] == name).map(|n| n["state"].clone())
    };
    assert_eq!(state("maths"), Some("found".into()));
    assert_eq!(state("wide"), Some("found".into()), "asked without running anything");
    assert_eq!(state("host-only"), Some("missing".into()), "what this host has for itself is of no use there");
    tree.run("build").code(0);
    assert_eq!(machine(&tree), AARCH64);
    tree.run("survey").code(0).says(&["made for aarch64-linux-gnu, so there is no install command"]);
    tree.write("target/usr/lib/pkgconfig/zlib.pc", "Version: 1.3\nLibs: -lz\n");
    let target = tree.at("target").display().to_string();
    tree.run(&format!("survey host-only --try sysroot={target}"))
        .says(&["TREE/target/usr/lib/pkgconfig/zlib.pc, version 1.3"]);
}
