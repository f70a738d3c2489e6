//! A tree of Fortran made at random: modules that use each other in whatever order their files are named, submodules, included
//! lines, options seen through the preprocessor, in free and fixed form, over a library and a program, with C beside them.

use std::fmt::Write as _;

use super::worlds::{SEEN_OPTIONS, World, compiler, owned, seen_options, switch};
use crate::harness::Scratch;

const HEAD: &str = r#"format = 1
[tree]
name = "fortran"
version = "1"
[toolchain]
c-compiler = "HOST/cc"
fortran-compiler = "HOST/fc"
fortran-flags = ["-O1", "-g", { when = "fast", add = ["-O2"] }]
[header.options]
output = "r/options.h"
prefix = "R_"
[option.fast]
kind = "switch"
OPTIONS
[part.c]
kind = "static-library"
sources = ["low/*.c"]
[part.below]
kind = "static-library"
sources = ["below/*.*"]
include = ["first", "second"]
[part.prog]
kind = "program"
sources = ["above/*.*"]
include = ["first", "second"]
uses = ["below", "c"]
"#;

/// How a source is written.
#[derive(Clone, Copy, PartialEq)]
enum Form {
    Free,
    Fixed,
}

/// A source as it grows: free lines begin anywhere, fixed ones in column seven.
struct Source {
    form: Form,
    preprocessed: bool,
    text: String,
}

impl Source {
    fn new(form: Form, preprocessed: bool) -> Source {
        let text = if preprocessed { "#include \"r/options.h\"\n".to_string() } else { String::new() };
        Source { form, preprocessed, text }
    }

    fn line(&mut self, line: &str) {
        let indent = if self.form == Form::Fixed { "      " } else { "  " };
        let _ = writeln!(self.text, "{indent}{line}");
    }

    /// Lines for the preprocessor, where there is one.
    fn either(&mut self, option: &str, on: &str, off: &str) {
        if !self.preprocessed {
            return self.line(off);
        }
        let _ = writeln!(self.text, "#ifdef R_{option}");
        self.line(on);
        self.text.push_str("#else\n");
        self.line(off);
        self.text.push_str("#endif\n");
    }

    fn extension(&self) -> &'static str {
        match (self.form, self.preprocessed) {
            (Form::Free, false) => "f90",
            (Form::Free, true) => "F90",
            (Form::Fixed, false) => "f",
            (Form::Fixed, true) => "F",
        }
    }
}

/// Puts a compiler for Fortran beside the tree.
pub fn fortran_compiler(host: &Scratch, version: u8) {
    host.script("fc", &format!("# version {version}\nexec gfortran \"$@\""));
}

/// Makes the tree; there must be a compiler.
pub fn fortran(seed: u64) -> World {
    let mut chance = fastrand::Rng::with_seed(seed);
    let (host, tree) = (Scratch::new(), Scratch::new());
    compiler(&host, 0);
    fortran_compiler(&host, 0);
    tree.write(
        "boltboard.toml",
        &HEAD.replace("HOST", &host.path().display().to_string()).replace("OPTIONS", SEEN_OPTIONS),
    );
    tree.write("low/low.c", "int low(void) { return 0; }\n");
    tree.write("second/depth.inc", "      integer, parameter :: deep = 0\n");
    let mut edited = owned(&["low/low.c", "second/depth.inc"]);
    let letters: Vec<char> = ('a'..='i').take(chance.usize(3..9)).collect();
    let (border, options) = (chance.usize(1..letters.len()), ["FOG", "LAMP"]);
    let mut put = |chance: &mut fastrand::Rng, folder: &str, name: &str, source: Source| {
        let file = format!("{folder}/{}_{name}.{}", chance.lowercase(), source.extension());
        tree.write(&file, &source.text);
        edited.push(file);
    };
    for (index, letter) in letters.iter().enumerate() {
        let folder = if index < border { "below" } else { "above" };
        let form = if chance.bool() { Form::Free } else { Form::Fixed };
        let mut source = Source::new(form, chance.bool());
        source.line(&format!("module m_{letter}"));
        let used: Vec<char> = letters[..index].iter().copied().filter(|_| chance.bool()).collect();
        for one in &used {
            source.line(&format!("use m_{one}"));
        }
        if index > 1 && chance.bool() {
            let (on, off) = (letters[chance.usize(0..index)], letters[chance.usize(0..index)]);
            let option = options[chance.usize(0..2)];
            source.either(option, &format!("use m_{on}, only : f_{on}"), &format!("use m_{off}, only : f_{off}"));
        }
        source.line("implicit none");
        let has_parts = chance.bool();
        if has_parts {
            source.line("interface");
            source.line(&format!("module integer function s_{letter}()"));
            source.line("end function");
            source.line("end interface");
        }
        let shown = used.last().map_or(String::new(), |one| format!("v_{one} + "));
        source.line(&format!("integer, parameter :: v_{letter} = {shown}0"));
        source.line("contains");
        source.line(&format!("integer function f_{letter}()"));
        if chance.bool() {
            source.line("include 'depth.inc'");
            source.line(&format!("f_{letter} = v_{letter} + deep"));
        } else {
            source.line(&format!("f_{letter} = v_{letter}"));
        }
        source.either(options[chance.usize(0..2)], &format!("f_{letter} = f_{letter} * v_{letter}"), "continue");
        if source.preprocessed && chance.bool() {
            source.line(&format!("f_{letter} = f_{letter} + R_DEPTH"));
        }
        // The last number of the file is in its body, or in what its module shows.
        if chance.bool() {
            source.line(&format!("f_{letter} = f_{letter} + 0"));
        }
        source.line("end function");
        source.line(&format!("end module m_{letter}"));
        put(&mut chance, folder, letter.to_string().as_str(), source);
        if has_parts {
            let mut parts = Source::new(Form::Free, chance.bool());
            parts.line(&format!("submodule (m_{letter}) p_{letter}"));
            parts.line("contains");
            parts.line(&format!("module procedure s_{letter}"));
            parts.line(&format!("s_{letter} = v_{letter} + 0"));
            parts.either(options[chance.usize(0..2)], &format!("s_{letter} = s_{letter} * v_{letter}"), "continue");
            parts.line("end procedure");
            parts.line(&format!("end submodule p_{letter}"));
            put(&mut chance, folder, &format!("{letter}_parts"), parts);
        }
    }
    let mut main = Source::new(Form::Free, false);
    main.line("program main");
    for letter in &letters {
        main.line(&format!("use m_{letter}, only : f_{letter}"));
    }
    main.line("implicit none");
    main.line("interface");
    main.line("integer function low() bind(c)");
    main.line("end function");
    main.line("end interface");
    main.line("integer :: n");
    main.line("n = low()");
    for letter in &letters {
        main.line(&format!("n = n + f_{letter}()"));
    }
    main.line("print *, n + 0");
    main.line("end program");
    put(&mut chance, "above", "main", main);
    World {
        tree,
        host,
        edited,
        options: [switch("fast")].into_iter().chain(seen_options()).collect(),
        sources: Some("low".into()),
        shadows: vec![("first/depth.inc".into(), "      integer, parameter :: deep = 1\n".into())],
    }
}
