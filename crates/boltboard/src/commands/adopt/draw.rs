//! Writing a description: for the first time, again, and with one more option.

use std::collections::BTreeMap;
use std::path::Path;

use boltboard_core::adopt::{
    DifferAsk, DifferFault, Drawing, Question, Watched, again, differ, families_to_ask, hints,
};
use boltboard_core::base::files::{read_text, write_below, write_whole};
use boltboard_core::work::Places;

use super::prove::proof_of;
use super::{Adopted, DEFINITIONS, DRAWN, WORK, no_description};
use crate::args::Global;
use crate::commands::ask::Asker;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::text::next_line;
use crate::render::{Screen, adopt as render, json};

/// The name of the build that was drawn last lies there.
const DRAWN_FROM: &str = "drawn-from";

/// Writes the description, never over one.
pub(super) fn draw_it(
    global: &Global,
    screen: &Screen,
    adopted: &mut Adopted,
    name: &str,
    into: Option<&Path>,
) -> Result<Exit, Stop> {
    let watched = adopted.load(name)?;
    let folder = adopted.description(into);
    let file = folder.join(DEFINITIONS);
    if file.symlink_metadata().is_ok() {
        let diagnostic = Diagnostic::new(format!("there already is a description: {}", file.display()))
            .help("Move it away, or write the new one elsewhere with `--into DIR`.".to_string());
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    }
    let drawing = asked(global, screen, adopted, &watched, &folder)?;
    write_below(&folder, &drawing.files)?;
    // The definitions come last: until then, nobody takes the folder for a description.
    write_whole(&file, drawing.text.as_bytes())?;
    note_drawn(adopted, &drawing, name)?;
    // From now on, every command works within the tree as well.
    let places = Places { board: folder.clone(), sources: adopted.tree.clone(), work: Some(folder.join(WORK)) };
    adopted.work.remember(&places)?;
    if global.json {
        screen.json(&json::adopt_drawn(&file, &drawing));
    } else {
        screen.out(&render::drawn(&file, &drawing, name, into));
    }
    Ok(Exit::Done)
}

/// Takes over what has changed since the last drawing; what a person changed as well stays, and is told.
pub(super) fn draw_again(
    global: &Global,
    screen: &Screen,
    adopted: &mut Adopted,
    name: &str,
    into: Option<&Path>,
) -> Result<Exit, Stop> {
    let watched = adopted.load(name)?;
    let folder = adopted.description(into);
    let file = folder.join(DEFINITIONS);
    let mine = read_text(&file)?.ok_or_else(|| no_description(&folder))?;
    let drawn = adopted.work.watched().join(DRAWN);
    let Some(before) = read_text(&drawn.join(DEFINITIONS))? else {
        let diagnostic =
            Diagnostic::new("what was drawn before is not known any more, so nothing can be told apart".to_string())
                .next("boltboard adopt draw --into ../drawn-anew", "draw it anew beside the tree");
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    };
    let drawing = asked(global, screen, adopted, &watched, &folder)?;
    let mut merged =
        again(&before, &mine, &drawing.text).map_err(|why| Stop::new(Exit::Wrong, Diagnostic::new(why)))?;
    let mut files = BTreeMap::new();
    for (place, text) in &drawing.files {
        let (own, old) = (read_text(&folder.join(place))?, read_text(&drawn.join(place))?);
        // What is drawn as it was says nothing of what a person made of it.
        if own.as_ref() == Some(text) || old.as_ref() == Some(text) {
            continue;
        }
        if own.is_none() || own == old {
            merged.taken.push(format!("changed: {place}"));
            files.insert(place.clone(), text.clone());
        } else {
            let beside = format!("{place}.drawn");
            merged.conflicts.push(format!("{place}: drawn again as {beside}"));
            files.insert(beside, text.clone());
        }
    }
    write_below(&folder, &files)?;
    write_whole(&file, merged.text.as_bytes())?;
    note_drawn(adopted, &drawing, name)?;
    if global.json {
        screen.json(&json::adopt_again(&file, &merged));
    } else {
        screen.out(&render::drawn_again(&file, &merged, name));
    }
    Ok(if merged.conflicts.is_empty() { Exit::Done } else { Exit::No })
}

