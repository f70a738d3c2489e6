//! What was watched, drawn and proved.

use std::path::Path;

use boltboard_core::adopt::{Again, Differed, Difference, Doubt, Drawing, Effect, Hint, Proof, Question, Watched, Why};
use boltboard_core::base::shell_word;

use super::text::{Cell, Role, columns, count, next_line, next_lines, paint, wrap};
use crate::fault::Next;

/// The most differences and doubts that are told one by one.
const MANY: usize = 20;

/// Where one stands, and what comes next.
pub fn status(tree: &Path, names: &[String], drawn: Option<&Path>, own: bool) -> String {
    let mut out = String::new();
    if own {
        out.push_str(&format!("{} has a description: boltboard.toml.\n", tree.display()));
        out.push_str(&next_line("boltboard", "what it is"));
        return out;
    }
    if names.is_empty() {
        out.push_str(&format!("No build of {} was watched yet.\n", tree.display()));
        out.push_str(
            "Remove what earlier builds made, and run the usual build under `boltboard adopt watch -- COMMAND`.\n",
        );
        out.push_str(&next_line("boltboard adopt watch --help", "how a build is watched"));
        return out;
    }
    out.push_str(&format!("Watched builds of {}: {}.\n", tree.display(), names.join(", ")));
    let name = if names.iter().any(|name| name == "build") { String::new() } else { format!(" --name {}", names[0]) };
    let mut next = vec![Next::new(format!("boltboard adopt seen{name}"), "what was understood")];
    match drawn {
        None => next.push(Next::new(format!("boltboard adopt draw{name}"), "write the description")),
        Some(folder) => {
            out.push_str(&format!("The description lies in {}.\n", folder.display()));
            next.push(Next::new(format!("boltboard adopt prove{name}"), "build by it and compare"));
        }
    }
    out.push_str(&next_lines(&next, 0));
    out
}

fn with_name(watched: &Watched) -> String {
    if watched.name == "build" { String::new() } else { format!(" --name {}", watched.name) }
}

fn summary(drawing: &Drawing) -> String {
    let counts = &drawing.counts;
    let mut parts = vec![
        count(counts.compiles, "compile", "compiles"),
        count(counts.joins, "link or archive", "links and archives"),
    ];
    if counts.generated > 0 {
        parts.push(count(counts.generated, "generated part", "generated parts"));
    }
    if counts.probes > 0 {
        parts.push(count(
            counts.probes,
            "question to the compiler about the host",
            "questions to the compiler about the host",
        ));
    }
    format!("{} of {}", parts.join(", "), count(counts.processes, "process", "processes"))
}

/// What a person is asked.
pub fn question(question: &Question) -> String {
    match question {
        Question::Version => "Version of the tree".into(),
        Question::Flags(flags) => {
            format!("All is compiled with {}. Is that for people to choose (options), or fixed", flags.join(" "))
        }
        Question::Names(clashes) => {
            let told: Vec<String> =
                clashes.iter().map(|clash| format!("{} ({})", clash.name, clash.files.join(", "))).collect();
            format!(
                "Several files have one name: {}. Number them (numbered), name them after their folders (folders), or write \
                 which file keeps it",
                told.join("; ")
            )
        }
        Question::Hints(families) => {
            let told = families.iter().map(|(family, names)| {
                let more = if names.len() > 3 { format!(" and {} more", names.len() - 3) } else { String::new() };
                format!("{family} ({}{more})", names.iter().take(3).cloned().collect::<Vec<_>>().join(", "))
            });
            format!("Macros look like options: {}. Which of these become options", told.collect::<Vec<_>>().join("; "))
        }
    }
}

/// What came of watching.
pub fn watched(watched: &Watched, drawing: &Drawing) -> String {
    let mut out = String::new();
    match watched.exit {
        0 => out.push_str(&format!("Watched: {}.\n", summary(drawing))),
        _ => out.push_str(&format!(
            "The build {}. What was seen until then is kept: {}.\n",
            watched.how_it_ended(),
            summary(drawing)
        )),
    }
    if let Some(blind) = &watched.blind {
        out.push_str(&format!("Not all of it was seen: {blind}.\n"));
    }
    let name = with_name(watched);
    let next = if drawing.counts.compiles == 0 {
        out.push_str("No compile was seen. If earlier results were still there, remove them and watch again.\n");
        Next::new(format!("boltboard adopt seen{name}"), "what was seen instead")
    } else {
        Next::new(format!("boltboard adopt seen{name}"), "what was understood, and what not")
    };
    let draw = Next::new(format!("boltboard adopt draw{name}"), "write the description");
    out.push_str(&next_lines(&[next, draw], 0));
    out
}

