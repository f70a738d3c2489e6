use super::*;

fn read(text: &str) -> Tokens {
    Tokens::of(text.as_bytes(), &Dialects::default())
}

#[test]
fn names_count_where_the_compiler_sees_them() {
    for (case, text, want) in [
        ("a directive", "#ifdef OPT\n", true),
        ("defined", "#if defined(OPT) && X\n", true),
        ("code", "int a = OPT;", true),
        ("a block comment", "/* OPT */", false),
        ("a line comment", "// OPT", false),
        ("a comment that goes on", "// x \\\nOPT", false),
        ("a string", "char *s = \"OPT\";", false),
        ("a string with a quote", "char *s = \"\\\"OPT\";", false),
        ("a character", "int c = 'O'; // OPT", false),
        ("after a string", "f(\"x\", OPT)", true),
        ("behind a comment that a carriage return ends", "// x\rint a = OPT;", true),
        ("behind a directive that one ends", "#error don't\rint a = OPT;", true),
        ("after an apostrophe in a directive", "#error don't\nOPT", true),
        ("split over lines", "#ifdef O\\\nPT\n", true),
        ("part of a longer name", "int OPTS;", false),
        ("a macro of its own", "#define OPT 1\n", true),
        ("a raw string", "auto s = R\"(OPT)\";", false),
        ("after a raw string", "auto s = R\"x(\")x\"; OPT", true),
        ("after a comment start in a string", "f(\"/*\"); OPT", true),
        ("behind a sign that assembly has before numbers", "movl $OPT, %eax", true),
        ("between such signs", "a$OPT$b", true),
        ("part of a longer name behind one", "movl $OPTS, %eax", false),
        ("a directive behind a mark of the encoding", "\u{feff}#define OPT 1\n", true),
    ] {
        assert_eq!(read(text).names("OPT"), want, "{case}");
    }
}

#[test]
fn code_stands_alike_where_only_directives_and_comments_differ() {
    let text = "/* a */ int x;\n#define N 1 // one\nint y; // last\n";
    for (case, other, want) in [
        ("the same", text, true),
        ("another value", "/* a */ int x;\n#define N 22 // two\nint y; // last\n", true),
        ("a comment at the end", "/* a */ int x;\n#define N 1 // one\nint y; /* or not */\n", true),
        ("a longer comment before code", "/* ab */ int x;\n#define N 1 // one\nint y; // last\n", false),
        ("a line more", "/* a */ int x;\n\n#define N 1 // one\nint y; // last\n", false),
        ("a directive over two lines", "/* a */ int x;\n#define N \\\n 1\nint y; // last\n", false),
        ("a comment that warnings go by", "/* fall through */ int x;\n#define N 1 // one\nint y; // last\n", false),
        ("other code", "/* a */ int z;\n#define N 1 // one\nint y; // last\n", false),
    ] {
        assert_eq!(Tokens::stand_alike(text.as_bytes(), other.as_bytes(), &Dialects::default()), want, "{case}");
    }
}

#[test]
fn headers_and_pasting_are_seen() {
    let text = "#include <a/b.h>\n # include\t\"c.h\" // x\n#if __has_include(<d.h>)\n#include \"e\\\n.h\"\n#include\x0c\"f.h\"\n";
    let tokens = read(text);
    let include = |name: &str, beside, asks| Include { name: name.into(), beside, asks };
    let want = [
        include("a/b.h", false, Asks::Content),
        include("c.h", true, Asks::Content),
        include("d.h", false, Asks::Presence),
        include("e.h", true, Asks::Content),
        include("f.h", true, Asks::Content),
    ];
    assert_eq!(tokens.includes, want);
    assert!(!tokens.pastes && !tokens.computed && !tokens.asks_openly);
    for (case, text, pastes) in [
        ("pasting", "#define CAT(a, b) a ## b\n", true),
        ("pasting with digraphs", "#define CAT(a, b) a %:%: b\n", true),
        ("in a string", "char *s = \"##\";\n", false),
    ] {
        assert_eq!(read(text).pastes, pastes, "{case}");
    }
    for (case, text, computed, asks_openly) in [
        ("a header through a macro", "#include HDR\n", true, false),
        ("a wrapped question", "#define HI(x) __has_include(x)\n", false, true),
        ("a question through a macro", "#if __has_include(HDR)\n", false, true),
        (
            "whether one can ask",
            "#ifdef __has_include\n#if defined(__has_include)\n#if defined __has_include\n",
            false,
            false,
        ),
    ] {
        let tokens = read(text);
        assert_eq!((tokens.computed, tokens.asks_openly), (computed, asks_openly), "{case}");
    }
    assert!(read("#include HDR\n").names("HDR"));
}

