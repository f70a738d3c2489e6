//! A tree that is made to be misread: C that names macros in ways that are easily overlooked, options whose values name further
//! macros, headers that are asked for by name only, a generator that calls and asks about what it does not declare, and a
//! compiler that takes further flags from a file beside it.

use std::fmt::Write as _;

use super::worlds::{SEEN_OPTIONS, World, compiler, owned, seen_options};
use crate::harness::Scratch;

const BOARD: &str = r#"format = 1
[tree]
name = "nasty"
version = "1"
[toolchain]
c-compiler = "HOST/cc"
c-flags = ["-O1", "-std=STANDARD", MORE]
link-flags = ["--coverage"]
[header.options]
output = "n/options.h"
prefix = "N_"
OPTIONS
[option.kind]
kind = "pick"
values = ["N_DEPTH", "OWN_A", "7"]
macro = [{ name = "N_KIND", form = "plain" }]
[option.piece]
kind = "text"
default = "N_DE"
macro = [{ name = "N_PIECE", form = "plain" }]
[part.text]
kind = "generated"
command = ["sh", "tools/make.sh", "${step:output}"]
reads = ["tools/make.sh"]
output = ["made.h"]
[part.low]
kind = "static-library"
sources = ["low/*.c"]
include = ["a", "b", "c"]
uses = ["text"]
[part.prog]
kind = "program"
sources = ["main.c"]
uses = ["low"]
"#;

/// Lines of a source; `@` is a number of their own.
const LINES: [&str; 38] = [
    "??=define TRI@(a, b) a ??=??= b\n",
    "%:define DIG@(a, b) a %:%: b\nint dig@ = DIG@(N_DE, PTH) + 0;\n",
    "int a@ = N_KIND + 0;\n",
    "int b@ = CAT(N_PIECE, PTH) + 0;\n",
    "int c@ = VALUE + 0;\n",
    "int d@ = N_DE\\\nPTH + 0;\n",
    "int e@ = N_DE\\  \nPTH + 0;\n",
    "int f@ = 8 //* */ 2 + N_DEPTH\n;\n",
    "// a comment ??/\nint g@ = N_DEPTH + 0;\nint g2@ = 0;\n",
    "/* a comment *\\\n/ int h@ = N_DEPTH; /* */\n",
    "#if defined N_FOG && N_DEPTH > 4\nint i@ = 1;\n#elif defined(N_LAMP)\nint i@ = 2;\n#endif\n",
    "#ifdef N_FOG\nint j@ = 1;\n#endif\n#ifndef N_LAMP\nint k@ = 1;\n#endif\n",
    "_Pragma(\"pack(push, 2)\") struct s@ { char c; int n; }; _Pragma(\"pack(pop)\")\nint l@ = sizeof(struct s@) + N_DEPTH;\n",
    "int m@ = CAT(NUMBERED_, __COUNTER__) + 0;\n",
    "const char *n@ = STR(N_KIND);\n",
    "const char *o@ = \"N_FOG\" \"\\\"\"; int p@ = N_DEPTH + 0;\n",
    "int q@ = '\\'' + N_DEPTH + '\"' + 0;\n",
    "#if __has_include(<late.h>)\n#include <late.h>\nint r@ = LATE;\n#endif\n",
    "#if __has_include(LATE_NAME)\nint s@ = 1;\n#endif\n",
    "#ifdef N_FOG\n#if __has_include(\"beside.h\")\nint t@ = 1;\n#endif\n#endif\n",
    "#include OWN_NAME\nint u@ = OWN_A + 0;\n",
    "%:include <own.h>\nint v@ = OWN_B + 0;\n",
    "??=include <own.h>\nint w@ = 0;\n",
    "#inc\\\nlude <own.h>\nint x@ = OWN_C + 0;\n",
    "#include/* of */<own.h>\nint y@ = OWN_B;\n",
    "#if 0\n#include <never.h>\n#endif\n",
    "#if N_DEPTH == 5\n#include <own.h>\nint z@ = OWN_A;\n#endif\n",
    "#include <chain.h>\nint aa@ = CHAIN + 0;\n",
    "#if 0\n#elif N_DEPTH > 2\nint ab@ = 1;\n#else\nint ab@ = N_KIND;\n#endif\n",
    "#define WORDS@ N_DEPTH +\nint ac@ = WORDS@ 0;\n",
    "#define EMPTY@\nint ad@ = CAT(N_, EMPTY@ DEPTH) + 0;\n",
    "int ae@ = sizeof(STR(CAT(N_PIECE, PTH)));\n",
    "#line 40 \"other.c\"\nint af@ = __LINE__ + N_DEPTH;\n",
    "int ag@ = (N_DEPTH ? 1 : 2);\n#undef N_DEPTH\n#define N_DEPTH 3\n",
    "#include <made.h>\nint ah@ = MADE + 0;\n",
    "#if __has_include(<a_b.h>) || defined N_LAMP\nint ai@ = 1;\n#endif\n",
    "__asm__(\".set abs@, \" STR(N_DEPTH));\n",
    "#pragma GCC poison never_named_@\nint aj@ = __INCLUDE_LEVEL__ + N_DEPTH;\n",
];

