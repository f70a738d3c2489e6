//! What a drawing leaves out or cannot know: nothing that wrote into the build is passed over in silence.

use std::collections::{BTreeMap, BTreeSet};

use super::model::Model;
use super::paths::{absolute, folder_name};
use super::questions::Question;
use super::story::Story;
use super::words::Word;

/// So many files are named where there are many.
const NAMED: usize = 3;

/// Endings of lists of what compiles read, and of what they note for later.
const LISTS: [&str; 6] = [".d", ".Po", ".Plo", ".Tpo", ".dep", ".gcno"];

/// Notes all of it.
pub(super) fn note(story: &mut Story<'_>, model: &Model, questions: &[Question]) {
    let mut macros: BTreeMap<String, &str> = BTreeMap::new();
    for word in story.compiles.iter().flat_map(|compile| &compile.run.words) {
        let Word::Define(text) = word else { continue };
        let Some((name, value)) = text.split_once('=') else { continue };
        if holds_date(value) {
            macros.insert(name.to_string(), "its value looks like a date or a time, which no two builds have alike");
        } else if value.contains(&format!("{}/", story.tree)) {
            macros.insert(name.to_string(), "its value holds the place of this tree, which others do not have");
        }
    }
    for question in questions {
        match question {
            Question::Version | Question::Hints(_) => {}
            Question::Names(clashes) => clashes.iter().for_each(|clash| {
                let said = format!("{} have one name: which of them keeps it?", clash.files.join(", "));
                story.doubt(&format!("name {}", clash.name), &said);
            }),
            Question::Flags(flags) => {
                story.doubt(&format!("flags {}", flags.join(" ")), "people may want to choose these: are they options?")
            }
        }
    }
    macros.iter().for_each(|(name, said)| story.doubt(&format!("macro {name}"), said));
    // What a compiler sets for its own parts is none of the build's.
    let own = story.watched.processes.iter().enumerate().filter(|(at, _)| !story.is_within(*at));
    let set = own.flat_map(|(_, process)| &process.variables);
    let set: BTreeMap<String, String> = set.map(|(name, value)| (name.clone(), value.clone())).collect();
    for (name, value) in set {
        story.doubt(
            &format!("variable {name}"),
            &format!("the build set it to `{value}`, and compilers look at it: write what it does as flags"),
        );
    }
    for (product, ways) in &model.delivered.driven {
        let about = story.in_tree(product).unwrap_or(product).to_string();
        story.doubt(&about, &format!("it ran in {ways} ways: no tests are drawn of it"));
    }
    among_sources(story, model);
    left_over(story, model);
}

/// Generated files that lie in folders of sources: these are found first.
fn among_sources(story: &mut Story<'_>, model: &Model) {
    let folders: BTreeSet<&str> = story.before.iter().map(|path| folder_name(path)).collect();
    let is_among = |path: &&str| {
        let below = story.in_tree(path);
        story.is_left(path) && below.is_some_and(|below| folders.contains(folder_name(below)))
    };
    let among: Vec<String> = model.made.files().filter(is_among).map(str::to_string).collect();
    if !among.is_empty() {
        let about = some_of(story, &among);
        let said = "generated among the sources: while it lies there, compiles can read it and not what the description makes; remove it";
        story.doubt(&about, said);
    }
}

/// Files that were left and that nothing drawn makes.
fn left_over(story: &mut Story<'_>, model: &Model) {
    let mut known: BTreeSet<String> = story.compiles.iter().map(|compile| compile.object.clone()).collect();
    known.extend(story.joins.iter().flat_map(|join| [join.output.clone(), story.last_name(&join.output)]));
    for process in &story.watched.processes {
        known.extend(process.responses.keys().map(|word| absolute(&process.folder, &word[1..])));
    }
    // A copy that a command reads is no installation.
    let read = story.all_read();
    let mut by_command: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let (mut own, mut copied, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    for path in story.left.iter().cloned().collect::<Vec<String>>() {
        // Lists of what a compile read, and what lies nowhere near the tree's results.
        let list = LISTS.iter().any(|ending| path.ends_with(ending)) || path.starts_with("/tmp/cc");
        let is_drawn = model.made.part_of(&path).is_some() || model.delivered.explained.contains(&path);
        if known.contains(&path) || list || is_drawn {
            continue;
        }
        let origin = story.origin(&path, u32::MAX);
        if origin != path {
            if !is_header(&path) && !read.contains(&path) {
                copied.push(path);
            }
            continue;
        }
        match story.unit_of(&path, u32::MAX) {
            Some(unit) if !story.is_busy(unit) => {
                by_command.entry(story.words_of(unit).join(" ")).or_default().push(path);
            }
            Some(_) => {}
            None => own.push(path),
        }
    }
    for join in &story.joins {
        if let Some(command) = story.changed_after(&join.output).filter(|_| story.is_left(&join.output)) {
            let file = story.in_tree(&join.output).unwrap_or(&join.output);
            changed.push((command, format!("not understood: it changed {file} after this was linked")));
        }
    }
    changed.iter().for_each(|(command, said)| story.doubt(command, said));
    for (command, files) in by_command {
        let said = format!("not understood: it wrote {}, and no part makes that", some_of(story, &files));
        story.doubt(&command, &said);
    }
    if !own.is_empty() {
        let said = "the build wrote this itself, and no compile or link read it: left out";
        let about = some_of(story, &own);
        story.doubt(&about, said);
    }
    if !copied.is_empty() {
        let about = some_of(story, &copied);
        story.doubt(&about, "copied there by the build, as an installation is: left out");
    }
}

fn is_header(path: &str) -> bool {
    [".h", ".hh", ".hpp", ".hxx", ".inc"].iter().any(|ending| path.ends_with(ending))
}

fn some_of(story: &Story<'_>, files: &[String]) -> String {
    let short = |path: &String| story.in_tree(path).unwrap_or(path).to_string();
    let named: Vec<String> = files.iter().take(NAMED).map(short).collect();
    match files.len().saturating_sub(NAMED) {
        0 => named.join(", "),
        more => format!("{} and {more} more", named.join(", ")),
    }
}

/// Whether a text holds a date such as `2026-11-29` or a time such as `10:15:00`.
fn holds_date(text: &str) -> bool {
    let shape: String = text.chars().map(|c| if c.is_ascii_digit() { '0' } else { c }).collect();
    let date = ["0000-00-00", "0000/00/00", "00:00:00"].iter().any(|form| shape.contains(form));
    let months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];
    date || months.iter().any(|month| text.contains(&format!("{month} ")) && shape.contains("0000"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dates_and_times_are_told_from_versions() {
        for text in ["\"2026-11-29\"", "Nov 29 2026", "at 10:15:00"] {
            assert!(holds_date(text), "{text}");
        }
        for text in ["1.2.3", "20261129", "\"May\"", "10:15"] {
            assert!(!holds_date(text), "{text}");
        }
    }
}
