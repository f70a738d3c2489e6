//! Reports of tests in the XML form that test runners and build servers share.

use boltboard_core::board::Board;
use boltboard_core::run::{TestOutcome, TestReport};

/// Writes reports as XML. What cannot stand in XML is left out of what a test said.
pub fn report(board: &Board, reports: &[TestReport]) -> String {
    let tree = escaped(&board.tree.name);
    let of = |wanted: fn(&TestOutcome) -> bool| reports.iter().filter(|report| wanted(&report.outcome)).count();
    let failures = of(|outcome| matches!(outcome, TestOutcome::Failed(_)));
    let skipped = of(|outcome| matches!(outcome, TestOutcome::Unchanged | TestOutcome::NotThere(_)));
    let seconds: f64 = reports.iter().map(|report| report.wall.as_secs_f64()).sum();
    let counts = format!("tests=\"{}\" failures=\"{failures}\" errors=\"0\"", reports.len());
    let mut text = format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites name=\"{tree}\" {counts} time=\"{seconds:.3}\">\n    \
         <testsuite name=\"{tree}\" {counts} skipped=\"{skipped}\" time=\"{seconds:.3}\">\n"
    );
    reports.iter().for_each(|report| text.push_str(&case(board, &tree, report)));
    text.push_str("    </testsuite>\n</testsuites>\n");
    text
}

fn case(board: &Board, tree: &str, report: &TestReport) -> String {
    let name = escaped(&board.tests[report.test].name);
    let mut inner = match &report.outcome {
        TestOutcome::Passed => String::new(),
        TestOutcome::Failed(why) => format!("            <failure message=\"{}\"/>\n", escaped(why)),
        TestOutcome::Unchanged => skipped("it passed, and nothing that it runs or reads has changed since"),
        TestOutcome::NotThere(Some(condition)) => skipped(&format!("only while {condition}")),
        TestOutcome::NotThere(None) => "            <skipped/>\n".into(),
    };
    if !report.said.is_empty() {
        inner.push_str(&format!("            <system-out>{}</system-out>\n", escaped(&report.said)));
    }
    let head = format!("<testcase name=\"{name}\" classname=\"{tree}\" time=\"{:.3}\"", report.wall.as_secs_f64());
    if inner.is_empty() {
        format!("        {head}/>\n")
    } else {
        format!("        {head}>\n{inner}        </testcase>\n")
    }
}

fn skipped(why: &str) -> String {
    format!("            <skipped message=\"{}\"/>\n", escaped(why))
}

/// Spells a text for an attribute or between tags. Characters that no XML can hold are left out, and so are the codes of colours.
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in anstream::adapter::strip_str(text).to_string().chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\n' | '\t' => out.push(c),
            c if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') => {}
            c => out.push(c),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_stand_in_xml() {
        assert_eq!(escaped("a<b> & \"c\"\n\u{1b}[31mred\u{1b}[0m\u{0}\u{7f}é"), "a&lt;b&gt; &amp; &quot;c&quot;\nredé");
    }
}
