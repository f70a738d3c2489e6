//! Does a source surely come out otherwise after preprocessing when macros change? Where it does, nobody need look.
//!
//! A quick, partial answer from the source alone: a yes is sure as long as no header defines the macro anew, and a
//! wrong yes costs one compile. No answer is given about headers, about groups within groups, and about macros that the source defines.

use std::collections::{BTreeMap, BTreeSet};

use super::Dialects;
use super::tokens::Tokens;

/// What macros stood for before and stand for now; `None` where one is not defined.
pub type Changes<'c> = BTreeMap<&'c str, (Option<&'c str>, Option<&'c str>)>;

/// Tells whether code that stands in no group names a macro, or code of an outermost group comes or goes with one.
/// Where dialects disagree about the text, nothing is said.
pub fn surely_differs(source: &[u8], changes: &Changes<'_>, dialects: &Dialects) -> bool {
    let mut each = dialects.each();
    let (Some(dialect), None) = (each.next(), each.next()) else { return false };
    let (text, directives) = Tokens::without_comments(source, dialect);
    let own = directives.iter().filter_map(|directive| defined_by(&text[directive.clone()]));
    let own: BTreeSet<&str> = own.collect();
    let changes: Changes<'_> =
        changes.iter().filter(|(name, _)| !own.contains(*name)).map(|(name, change)| (*name, *change)).collect();
    let mut group = Group::None;
    let mut depth = 0_usize;
    let mut from = 0;
    for directive in directives.iter().cloned().chain(std::iter::once(text.len()..text.len())) {
        let code = text.get(from..directive.start).unwrap_or_default();
        from = directive.end;
        match depth {
            0 => {
                let tokens = Tokens::of(code, dialects);
                if changes.keys().any(|name| tokens.names(name)) {
                    return true;
                }
            }
            1 if group == Group::Turns && !code.trim_ascii().is_empty() => return true,
            _ => {}
        }
        let Some((word, rest)) = words_of(&text[directive]) else { continue };
        match word {
            "if" | "ifdef" | "ifndef" => {
                if depth == 0 {
                    group = if turns(word, rest, &changes) { Group::Turns } else { Group::Stays };
                }
                depth += 1;
            }
            "elif" | "elifdef" | "elifndef" if depth == 1 => group = Group::Stays,
            "endif" => depth = depth.saturating_sub(1),
            _ => {}
        }
    }
    false
}

/// What a change does to the outermost group that is being read.
#[derive(PartialEq)]
enum Group {
    None,
    /// Nothing that is sure.
    Stays,
    /// One of its halves takes the place of the other.
    Turns,
}

/// The macro that a directive defines, or takes away.
fn defined_by(directive: &[u8]) -> Option<&str> {
    let (_, rest) = words_of(directive).filter(|(word, _)| matches!(*word, "define" | "undef"))?;
    rest.split(|c: char| !c.is_ascii_alphanumeric() && c != '_').next()
}

/// The name of a directive, and what follows it.
fn words_of(directive: &[u8]) -> Option<(&str, &str)> {
    let text = std::str::from_utf8(directive).ok()?;
    let text = text.strip_prefix('#').or_else(|| text.strip_prefix("%:"))?.trim_start();
    let end = text.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(text.len());
    Some((&text[..end], text[end..].trim()))
}

/// Tells whether a condition that asks for one macro, and for nothing else, comes out the other way.
fn turns(word: &str, condition: &str, changes: &Changes<'_>) -> bool {
    let condition = condition.strip_prefix('!').map_or(condition, str::trim_start);
    let defined = condition.strip_prefix("defined").map(str::trim_start);
    let defined = defined.map(|rest| rest.strip_prefix('(').and_then(|rest| rest.strip_suffix(')')).unwrap_or(rest));
    let (name, asks_whether_defined) = match (word, defined) {
        ("if", None) => (condition, false),
        ("if", Some(name)) => (name.trim(), true),
        _ => (condition, true),
    };
    let Some((before, now)) = changes.get(name) else { return false };
    if asks_whether_defined {
        return before.is_some() != now.is_some();
    }
    let holds = |value: &Option<&str>| match value {
        Some(value) => value.parse::<i64>().ok().map(|number| number != 0),
        None => Some(false),
    };
    matches!((holds(before), holds(now)), (Some(before), Some(now)) if before != now)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_surely_differs_is_told_and_the_rest_left_open() {
        let changes: Changes<'_> = BTreeMap::from([
            ("FOG", (None, Some("1"))),
            ("LAMP", (Some("0"), Some("1"))),
            ("DEPTH", (Some("3"), Some("4"))),
        ]);
        for (case, source, want) in [
            ("code comes", "#ifdef FOG\nint fog;\n#endif\n", true),
            ("code goes", "#ifndef FOG\nint clear;\n#endif", true),
            ("one for the other", "# if !defined( FOG )\n#else\nint fog;\n#endif", true),
            ("without brackets", "#if defined FOG // fog\nint fog;\n#endif", true),
            ("a value that turns", "#if LAMP\nint lamp;\n#endif", true),
            ("a value in code", "int depth(void) { return DEPTH; }", true),
            ("split over lines", "#if\\\ndef FOG\nint fog;\n#endif", false),
            ("it stays defined", "#ifdef LAMP\nint lamp;\n#endif", false),
            ("it stays true", "#if DEPTH\nint depth;\n#endif", false),
            ("nothing but comments", "#ifdef FOG\n/* int fog; */\n#endif", false),
            ("nothing but directives", "#ifdef FOG\n#define HORN 1\n#endif", false),
            ("with another", "#if defined(FOG) && defined(HORN)\nint fog;\n#endif", false),
            ("it is taken away before", "#undef FOG\n#ifdef FOG\nint fog;\n#endif", false),
            ("it has a value of its own", "#define DEPTH 7\nint d = DEPTH;", false),
            ("within another", "#ifdef HORN\n#ifdef FOG\nint fog;\n#endif\nint f = DEPTH;\n#endif", false),
            ("after another", "#ifdef HORN\nint h;\n#elif defined(FOG)\nint fog;\n#endif", false),
            ("in a comment", "/* FOG */ int f; // DEPTH", false),
            ("in a string", "char *s = \"DEPTH\";", false),
            ("another one", "#ifdef HORN\nint horn;\n#endif", false),
            ("unbalanced", "#endif\n#endif\n#else\nint DEPTH_2;", false),
        ] {
            assert_eq!(surely_differs(source.as_bytes(), &changes, &Dialects::default()), want, "{case}");
        }
    }
}
