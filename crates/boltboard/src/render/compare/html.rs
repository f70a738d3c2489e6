//! A comparison as a page that stands by itself: no network, no other file; all of it is there without its script, which only searches.

use super::{Comparison, PartSide, PartTold, StepsTold, ToBuild, ValueSide};
use crate::render::text::{bytes, count, duration, harmless};

const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// Draws the page.
pub fn page(compared: &Comparison) -> String {
    let title = format!("{}: {}", compared.tree, compared.sides.join(", "));
    let body = [causes(compared), values(compared), parts(compared), sources(compared), steps(compared)].concat();
    let policy = "default-src 'none'; style-src 'unsafe-inline'; script-src 'unsafe-inline'";
    let options = count(compared.options, "option", "options");
    let differ = count(compared.values.len(), "of them differs", "of them differ");
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta http-equiv=\"Content-Security-Policy\" content=\"{policy}\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n<title>{title}</title>\n\
         <style>\n{STYLE}</style>\n</head>\n<body>\n<h1>{title}</h1>\n<p>{options} compared, {differ}.</p>\n\
         <form><input type=\"search\" aria-label=\"Search\" placeholder=\"Search options, parts, sources, steps\">\
         <output></output></form>\n{body}<script>\n{SCRIPT}</script>\n</body>\n</html>\n",
        title = text(&title),
    )
}

