//! Fortran: modules and submodules, in whatever order their sources are listed, with C beside them.

use std::process::Command;

use crate::harness::Scratch;

const TIDE: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = ["-g"]
[option.deep]
kind = "switch"
[option.other]
kind = "switch"
[header.options]
output = "options.h"
prefix = "T_"
[part.kinds]
kind = "static-library"
sources = ["kinds/*.f90"]
[part.tide]
kind = "program"
sources = ["a_main.f90", "b_tide.F90", "c_wave.f90", "d_wave_parts.f90", "e_old.f", "low.c"]
uses = ["kinds"]
"#;

fn tree() -> Option<Scratch> {
    // Where there is no compiler the tree cannot be built, and there is nothing to see.
    Command::new("gfortran").arg("--version").output().ok().filter(|ran| ran.status.success())?;
    Some(Scratch::with(&[
        ("boltboard.toml", TIDE),
        ("kinds/kinds.f90", "module kinds\n  integer, parameter :: r8 = kind(1.0d0)\nend module kinds\n"),
        (
            "a_main.f90",
            "program main\n  use :: tide, only : depth ! use nothing\n  use wave\n  implicit none\n  external old\n  integer :: n\n  n = depth() + height()\n  call old(n)\n  call exit(n)\nend program\n",
        ),
        (
            "b_tide.F90",
            "#include \"options.h\"\nmodule tide\n  use kinds\ncontains\n  integer function depth()\n#ifdef T_DEEP\n    depth = 20\n#else\n    depth = 10\n#endif\n  end function\nend module tide\n",
        ),
        (
            "c_wave.f90",
            "module wave\n  interface\n    module integer function height()\n    end function\n  end interface\nend module wave\n",
        ),
        (
            "d_wave_parts.f90",
            "submodule (wave) parts\n  interface\n    integer function low() bind(c)\n    end function\n  end interface\ncontains\n  module procedure height\n    height = low()\n  end procedure\nend submodule parts\n",
        ),
        (
            "e_old.f",
            "      subroutine old(n)\nC     use nothing\n      integer n\n      n = n +\n     &    1\n      end\n",
        ),
        ("low.c", "int low(void) { return 2; }\n"),
    ]))
}

fn code(tree: &Scratch) -> Option<i32> {
    Command::new(tree.at("boltboard-work/builds/mine/out/bin/tide")).status().expect("it runs").code()
}

#[test]
fn modules_are_compiled_before_those_that_use_them_and_stand_for_what_they_hold() {
    let Some(tree) = tree() else { return };
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(13));
    tree.run("build").code(0).steps(0);
    // An option that one of them names, through the preprocessor, compiles that one; its module stays the same for the others.
    tree.run("set deep=on").code(0);
    let ran = tree.run("build --verbose").code(0);
    tree.run("build --verify").code(0).steps(0);
    assert_eq!(code(&tree), Some(23));
    assert!(ran.err.contains("b_tide.F90") && !ran.err.contains("a_main.f90"), "{}", ran.err);
    tree.run("set other=on").code(0);
    tree.run("build --verify").code(0).steps(0);
    // What a module shows to others compiles them again.
    tree.edit("b_tide.F90", "contains", "  integer, parameter :: extra = 3\ncontains");
    let ran = tree.run("build --verbose").code(0);
    tree.run("build --verify").code(0).steps(0);
    assert!(ran.err.contains("a_main.f90"), "{}", ran.err);
    // A procedure of a submodule changes only that.
    tree.edit("d_wave_parts.f90", "height = low()", "height = low() + 4");
    let ran = tree.run("build --verbose").code(0);
    tree.run("build --verify").code(0).steps(0);
    assert!(!ran.err.contains("a_main.f90") && !ran.err.contains("c_wave.f90"), "{}", ran.err);
    assert_eq!(code(&tree), Some(27));
}

#[test]
fn a_source_that_is_saved_between_the_plan_and_its_compile_gives_its_module_the_next_time() {
    let Some(tree) = tree() else { return };
    // The compiler of the C source, which comes first, puts the whole text where an editor had only begun to.
    let aside = tempfile::tempdir().expect("a folder");
    let (compiler, whole) = (aside.path().join("cc"), aside.path().join("whole"));
    let (from, to) = (whole.display(), tree.at("c_wave.f90"));
    let saves = format!("[ -e {from} ] && mv {from} {}", to.display());
    let script = format!("#!/bin/sh\ncase \"$*\" in *low.c*) {saves};; esac\nexec cc \"$@\"\n");
    std::fs::write(&compiler, script).expect("written");
    std::fs::set_permissions(&compiler, std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("set");
    tree.edit("boltboard.toml", "[toolchain]", &format!("[toolchain]\nc-compiler = \"{}\"", compiler.display()));
    tree.edit("boltboard.toml", "sources = [\"a_main.f90\"", "sources = [\"low.c\", \"c_wave.f90\", \"a_main.f90\"");
    tree.edit(
        "boltboard.toml",
        "\"c_wave.f90\", \"d_wave_parts.f90\", \"e_old.f\", \"low.c\"]",
        "\"d_wave_parts.f90\", \"e_old.f\"]",
    );
    std::fs::write(&whole, tree.read("c_wave.f90")).expect("written");
    tree.write("c_wave.f90", "! saved in a moment\n");
    tree.run("build --jobs 1 --keep-going").code(1);
    assert!(!whole.exists(), "the text is there now");
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(13));
}