/// Asks what is not known, where a person is there, and draws with the answers.
fn asked(
    global: &Global,
    screen: &Screen,
    adopted: &mut Adopted,
    watched: &Watched,
    folder: &Path,
) -> Result<Drawing, Stop> {
    let drawing = adopted.drawing(watched, folder);
    let ask = Asker::new(global, screen);
    if !ask.asks {
        return Ok(drawing);
    }
    let mut questions = drawing.questions.clone();
    if adopted.answers.hints.is_none() {
        // Finding them reads all sources, so that is done where somebody answers.
        let families = families_to_ask(&hints(watched, &adopted.host()));
        questions.extend((!families.is_empty()).then_some(Question::Hints(families)));
    }
    if questions.is_empty() {
        return Ok(drawing);
    }
    for question in &questions {
        let answer = ask.text(&render::question(question), None, question.usual());
        adopted.take_answer(question.key(), &answer)?;
    }
    Ok(adopted.drawing(watched, folder))
}

/// Keeps what was drawn, so that a later drawing can be told from a person's edits.
fn note_drawn(adopted: &Adopted, drawing: &Drawing, name: &str) -> Result<(), Stop> {
    let folder = adopted.work.watched().join(DRAWN);
    write_below(&folder, &drawing.files)?;
    write_whole(&folder.join(DRAWN_FROM), name.as_bytes())?;
    write_whole(&folder.join(DEFINITIONS), drawing.text.as_bytes())?;
    Ok(())
}

/// What was typed to find an option.
pub(super) struct DifferWords<'a> {
    pub builds: &'a [String],
    pub option: &'a str,
    pub values: &'a [String],
    pub together: bool,
}

/// Finds an option, writes it, and proves each of its values.
pub(super) fn differ_it(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    ask: &DifferWords<'_>,
    from: Option<&Path>,
) -> Result<Exit, Stop> {
    let builds = ask.builds.iter().map(|name| adopted.load(name)).collect::<Result<Vec<Watched>, Stop>>()?;
    let folder = adopted.description(from);
    let file = folder.join(DEFINITIONS);
    let text = read_text(&file)?.ok_or_else(|| no_description(&folder))?;
    let host = adopted.host();
    let drawn_from = read_text(&adopted.work.watched().join(DRAWN).join(DRAWN_FROM))?;
    let base = ask.builds.iter().position(|name| drawn_from.as_ref() == Some(name)).unwrap_or(0);
    let wanted = DifferAsk {
        option: ask.option,
        text: &text,
        base,
        at: &folder,
        answers: &adopted.answers,
        values: ask.values,
        together: ask.together,
    };
    let differed = differ(&builds.iter().collect::<Vec<_>>(), &host, &wanted).map_err(not_told)?;
    write_below(&folder, &differed.files)?;
    write_whole(&file, differed.text.as_bytes())?;
    if !global.json {
        screen.out(&render::differed(ask.option, &file, &differed));
    }
    let mut proofs = Vec::new();
    for (watched, value) in builds.iter().zip(&differed.values) {
        let tried = vec![format!("{}={value}", ask.option)];
        match proof_of(&Global { tried, ..global.clone() }, screen, adopted, watched, &folder)? {
            Ok(proof) => proofs.push((value.as_str(), proof)),
            Err(exit) => return Ok(exit),
        }
    }
    if global.json {
        screen.json(&json::adopt_differed(&file, &differed, &proofs));
    } else {
        for (value, proof) in &proofs {
            screen.out(&format!("\n{}={value}: {}", ask.option, render::proof_lines(proof, screen.width)));
        }
        screen.out(&next_line(format!("boltboard show {}", ask.option), "the option"));
    }
    Ok(if proofs.iter().all(|(_, proof)| proof.holds()) { Exit::Done } else { Exit::No })
}

fn not_told(fault: DifferFault) -> Stop {
    let diagnostic = Diagnostic::new(fault.to_string());
    let diagnostic = match fault {
        DifferFault::Several(_) => {
            diagnostic.help("watch two builds that differ in one setting, or say `--together` if it is one")
        }
        DifferFault::Unclear(lines) => lines
            .into_iter()
            .fold(diagnostic, Diagnostic::note)
            .help("nothing was changed: write this option by hand, or change the description as it says and ask again"),
        DifferFault::Same => diagnostic.help("watch one of them again, from nothing and with the setting"),
        DifferFault::Known(name) => diagnostic.next(format!("boltboard show {name}"), "what it is"),
        DifferFault::Unreadable(_) => diagnostic.next("boltboard lint", "what is wrong in it"),
        DifferFault::OtherTree => diagnostic.help("watch all builds in one tree"),
        DifferFault::Values { .. } => diagnostic.help("name one value for each build: `--values one,other,third`"),
        DifferFault::File(fault) => return fault.into(),
    };
    Stop::new(Exit::WrongUse, diagnostic)
}
