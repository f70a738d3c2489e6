//! The trees that things happen to: a small one with a bit of everything, one made at random, and the demo tree.

use std::fmt::Write as _;

use crate::harness::Scratch;

/// A tree, what stands beside it, and where things can happen.
pub struct World {
    pub tree: Scratch,
    /// Holds the compiler, so that another version of it can take its place.
    pub host: Scratch,
    /// Files whose last number that stands alone can be another.
    pub edited: Vec<String>,
    /// Options with the values that they can be set to.
    pub options: Vec<(String, Vec<String>)>,
    /// A folder whose C files all belong to a part.
    pub sources: Option<String>,
    /// Headers that can come and go, with their text; a `1` in it is a number to choose.
    pub shadows: Vec<(String, String)>,
}

/// What lives run through in turn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Small,
    AddOn,
    Random(u64),
    Nasty(u64),
    Fortran(u64),
    Skerry,
}

impl Kind {
    /// Makes a tree of that kind and builds it.
    pub fn world(self) -> World {
        let world = match self {
            Kind::Small => small(),
            Kind::AddOn => with_add_on(),
            Kind::Random(seed) => random(seed),
            Kind::Nasty(seed) => super::nasty::nasty(seed),
            Kind::Fortran(seed) => super::fortran::fortran(seed),
            Kind::Skerry => skerry(),
        };
        world.tree.run("build").code(0);
        world
    }
}