#[test]
fn dialects_make_other_tokens() {
    let of = |standard| Dialects::of(&[standard]);
    let (c90, gnu90) = (of(Standard::C90 { extended: false }), of(Standard::C90 { extended: true }));
    let (c11, gnu11) = (of(Standard::C99 { extended: false }), of(Standard::C99 { extended: true }));
    let cxx = of(Standard::Cxx17);
    for (case, text, dialects, want) in [
        ("a comment that is none", "int a = 4 //* */ OPT\n", &c90, true),
        ("the same with extensions", "int a = 4 // OPT\n", &gnu90, false),
        (
            "a raw string that is none",
            "const char *y = R\"x(\" \"b\"; int x = OPT; const char *z = \")x\";",
            &c11,
            true,
        ),
        ("one that is one", "const char *y = R\"x(\" \"b\"; int x = OPT; const char *z = \")x\";", &gnu11, false),
        ("a separator", "int x = 1'000 + OPT; int y = 1'0;", &cxx, true),
        ("a trigraph comment", "// what??/\nOPT\n", &c11, false),
        ("none", "// what??/\nOPT\n", &gnu11, true),
        ("a name split by a joined line with blanks", "int x = O\\ \nPT;", &gnu11, true),
        ("a raw string keeps its lines", "auto s = R\"(\\\n)\"; OPT", &cxx, true),
        ("a pragma", "_Pragma(\"omp num_threads(OPT)\")", &gnu11, true),
        ("everywhere", "/* OPT */", &Dialects::default().everywhere(), true),
    ] {
        assert_eq!(Tokens::of(text.as_bytes(), dialects).names("OPT"), want, "{case}");
    }
    let pastes = Tokens::of(b"??=define C(a,b) a??=??=b\n", &c11);
    assert!(pastes.pastes && !Tokens::of(b"a??=??=b\n", &gnu11).pastes);
    for (case, text, want) in [
        ("what it is given", "#define P(x) _Pragma(x)\n", true),
        ("a string", "_Pragma(\"once\")", false),
        ("what it makes a string of", "#define W(text) _Pragma (#text)\n", false),
    ] {
        assert_eq!(read(text).pragmas, want, "{case}");
    }
    assert!(Tokens::of(b"/* OPT */", &c90.or_any()).names.is_empty());
}

/// A name that stands as code, spelt in ways that the compiler joins again, between pieces of text that are whole in themselves.
fn spelt() -> impl proptest::strategy::Strategy<Value = String> {
    use proptest::prelude::*;
    let join = prop::sample::select(vec!["", "\\\n", "\\ \n", "\\\r\n", "\\\n\\\n"]);
    let name = prop::collection::vec(join, 6).prop_map(|joins| {
        let pairs = "OPTION".chars().zip(joins.into_iter().chain([""]));
        pairs.map(|(c, join)| format!("{c}{join}")).collect::<String>()
    });
    let piece = prop::sample::select(vec![
        " ",
        "\n",
        "\t",
        "int a;\n",
        "/* ' \" OTHER */",
        "// it's \"\n",
        "\"/* \\\" */\"",
        "'\"'",
        "#if 0\ndon't\n#endif\n",
        "\n#error don't\n",
        "1'0",
        "0x1e+",
        "\n#define X(a) #a\n",
        "\n#include <a'b.h>\n",
        "<:",
        "%:%:",
        "...",
        "\u{fffd}",
    ]);
    let pieces = || prop::collection::vec(piece.clone(), 0..6).prop_map(|pieces| pieces.concat());
    (pieces(), name, pieces()).prop_map(|(before, name, after)| format!("{before}\n{name}\n{after}"))
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(2000))]

    #[test]
    fn whatever_stands_around_it_a_name_is_found(text in spelt()) {
        for standard in ["gnu90", "c99", "gnu99", "gnu11", "c2x", "gnu2x"] {
            let dialects = Dialects::of(&[Standard::named(standard).expect("a standard")]);
            let tokens = Tokens::of(text.as_bytes(), &dialects);
            proptest::prop_assert!(tokens.names("OPTION"), "{standard}: {text:?}");
        }
    }

    #[test]
    fn whatever_bytes_there_are_they_are_read(
        bytes in proptest::collection::vec(proptest::prop_oneof![
            proptest::sample::select(b"\\\n\r?/'\"R(){}<>#%:_ux8L \t\x0c\0".to_vec()),
            proptest::num::u8::ANY,
        ], 0..200),
    ) {
        for standard in ["c90", "gnu90", "gnu99", "c2x"] {
            let dialects = Dialects::of(&[Standard::named(standard).expect("a standard")]);
            // It comes to an end, and the same text stands like itself.
            Tokens::of(&bytes, &dialects);
            proptest::prop_assert!(Tokens::stand_alike(&bytes, &bytes, &dialects));
        }
    }
}