const HEAD: &str = "#include <n/options.h>\n#include <own.h>\n#define CAT_(a, b) a##b\n#define CAT(a, b) CAT_(a, b)\n\
    #define STR_(x) #x\n#define STR(x) STR_(x)\n#define OWN_NAME <own.h>\n#define LATE_NAME <late.h>\n\
    #define NUMBERED_0 N_DEPTH\n#define NUMBERED_1 2\n#define NUMBERED_2 OWN_A\n#define NUMBERED_3 4\n#define NUMBERED_4 5\n";

/// What the generator does: it calls a program beside it by a path that it works out, asks whether a file can be run, where a link
/// leads and what a folder holds, and reads a hidden file.
const MAKE: &str = "here=$(dirname \"$0\")\n. \"$here/parts.sh\"\nvalue=$(PATH=\"$here:$PATH\" helper)\n\
    [ -x \"$here/maybe\" ] && value=$((value + 10))\n[ \"$(readlink \"$here/lead\")\" = two ] && value=$((value + 20))\n\
    for file in \"$here\"/list/*; do value=$((value + 100)); done\n\
    [ -e \"$here/.hidden\" ] && value=$((value + 1000 * $(cat \"$here/.hidden\")))\n\
    echo \"#define MADE ($value + $part)\" > \"$1\"\n";

/// Makes one.
pub fn nasty(seed: u64) -> World {
    let mut chance = fastrand::Rng::with_seed(seed);
    let (host, tree) = (Scratch::new(), Scratch::new());
    host.write("more", "-DMORE=0\n");
    compiler(&host, 0);
    host.script("cc", "exec cc $(cat \"$(dirname \"$0\")/more\") \"$@\"");
    let standard = ["gnu90", "gnu99", "c99", "gnu11", "c11", "gnu17", "gnu2x"][chance.usize(0..7)];
    let mut more = vec!["\"-DVALUE=N_KIND\"".to_string()];
    let trigraphs = standard.starts_with('c') || chance.bool();
    if trigraphs {
        more.push("\"-trigraphs\"".into());
    }
    for flag in ["-g", "--coverage", "-g3", "-fno-common"] {
        if chance.u8(0..4) == 0 {
            more.push(format!("\"{flag}\""));
        }
    }
    let board = BOARD
        .replace("HOST", &host.path().display().to_string())
        .replace("OPTIONS", SEEN_OPTIONS)
        .replace("STANDARD", standard);
    tree.write("boltboard.toml", &board.replace("MORE", &more.join(", ")));
    tree.write("a/own.h", "#define OWN_A 1\n#define OWN_B N_DEPTH\n#define OWN_C OWN_\\\nB\n#define OWN_N 0\n");
    tree.write(
        "b/chain.h",
        "#if __has_include_next(<chain.h>)\n#include_next <chain.h>\n#endif\n#ifndef CHAIN\n#define CHAIN 0\n#endif\n",
    );
    let mut edited =
        owned(&["a/own.h", "b/chain.h", "main.c", "tools/make.sh", "tools/parts.sh", "tools/helper", "more.txt"]);
    let sources = chance.usize(1..5);
    for source in 0..sources {
        let mut text = String::from(HEAD);
        for line in 0..chance.usize(2..9) {
            let written = LINES[chance.usize(0..LINES.len())];
            if written.contains("??") && !trigraphs {
                continue;
            }
            text.push_str(&written.replace('@', &format!("{source}_{line}")));
        }
        let _ = writeln!(text, "int low_{source}(void) {{ return 0; }}");
        tree.write(&format!("low/s{source}.c"), &text);
        edited.push(format!("low/s{source}.c"));
    }
    tree.write("more.txt", "0\n");
    let calls: Vec<String> = (0..sources).map(|source| format!("low_{source}()")).collect();
    let declared: String = (0..sources).map(|source| format!("int low_{source}(void);\n")).collect();
    tree.write("main.c", &format!("{declared}int main(void) {{ return {} + 0; }}\n", calls.join(" + ")));
    tree.write("tools/make.sh", &format!("{MAKE}# 0\n"));
    tree.write("tools/parts.sh", "part=1\n");
    tree.script("tools/helper", "echo 1");
    tree.write("tools/maybe", "");
    tree.write("tools/list/one", "");
    std::os::unix::fs::symlink("one", tree.at("tools/lead")).expect("a link");
    let text = |name: &str, text: &str| (name.to_string(), text.to_string());
    let kind = ("kind".into(), owned(&["N_DEPTH", "OWN_A", "7"]));
    let piece = ("piece".into(), owned(&["N_DE", "OWN_A+N_DE", "CAT(N_,DE)"]));
    World {
        tree,
        host,
        edited,
        options: seen_options().into_iter().chain([kind, piece]).collect(),
        sources: Some("low".into()),
        shadows: vec![
            text("c/late.h", "#define LATE 1\n"),
            text("a/late.h", "#define LATE N_DEPTH + 1\n"),
            text("low/beside.h", "\n"),
            text("low/own.h", "#define OWN_A 1\n#define OWN_B N_DEPTH\n#define OWN_C 1\n"),
            text("c/chain.h", "#define CHAIN 1\n"),
            text("c/a_b.h", ""),
            text("tools/.hidden", " 1\n"),
            text("tools/list/two", ""),
        ],
    }
}
