use proptest::prelude::*;

use super::*;

fn atom() -> impl Strategy<Value = Expr<RawAtom>> {
    let name = "[a-z][a-z0-9_-]{0,6}".prop_filter("a name", |n| is_name(n));
    let op = prop::sample::select(vec![Op::Equal, Op::NotEqual, Op::Less, Op::AtMost, Op::More, Op::AtLeast]);
    let bare = "[0-9]{1,4}|-[0-9]{1,3}|[a-z][a-z0-9.-]{0,5}".prop_filter("a value", |v| is_name(v) || v.len() < 4);
    let bare = bare.prop_filter("no word of the language", |v| !matches!(v.as_str(), "and" | "or" | "not"));
    let value = prop_oneof![bare.prop_map(Literal::Bare), "[ -~]{0,6}".prop_map(Literal::Quoted)];
    let what = prop_oneof![
        name.clone().prop_map(RawWhat::Name),
        name.clone().prop_map(RawWhat::Need),
        (name, op, value).prop_map(|(name, op, value)| RawWhat::Compare { name, op, value }),
    ];
    what.prop_map(|what| Expr::Atom(RawAtom { what, span: (0, 0) }))
}

fn tree() -> impl Strategy<Value = Expr<RawAtom>> {
    atom().prop_recursive(6, 60, 4, |inner| {
        prop_oneof![
            inner.clone().prop_map(|e| Expr::Not(Box::new(e))),
            prop::collection::vec(inner.clone(), 2..4).prop_map(|m| Expr::all(m).expect("not empty")),
            prop::collection::vec(inner, 2..4).prop_map(|m| Expr::any(m).expect("not empty")),
        ]
    })
}

proptest! {
    #[test]
    fn printing_and_reading_back_is_the_identity(tree in tree()) {
        let text = tree.to_string();
        prop_assert_eq!(parse(&text).expect("a printed condition can be read"), tree, "{}", text);
    }

    #[test]
    fn reading_never_panics_and_faults_lie_in_the_text(text in "[a-z()=!<>&| \"\\\\:0-9-]{0,40}|\\PC{0,30}") {
        if let Err(fault) = parse(&text) {
            prop_assert!(fault.start + fault.len <= text.len());
        }
    }
}

#[test]
fn prints_one_canonical_form() {
    for (case, text, want) in [
        ("spaces", "  a   and b ", "a and b"),
        ("needless brackets", "((a)) and (b and c)", "a and b and c"),
        ("needed brackets", "a and (b or c)", "a and (b or c)"),
        ("not binds tightest", "not a and b", "not a and b"),
        ("not of a group", "not (a and b)", "not (a and b)"),
        ("not of a comparison", "not a=b", "not a = b"),
        ("comparisons", "depth>=4 or name=\"two words\"", "depth >= 4 or name = \"two words\""),
        ("needs", "need:zlib and not need:gtk-4", "need:zlib and not need:gtk-4"),
    ] {
        assert_eq!(parse(text).map(|t| t.to_string()).as_deref(), Ok(want), "{case}");
    }
}

#[test]
fn says_what_is_wrong_and_where() {
    let deep = format!("{}a", "(".repeat(10_000));
    for (case, text, want, start) in [
        ("nothing", "   ", "the condition is empty", 0),
        ("a sign from C", "a && b", "`&&` is not a word of conditions; write `and`", 2),
        ("not from C", "a and !b", "`!` is not a word of conditions; write `not`", 6),
        ("equality from C", "a == b", "`==` is not a word of conditions; write `=`", 2),
        ("a stray sign", "a and $b", "`$` does not belong in a condition", 6),
        ("no operand", "a and", "expected a name, `not` or `(`, found the end", 5),
        ("no value", "a = )", "expected a value after the comparison, found `)`", 4),
        ("no join", "a b", "expected `and`, `or` or the end, found `b`", 2),
        ("unclosed", "a and (b or c", "the `(` is never closed", 6),
        ("closed twice", "a)", "expected `and`, `or` or the end, found `)`", 1),
        ("open quote", "a = \"x", "the text has no closing quote", 4),
        ("need without name", "need: a", "`need:` must be followed by a name", 0),
        ("a number alone", "4", "expected a name, `not` or `(`, found `4`", 0),
        ("too deep", &deep, "the condition nests deeper than 200 levels", 200),
    ] {
        let fault = parse(text).expect_err(case);
        assert_eq!((fault.to_string().as_str(), fault.start), (want, start), "{case}");
    }
}