/// What was understood.
pub fn seen(watched: &Watched, drawing: &Drawing, width: usize) -> String {
    let words: Vec<String> = watched.command.iter().map(|word| shell_word(word)).collect();
    let mut out = format!("{}\n{}.\n\n", paint(Role::Title, &words.join(" ")), summary(drawing));
    let mut rows: Vec<Vec<Cell>> =
        vec![["part", "kind", "sources"].map(|title| (Role::Faint, title.to_string())).to_vec()];
    for (name, kind, sources) in &drawing.parts {
        rows.push(vec![(Role::Name, name.clone()), (Role::Faint, kind.clone()), (Role::Value, sources.to_string())]);
    }
    out.push_str(&columns(&rows, 0, width));
    let (questions, doubts): (Vec<&Doubt>, Vec<&Doubt>) =
        drawing.doubts.iter().partition(|doubt| doubt.said.ends_with('?'));
    if doubts.is_empty() {
        out.push_str("\nAll that wrote into the build was understood.\n");
    }
    for (title, list) in [("To decide", questions), ("Not known, or left out", doubts)] {
        if list.is_empty() {
            continue;
        }
        out.push_str(&format!("\n{}\n", paint(Role::Title, &format!("{title} ({})", list.len()))));
        for doubt in list.iter().take(MANY) {
            let lines = wrap(&format!("{}: {}", doubt.about, doubt.said), width.saturating_sub(2));
            lines.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
        }
        if list.len() > MANY {
            out.push_str(&format!("  and {} more; `--json` lists all\n", list.len() - MANY));
        }
    }
    out.push('\n');
    out.push_str(&next_line(format!("boltboard adopt draw{}", with_name(watched)), "write the description"));
    out
}

/// What was written.
pub fn drawn(file: &Path, drawing: &Drawing, name: &str, into: Option<&Path>) -> String {
    let lines = drawing.text.lines().count();
    let mut out = format!(
        "Wrote {} ({}, {}).\n",
        file.display(),
        count(lines, "line", "lines"),
        count(drawing.parts.len() + drawing.counts.generated, "part", "parts")
    );
    if !drawing.doubts.is_empty() {
        out.push_str(&format!(
            "{} not known: `boltboard adopt seen` lists them.\n",
            count(drawing.doubts.len(), "thing is", "things are")
        ));
    }
    let name = if name == "build" { String::new() } else { format!(" --name {name}") };
    let from = into.map_or(String::new(), |into| format!(" --from {}", shell_word(&into.display().to_string())));
    out.push_str(&next_line(format!("boltboard adopt prove{name}{from}"), "build by it and compare"));
    out
}

/// What a second drawing came to.
pub fn drawn_again(file: &Path, again: &Again, name: &str) -> String {
    if again.taken.is_empty() && again.conflicts.is_empty() {
        return format!("{} says all that is drawn now.\n", file.display());
    }
    let mut out = format!("{}:\n", file.display());
    again.taken.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
    if !again.conflicts.is_empty() {
        let what = count(again.conflicts.len(), "place was", "places were");
        out.push_str(&format!("{what} changed by you as well. Yours stay, with the new drawing above each:\n"));
        again.conflicts.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
    }
    let name = if name == "build" { String::new() } else { format!(" --name {name}") };
    out.push_str(&next_line(format!("boltboard adopt prove{name}"), "build by it and compare"));
    out
}

/// How two builds compare.
/// `overview` is the command that shows the tree.
pub fn proof(proof: &Proof, overview: &str, width: usize) -> String {
    proof_lines(proof, width) + "\n" + &next_line(overview, "the tree by its description")
}

/// The same without what comes next.
pub fn proof_lines(proof: &Proof, width: usize) -> String {
    if proof.objects + proof.outputs == 0 {
        return "Nothing can be compared: the watched build left no object and no finished file.\n".into();
    }
    let objects = count(proof.objects, "object", "objects");
    let same = proof.objects_same + proof.objects_alike;
    let but_debug = match proof.objects_alike {
        0 => String::new(),
        some => format!(" ({some} but for debug information, which names folders)"),
    };
    let mut out = match proof.objects - same {
        0 => format!("All {objects} are the same{but_debug}.\n"),
        other => {
            let differ = if other == 1 { "differs" } else { "differ" };
            format!("{same} of {objects} are the same{but_debug}, {other} {differ}.\n")
        }
    };
    let alike = proof.outputs_alike.len();
    let other = proof.outputs - proof.outputs_same - alike;
    let mut files = vec![format!("{} the same", proof.outputs_same)];
    if alike > 0 {
        files.push(format!("{alike} made of the same objects in another order or with other places in them"));
    }
    if other > 0 {
        files.push(format!("{other} made of objects that differ"));
    }
    let files = format!("{}: {}.", count(proof.outputs, "finished file", "finished files"), files.join(", "));
    wrap(&files, width).iter().for_each(|line| out.push_str(&format!("{line}\n")));
    if !proof.gone.is_empty() {
        let what = count(proof.gone.len(), "file was", "files were");
        out.push_str(&format!("{what} gone at the end of the watched build, and cannot be compared.\n"));
    }
    for difference in proof.differences.iter().take(MANY) {
        out.push_str(&one_difference(difference, width));
    }
    if proof.differences.len() > MANY {
        out.push_str(&format!("and {} more; `--json` lists all\n", proof.differences.len() - MANY));
    }
    out
}