#[test]
fn modules_of_one_name_and_rings_are_told_with_both_places() {
    let Some(tree) = tree() else { return };
    tree.edit("c_wave.f90", "module wave\n", "module wave\n  use tide\n");
    tree.edit("b_tide.F90", "use kinds", "use kinds\n  use wave");
    tree.run("build").code(3).complains(&["these sources use each other's modules", "b_tide.F90", "c_wave.f90"]);
    tree.edit("b_tide.F90", "\n  use wave", "");
    tree.run("build --verify").code(0);
    tree.write("kinds/more.f90", "module tide\nend module tide\n");
    tree.run("build").code(3).complains(&["two modules are called `tide`", "b_tide.F90", "kinds/more.f90"]);
    // One that moves to another file is found there.
    tree.write("kinds/more.f90", "module more\n integer :: m = 5\nend module more\n");
    tree.edit("a_main.f90", "use wave", "use wave\n  use more");
    tree.edit("a_main.f90", "height()", "height() + m");
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(18));
    std::fs::rename(tree.at("kinds/more.f90"), tree.at("kinds/another.f90")).expect("moved");
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(18));
}

const ASSEMBLED: &str = r#"format = 1
[tree]
name = "t"
version = "1"
[toolchain]
flags = ["-Wall", "-no-pie"]
link-flags = ["-no-pie"]
assembler-flags = ["-f", "elf64"]
[option.depth]
kind = "number"
default = 3
[part.prog]
kind = "program"
sources = ["main.c", "low.asm"]
include = ["inc"]
defines = ["DEPTH=${depth}"]
"#;

#[test]
fn an_assembler_of_its_own_takes_its_own_flags_and_what_it_includes_is_followed() {
    if Command::new("nasm").arg("-v").output().is_err() {
        return;
    }
    let tree = Scratch::with(&[
        ("boltboard.toml", ASSEMBLED),
        ("main.c", "int low(void);\nint main(void) { return low(); }\n"),
        (
            "low.asm",
            "%include \"more.inc\"\nglobal low\nsection .text\nlow:\n mov eax, DEPTH + MORE\n ret\nsection .note.GNU-stack noalloc noexec nowrite progbits\n",
        ),
        ("inc/more.inc", "%define MORE 4\n"),
    ]);
    let code = |tree: &Scratch| {
        Command::new(tree.at("boltboard-work/builds/mine/out/bin/prog")).status().expect("it runs").code()
    };
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(7));
    tree.run("build").code(0).steps(0);
    tree.edit("inc/more.inc", "4", "5");
    assert_eq!(tree.previewed("run"), ["compile low.asm"]);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(8));
    tree.run("set depth=9").code(0);
    tree.run("build --verify").code(0);
    assert_eq!(code(&tree), Some(14));
    tree.write("more.inc", "%define MORE 1\n");
    tree.run("build --verify").code(0);
}

#[test]
fn modules_that_a_file_names_which_is_taken_in_come_first() {
    let Some(tree) = tree() else { return };
    let board = "format = 1\n[tree]\nname = \"t\"\nversion = \"1\"\n[part.tide]\nkind = \"program\"\ninclude = [\"inc\"]\n\
        sources = [\"a.f90\", \"y.f90\", \"z.f90\"]\n";
    tree.write("boltboard.toml", board);
    tree.write("a.f90", "program a\n  INCLUDE 'one.inc'\n  implicit none\n  call exit(n + m)\nend program\n");
    tree.write("inc/one.inc", "include 'two.inc'\nuse z\n");
    tree.write("inc/two.inc", "use y\ninclude 'one.inc'\n");
    tree.write("y.f90", "module y\n  integer :: n = 3\nend module\n");
    tree.write("z.f90", "module z\n  integer :: m = 4\nend module\n");
    // The second leads back to the first, which no compiler takes; it is told by the compiler, and ends.
    tree.run("build").code(1);
    tree.write("inc/two.inc", "use y\n");
    tree.run("build").code(0);
    assert_eq!(code(&tree), Some(7));
    // Which modules a file names that is taken in follows it.
    tree.write("inc/two.inc", "use x\n");
    tree.write("x.f90", "module x\n  integer :: n = 5\nend module\n");
    tree.edit("boltboard.toml", "\"y.f90\"", "\"x.f90\"");
    tree.run("build").code(0);
    assert_eq!(code(&tree), Some(9));
    tree.equals_clean();
    tree.write("x.f90", "module x\n  integer, parameter :: n = 6\nend module\n");
    tree.run("build").code(0);
    assert_eq!(code(&tree), Some(10));
    tree.equals_clean();
}