const BOARD: &str = r#"format = 1
[tree]
name = "rounds"
version = "1"
[toolchain]
c-compiler = "HOST/cc"
c-flags = ["-O1", { when = "fast", add = ["-O2"] }]
[header.options]
output = "rounds/options.h"
prefix = "R_"
[option.fast]
kind = "switch"
[option.extra]
kind = "switch"
[option.depth]
kind = "number"
range = [0, 9]
default = 3
[option.name]
kind = "text"
default = "skerry"
[part.text]
kind = "generated"
command = ["sh", "-c", "sed s/TIDE/tide/ words.txt > ${step:output}"]
reads = ["words.txt"]
output = ["words.h"]
[part.low]
kind = "static-library"
sources = ["low/*.c", { when = "extra", add = ["extra/*.c"] }]
include = ["first", "second"]
[part.shared]
kind = "shared-library"
sources = ["shared.c"]
include = ["second"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["low", "shared", "text"]
include = ["first", "second"]
"#;

/// A compiler that stands beside the tree.
pub fn compiler(host: &Scratch, version: u8) {
    host.script("cc", &format!("# version {version}\nexec cc \"$@\""));
}

/// Options that the sources of worlds name; `OPTIONS` stands for them in their definitions.
pub const SEEN_OPTIONS: &str = r#"[option.fog]
kind = "switch"
[option.lamp]
kind = "switch"
[option.depth]
kind = "number"
range = [0, 9]
default = 3
"#;

/// The values of these.
pub fn seen_options() -> [(String, Vec<String>); 3] {
    [switch("fog"), switch("lamp"), depth()]
}

/// The values of a switch.
pub fn switch(name: &str) -> (String, Vec<String>) {
    (name.into(), owned(&["off", "on"]))
}

fn depth() -> (String, Vec<String>) {
    ("depth".into(), (0..10).map(|n| n.to_string()).collect())
}

/// Texts as lists of worlds hold them.
pub fn owned(names: &[&str]) -> Vec<String> {
    names.iter().map(ToString::to_string).collect()
}

fn small() -> World {
    let host = Scratch::new();
    compiler(&host, 0);
    let board = BOARD.replace("HOST", &host.path().display().to_string());
    let tree = Scratch::with(&[
        ("boltboard.toml", &board),
        ("words.txt", "static const char *const words = \"TIDE\" + 0;\n"),
        ("second/low.h", "#define LOW 0\n#ifdef R_EXTRA\n#define EXTRA_LOW 1\n#endif\nint shared(void);\n"),
        ("low/a.c", "#include \"rounds/options.h\"\n#include <low.h>\nint a(void) { return LOW + R_DEPTH + 0; }\n"),
        ("low/b.c", "#include \"rounds/options.h\"\nconst char *b(void) { return R_NAME; }\nint b_n = 0;\n"),
        ("extra/e.c", "#include \"rounds/options.h\"\n#include <low.h>\nint e(void) { return EXTRA_LOW + 0; }\n"),
        ("shared.c", "#include <low.h>\nint shared(void) { return LOW + 0; }\n"),
        (
            "main.c",
            "#include <words.h>\n#include <low.h>\n#if __has_include(<late.h>)\n#include <late.h>\n#endif\n\
             int main(void) { return (words[0] == 't' ? shared() : 1) + 0; }\n",
        ),
    ]);
    let shadow = "#undef LOW\n#define LOW 1\n#define EXTRA_LOW 1\nint shared(void);\n";
    World {
        tree,
        host,
        edited: owned(&["main.c", "shared.c", "low/a.c", "low/b.c", "second/low.h", "extra/e.c", "words.txt"]),
        options: vec![switch("fast"), switch("extra"), depth(), ("name".into(), owned(&["rock0", "rock1", "rock2"]))],
        sources: Some("low".into()),
        shadows: owned(&["first/low.h", "second/late.h"]).into_iter().map(|name| (name, shadow.into())).collect(),
    }
}

const ADD_ON: &str = r#"format = 1
[add-on]
name = "more"
version = "1"
tree = "rounds"
requires = "depth < 9"
[option.loud]
kind = "switch"
[option.far]
kind = "number"
range = [0, 9]
default = 1
[part.more]
kind = "program"
sources = ["src/*.c", { when = "loud", add = ["loud/*.c"] }]
include = ["first", "second"]
uses = ["low", "shared"]
"#;

/// The small tree with an add-on, to which everything happens as well.
fn with_add_on() -> World {
    let mut world = small();
    let place = |name: &str| world.host.at("brought").join(name).display().to_string();
    let files = [
        ("boltboard.toml", ADD_ON),
        ("second/more.h", "#define MORE 0\n#ifdef R_LOUD\n#define LOUD 1\n#endif\nint a(void);\n"),
        (
            "src/main.c",
            "#include \"rounds/options.h\"\n#include <more.h>\nint main(void) { return a() + MORE + R_FAR + 0; }\n",
        ),
        ("loud/l.c", "#include \"rounds/options.h\"\n#include <more.h>\nint l(void) { return LOUD + 0; }\n"),
    ];
    for (name, text) in files {
        world.tree.write(&place(name), text);
    }
    world.tree.run(&format!("add-on add {}", place(""))).code(0);
    world.edited.extend([place("src/main.c"), place("second/more.h"), place("loud/l.c")]);
    let far = ("far".to_string(), (0..10).map(|n| n.to_string()).collect());
    world.options.extend([switch("loud"), switch("more"), far]);
    world.sources = Some(place("src"));
    let shadow = "#undef MORE\n#define MORE 1\n#define LOUD 1\nint a(void);\n";
    world.shadows.push((place("first/more.h"), shadow.into()));
    world
}

/// A tree of some libraries of several kinds, headers that include each other, and options that ask for each other.
fn random(seed: u64) -> World {
    let mut chance = fastrand::Rng::with_seed(seed);
    let (host, tree) = (Scratch::new(), Scratch::new());
    compiler(&host, 0);
    let (options, headers, libraries) = (chance.usize(2..6), chance.usize(2..6), chance.usize(1..5));
    let mut board = format!(
        "format = 1\n[tree]\nname = \"random\"\nversion = \"1\"\n[toolchain]\nc-compiler = \"{}/cc\"\n\
         c-flags = [\"-O1\"]\n[header.options]\noutput = \"r/options.h\"\nprefix = \"R_\"\n",
        host.path().display()
    );
    for option in 0..options {
        let _ = writeln!(board, "[option.o{option}]\nkind = \"switch\"");
        if option > 0 && chance.bool() {
            let _ = writeln!(board, "requires = \"o{}\"", chance.usize(0..option));
        }
    }
    let mut edited = Vec::new();
    let mut shadows = Vec::new();
    for header in 0..headers {
        let mut text = format!("#ifndef H{header}\n#define H{header}\n#include <r/options.h>\n");
        if header > 0 && chance.bool() {
            let _ = writeln!(text, "#include <h{}.h>", chance.usize(0..header));
        }
        let option = chance.usize(0..options);
        let _ =
            writeln!(text, "#ifdef R_O{option}\n#define G{header}(x) (x)\n#else\n#define G{header}(x) (-(x))\n#endif");
        let _ = write!(text, "#endif\n#undef V{header}\n#define V{header} 0\n");
        tree.write(&format!("second/h{header}.h"), &text);
        edited.push(format!("second/h{header}.h"));
        shadows.push((format!("first/h{header}.h"), format!("#define V{header} 1\n#define G{header}(x) (x)\n")));
    }
    let mut uses = Vec::new();
    for library in 0..libraries {
        let kind = ["static-library", "shared-library", "objects"][chance.usize(0..3)];
        let sources = chance.usize(1..4);
        let when = format!("{{ when = \"o{}\", add = [\"l{library}/more/*.c\"] }}", chance.usize(0..options));
        let _ = writeln!(
            board,
            "[part.l{library}]\nkind = \"{kind}\"\nsources = [\"l{library}/*.c\", {when}]\n\
             include = [\"first\", \"second\"]\nflags = [{{ when = \"o{}\", add = [\"-O2\"] }}]",
            chance.usize(0..options)
        );
        for source in 0..sources {
            let (one, two) = (chance.usize(0..headers), chance.usize(0..headers));
            let option = chance.usize(0..options);
            let text = format!(
                "#include <h{one}.h>\n#include <h{two}.h>\n#ifdef R_O{option}\nint x{library}_{source} = V{two};\n#endif\n\
                 int l{library}_{source}(void) {{ return G{one}(V{one}) + 0; }}\n"
            );
            tree.write(&format!("l{library}/s{source}.c"), &text);
            edited.push(format!("l{library}/s{source}.c"));
        }
        tree.write(&format!("l{library}/more/m.c"), &format!("int m{library} = 0;\n"));
        uses.push(format!("\"l{library}\""));
    }
    let _ = writeln!(
        board,
        "[part.text]\nkind = \"generated\"\ncommand = [\"sh\", \"-c\", \"sed s/9/8/ words.txt > ${{step:output}}\"]\n\
         reads = [\"words.txt\"]\noutput = [\"words.h\"]\n[part.prog]\nkind = \"program\"\nsources = [\"main.c\"]\n\
         include = [\"first\", \"second\"]\nuses = [\"text\", {}]",
        uses.join(", ")
    );
    tree.write("words.txt", "#define WORDS 0\n");
    let calls: Vec<String> = (0..libraries).map(|library| format!("l{library}_0()")).collect();
    let declared: String = (0..libraries).map(|library| format!("int l{library}_0(void);\n")).collect();
    let text =
        format!("#include <words.h>\n{declared}int main(void) {{ return {} + WORDS + 0; }}\n", calls.join(" + "));
    tree.write("main.c", &text);
    tree.write("boltboard.toml", &board);
    edited.extend(owned(&["main.c", "words.txt"]));
    let options = (0..options).map(|option| (format!("o{option}"), owned(&["off", "on"]))).collect();
    World { tree, host, edited, options, sources: Some("l0".into()), shadows }
}

/// The demo tree, with a number to edit at the end of each of its C files, and all its switches and modules.
fn skerry() -> World {
    let tree = Scratch::skerry();
    let mut edited = Vec::new();
    for file in super::files_below(tree.path().to_path_buf()) {
        let name = file.strip_prefix(tree.path()).expect("in the tree").display().to_string();
        if name.ends_with(".c") {
            let text = tree.read(&name);
            tree.write(&name, &format!("{text}static const int edited_here __attribute__((used)) = 0;\n"));
            edited.push(name);
        }
    }
    let answer = tree.run("options --json").code(0).json();
    let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_string();
    let mut options = Vec::new();
    for option in answer["options"].as_array().into_iter().flatten() {
        let values = match option["kind"].as_str() {
            Some("switch") => owned(&["off", "on"]),
            Some("module") => owned(&["off", "loadable", "builtin"]),
            _ => Vec::new(),
        };
        if !values.is_empty() {
            options.push((text(&option["name"]), values));
        }
    }
    World { tree, host: Scratch::new(), edited, options, sources: None, shadows: Vec::new() }
}