/// The option that was found.
pub fn differed(option: &str, file: &Path, differed: &Differed) -> String {
    let mut out = format!("The option `{option}` is in {}:\n", file.display());
    differed.said.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
    out
}

fn one_difference(difference: &Difference, width: usize) -> String {
    let mut out = format!("\n{}", paint(Role::Title, &difference.theirs));
    match &difference.ours {
        Some(ours) => out.push_str(&format!(" differs from {ours}\n")),
        None => out.push_str(" is made by nothing here\n"),
    }
    let mut command = |who: &str, words: &str| {
        for (at, line) in wrap(words, width.saturating_sub(10)).iter().enumerate() {
            let lead = if at == 0 { who } else { "" };
            out.push_str(&format!("  {lead:<8}{line}\n"));
        }
    };
    command("theirs", &difference.command);
    command("ours", difference.own_command.as_deref().unwrap_or_default());
    if let Some(why) = &difference.why {
        out.push_str(&format!("  {}\n", told(why)));
    }
    out
}

/// What may explain a difference.
pub fn told(why: &Why) -> String {
    match why {
        Why::OtherWords { theirs, ours } => {
            let one = |who: &str, words: &[String]| {
                if words.is_empty() { None } else { Some(format!("only {who}: {}", words.join(" "))) }
            };
            let both: Vec<String> = one("there", theirs).into_iter().chain(one("here", ours)).collect();
            both.join("; ")
        }
        Why::OtherName { theirs, ours } => {
            format!(
                "The source is called {theirs} there and {ours} here; a text that holds its own name differs by that."
            )
        }
    }
}

/// Macros that look like options, by family.
pub fn hints(found: &[Hint], all: bool, width: usize) -> String {
    if found.is_empty() {
        return "No macro looks like an option.\n".into();
    }
    let shown = if all { found } else { &found[..found.len().min(MANY)] };
    let mut families: Vec<(Option<&String>, Vec<&Hint>)> = Vec::new();
    for hint in shown {
        match families.iter_mut().find(|(family, _)| *family == hint.family.as_ref()) {
            Some((_, members)) => members.push(hint),
            None => families.push((hint.family.as_ref(), vec![hint])),
        }
    }
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let titles = ["macro", "a flip compiles", "files", "what it does", "first at"];
    rows.push(titles.map(|title| (Role::Faint, title.to_string())).to_vec());
    for (family, members) in families {
        rows.push(vec![(Role::Title, family.map_or("others".to_string(), |family| format!("{family}_…")))]);
        for hint in members {
            let effects: Vec<String> = told_effects(&hint.effects);
            rows.push(vec![
                (Role::Name, format!("  {}", hint.name)),
                (Role::Value, format!("up to {}", hint.compiles)),
                (Role::Faint, hint.files.to_string()),
                (Role::Faint, effects.join("; ")),
                (Role::Faint, format!("{}:{}", hint.first.0, hint.first.1)),
            ]);
        }
    }
    let mut out = columns(&rows, 0, width);
    if shown.len() < found.len() {
        out.push_str(&format!("{} of {} macros.\n", shown.len(), found.len()));
        out.push_str(&next_line("boltboard adopt hints --all", "all of them"));
    }
    out.push_str(
        "To make one an option, watch a second build with it: `boltboard adopt watch --name with -- COMMAND`,\n",
    );
    out.push_str("then `boltboard adopt differ build with --option NAME`.\n");
    out
}

/// What a macro does, the whole files together.
fn told_effects(effects: &[Effect]) -> Vec<String> {
    let whole: Vec<&String> = effects
        .iter()
        .filter_map(|effect| match effect {
            Effect::WholeFile(file) => Some(file),
            _ => None,
        })
        .collect();
    let others = effects.iter().filter(|effect| !matches!(effect, Effect::WholeFile(_))).map(effect);
    let files = match whole.as_slice() {
        [] => None,
        [one] => Some(format!("all of {one}")),
        [first, rest @ ..] => Some(format!("all of {first} and {}", count(rest.len(), "other file", "other files"))),
    };
    others.chain(files).collect()
}

/// One thing that a macro does.
pub fn effect(effect: &Effect) -> String {
    match effect {
        Effect::Given => "given by this build".into(),
        Effect::InTemplate => "in a header template".into(),
        Effect::Offered => "offered in a comment".into(),
        Effect::Includes { headers, package } => {
            let more = match headers.len() {
                0 | 1 => String::new(),
                some => format!(" and {} more", some - 1),
            };
            let of = package.as_ref().map_or(", which is not here".into(), |package| format!(" of {package}"));
            format!("includes <{}>{more}{of}", headers.first().map_or("", String::as_str))
        }
        Effect::WholeFile(file) => format!("all of {file}"),
    }
}