/// A text as HTML shows it; control characters are escaped as everywhere.
fn text(plain: &str) -> String {
    let harmless = harmless(plain);
    harmless.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn cell(class: &str, plain: &str) -> String {
    let class = if class.is_empty() { String::new() } else { format!(" class=\"{class}\"") };
    format!("<td{class}>{}</td>", text(plain))
}

fn section(title: &str, words: &str, head: &[(&str, String)], rows: &[String]) -> String {
    if rows.is_empty() {
        return String::new();
    }
    let head: String = head
        .iter()
        .map(|(class, name)| {
            if class.is_empty() {
                format!("<th>{}</th>", text(name))
            } else {
                format!("<th class=\"{class}\">{}</th>", text(name))
            }
        })
        .collect();
    let rows: String = rows.iter().map(|row| format!("<tr>{row}</tr>\n")).collect();
    let words = if words.is_empty() { String::new() } else { format!("<p>{}</p>\n", text(words)) };
    format!(
        "<section>\n<h2>{}</h2>\n{words}<div class=\"wide\"><table>\n<thead><tr>{head}</tr></thead>\n<tbody>\n{rows}</tbody>\n</table></div>\n</section>\n",
        text(title)
    )
}

/// The names of the sides between other heads.
fn heads(compared: &Comparison, first: &str, class: &'static str, last: &[&str]) -> Vec<(&'static str, String)> {
    let sides = compared.sides.iter().map(|side| (class, side.clone()));
    [("", first.to_string())]
        .into_iter()
        .chain(sides)
        .chain(last.iter().map(|name| ("", (*name).to_string())))
        .collect()
}

fn causes(compared: &Comparison) -> String {
    let row = |cause: &super::CauseTold| {
        let mut row = cell("", &cause.shown_name());
        for (side, said) in cause.sides.iter().zip(&cause.said) {
            let origin =
                said.as_ref().map_or(String::new(), |said| format!("<span class=\"origin\">{}</span>", text(said)));
            row += &match side {
                Some(value) => format!("<td class=\"value\">{}{origin}</td>", text(value)),
                None => format!("<td class=\"none\">not chosen{origin}</td>"),
            };
        }
        row + &cell("", &cause.moves.join(", "))
    };
    let rows: Vec<String> = compared.causes.iter().map(row).collect();
    let words =
        "What people chose, what hosts have and what versions changed: all other differences follow from these.";
    section("Causes", words, &heads(compared, "cause", "", &["moves"]), &rows)
}

fn values(compared: &Comparison) -> String {
    let side = |side: &Option<ValueSide>| match side {
        Some(ValueSide { value, origin, applies }) => {
            let class = if *applies { "value" } else { "value none" };
            format!("<td class=\"{class}\">{}<span class=\"origin\">{}</span></td>", text(value), text(origin))
        }
        None => "<td class=\"none\">no such option</td>".to_string(),
    };
    let row = |value: &super::ValueTold| {
        let sides: String = value.sides.iter().map(side).collect();
        let because = value.causes.iter().filter(|name| **name != value.option).cloned().collect::<Vec<_>>().join(", ");
        let name = format!("<td>{}<span class=\"origin\">{}</span></td>", text(&value.option), text(&value.section));
        name + &sides + &cell("", &because) + &cell("", &value.summary)
    };
    let rows: Vec<String> = compared.values.iter().map(row).collect();
    section("Values", "", &heads(compared, "option", "", &["because of", "what it is"]), &rows)
}

fn parts(compared: &Comparison) -> String {
    let state = |side: &PartSide| cell(if side.is_there() { "number" } else { "number none" }, &side.shown());
    let row = |part: &PartTold| {
        let sides: String = part.sides.iter().map(state).collect();
        cell("", &part.part) + &sides + &format!("<td>{}</td>", growth(&part.sides))
    };
    let mut rows: Vec<String> = compared.parts.iter().map(row).collect();
    rows.extend(compared.changes.iter().map(|change| {
        let sides = change.sides.iter().map(|has| cell("number", if *has { "carried" } else { "" }));
        cell("", &format!("patch:{}", change.name)) + &sides.collect::<String>() + "<td></td>"
    }));
    section("Parts and sizes", "", &heads(compared, "part", "number", &["sections, last against first"]), &rows)
}

fn growth(sides: &[PartSide]) -> String {
    let (Some(first), Some(last)) = (sides.first(), sides.last()) else { return String::new() };
    let pairs = first.sections.iter().zip(&last.sections).filter(|(before, after)| before.1 != after.1);
    let told = pairs.map(|((name, before), (_, after))| {
        let (class, sign) = if after > before { ("more", "+") } else { ("less", "-") };
        format!("{name} <span class=\"{class}\">{sign}{}</span>", bytes(after.abs_diff(*before)))
    });
    told.collect::<Vec<_>>().join(", ")
}

fn sources(compared: &Comparison) -> String {
    let mut rows = Vec::new();
    let left = &compared.sides[0];
    for contents in &compared.contents {
        for (side, sources) in [(left, &contents.left_sources), (&contents.side, &contents.right_sources)] {
            if !sources.is_empty() {
                rows.push(
                    cell("", &contents.part) + &cell("", &format!("only {side}")) + &cell("value", &sources.join(", ")),
                );
            }
        }
        for flags in &contents.flags {
            let commands = count(flags.commands, flags.verb, &format!("{}s", flags.verb));
            let side = |words: &[String]| if words.is_empty() { "nothing".to_string() } else { words.join(" ") };
            let change = format!("{} → {}", side(&flags.left), side(&flags.right));
            let what = format!("{commands}, {left} → {}", contents.side);
            rows.push(cell("", &contents.part) + &cell("", &what) + &cell("value", &change));
        }
    }
    let head = ["part", "where", "sources or flags"].map(|name| ("", name.to_string()));
    section("Sources and flags", "", &head, &rows)
}

fn steps(compared: &Comparison) -> String {
    compared.steps.iter().map(|steps| steps_with(compared, steps)).collect()
}

fn steps_with(compared: &Comparison, steps: &StepsTold) -> String {
    let (left, right) = (&compared.sides[0], &steps.side);
    let list = |label: String, names: &[String]| {
        if names.is_empty() {
            return String::new();
        }
        let items: String = names.iter().map(|name| format!("<li>{}</li>\n", text(name))).collect();
        format!("<details><summary>{} {}</summary>\n<ul>\n{items}</ul>\n</details>\n", names.len(), text(&label))
    };
    let to_go = |to: &ToBuild| {
        let work = to.expected_work_ms.map_or(String::new(), |ms| format!(", about {} of work", duration(ms)));
        let run = count(to.run, "step", "steps");
        format!("To go over to {right} now: {run} to run, {} reused, {} current{work}. ", to.reused, to.current)
    };
    let go_over = steps.to_build.as_ref().map_or(String::new(), to_go)
        + &format!("{} the same for both.", count(steps.same, "step is", "steps are"));
    let lists = [
        list(format!("only for {left}"), &steps.left_only),
        list(format!("only for {right}"), &steps.right_only),
        list("for both, with another result".into(), &steps.differ),
        list("for both, not known to differ until both are built".into(), &steps.unknown),
    ];
    let title = format!("Steps: {left} and {right}");
    format!("<section>\n<h2>{}</h2>\n<p>{}</p>\n{}</section>\n", text(&title), text(&go_over), lists.concat())
}
