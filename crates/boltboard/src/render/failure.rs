//! A failed step: what its program said, what that leads to, and what to do next.

use std::path::{Path, PathBuf};

use boltboard_core::base::{RelPath, shell_word};
use boltboard_core::board::{Board, LeftOut, OptionId};
use boltboard_core::judge::Reason;
use boltboard_core::plan::Plan;
use boltboard_core::run::{Failure, FirstError, FlagFrom, Hint, Undefined, WasIn};
use boltboard_core::step::{Location, Step};

use super::text::{Role, command_lines, count, next_lines, paint};
use crate::fault::Next;

/// How many lines of what a step said are shown.
const SAID_LINES: usize = 30;
/// How many users of a symbol, or sources that name it, are listed.
const LISTED: usize = 3;

/// What a step works on, as people call it.
pub fn subject(step: &Step) -> String {
    let program = step.checks().map(ToString::to_string);
    program.or_else(|| step.source().map(ToString::to_string)).unwrap_or_else(|| step.name.clone())
}

/// The place of an error as `file:line:column`.
pub fn place(first: &FirstError) -> String {
    let number = |n: Option<usize>| n.map_or(String::new(), |n| format!(":{n}"));
    format!("{}{}{}", first.file, number(first.line), number(first.column))
}

/// Where a file of the tree really lies that comes from elsewhere.
fn elsewhere(board: &Board, file: &str) -> Option<PathBuf> {
    let path = RelPath::parse(file).ok()?;
    board.tree.grafts.over(&path)?;
    board.tree.source(&path).parent().map(Path::to_path_buf)
}

/// Tells of a failed step: its program's own words, what they lead to, the command that repeats it.
pub fn failed(board: &Board, plan: &Plan, failure: &Failure, step: &Step, hints: &[Hint], width: usize) -> String {
    let owner = plan.owner(step);
    let head = paint(Role::Bad, "failed:");
    let mut text = format!("{head} {} {} of part {owner}\n", step.verb(), paint(Role::Title, &subject(step)));
    if let Some(first) = &failure.first {
        let label = paint(Role::Bad, "first error:");
        text.push_str(&format!("  {label} {}: {}\n", place(first), paint(Role::Title, &first.message)));
        if let Some(real) = elsewhere(board, &first.file) {
            text.push_str(&format!("    this file lies in {}\n", real.display()));
        }
    }
    let lines: Vec<&str> = failure.said.lines().collect();
    for line in lines.iter().take(SAID_LINES) {
        text.push_str(&format!("    {line}\n"));
    }
    if lines.len() > SAID_LINES {
        text.push_str(&format!("    and {} more lines in the log\n", lines.len() - SAID_LINES));
    }
    text.push_str(&format!("  {}\n", failure.cause));
    if let Some(because) = changed_since(board, plan, failure, step) {
        text.push_str(&format!("  it ran because {because}\n"));
    }
    let mut next = Vec::new();
    for hint in hints {
        tell(board, step, hint, &mut text, &mut next);
    }
    if let Some(condition) = &failure.brought_by {
        let condition = paint(Role::Name, &board.print(&condition.expr));
        text.push_str(&format!("  it is in the build because {condition} holds\n"));
    }
    if let Some(log) = &failure.log {
        text.push_str(&format!("  {} {}\n", paint(Role::Faint, "log:"), log.display()));
    }
    if !failure.command.is_empty() {
        text.push_str(&command_lines("  command: ", &failure.command, width));
    }
    next.dedup();
    text.push_str(&next_lines(&next, 2));
    text.trim_end().to_string()
}

/// Why a step ran, where that may say more than its words do: it is no news that its own source was edited.
pub fn changed_since(board: &Board, plan: &Plan, failure: &Failure, step: &Step) -> Option<String> {
    let mut reasons = failure.reasons.iter().filter(|reason| match reason {
        Reason::New | Reason::Follows(_) | Reason::OutputMissing(_) => false,
        Reason::Edited(at) => step.source() != Some(at),
        _ => true,
    });
    let first = match reasons.next()? {
        // People know the source that they edited, not its object.
        Reason::Edited(at) if compiled_from(plan, at).is_some() => {
            format!("{} was compiled anew", compiled_from(plan, at)?)
        }
        reason => super::preview::reason(board, plan, reason),
    };
    let more = reasons.count();
    Some(if more == 0 { first } else { format!("{first}, and for {}", count(more, "other reason", "other reasons")) })
}

/// The source of an object.
fn compiled_from<'p>(plan: &'p Plan, object: &Location) -> Option<&'p Location> {
    plan.steps[plan.maker(object)?].source()
}

fn tell(board: &Board, step: &Step, hint: &Hint, text: &mut String, next: &mut Vec<Next>) {
    let mut line = |words: String| text.push_str(&format!("  {words}\n"));
    match hint {
        Hint::ToolCrashed(tool) => line(format!("{tool} itself crashed: that is a fault of {tool}, not of the source")),
        Hint::Undefined(undefined) => undefined_symbol(board, step, undefined, &mut line, next),
        Hint::NoLibrary(name, need) => match need.map(|need| &board.needs[need].name) {
            Some(need) => {
                line(format!("the library {name} is what the need {need} looks for"));
                next.push(Next::new(format!("boltboard survey {need}"), "how it is met"));
            }
            None => line(format!("no need of the tree looks for the library {name}, so `survey` does not list it")),
        },
        Hint::Flag { flag, refused, from } => flag_told(board, flag, *refused, from.as_ref(), &mut line, next),
        Hint::Gone(files) => line(format!("part of it the last time, and not any more: {}", files.join(", "))),
    }
}

fn undefined_symbol(
    board: &Board,
    step: &Step,
    undefined: &Undefined,
    line: &mut dyn FnMut(String),
    next: &mut Vec<Next>,
) {
    let Undefined { symbol, used_by, was_in, parts, needs, left_out, near } = undefined;
    let users: Vec<&str> = used_by.iter().take(LISTED).map(String::as_str).collect();
    let users = if users.is_empty() { String::new() } else { format!(" (used by {})", users.join(", ")) };
    line(format!("nothing that is linked here defines {}{users}", paint(Role::Title, symbol)));
    for WasIn { source, is_there } in was_in {
        let now = if *is_there { "is not built any more" } else { "is gone from the tree" };
        line(format!("  {source} defined it in the last build, and {now}"));
        if *is_there {
            next.push(Next::new(format!("boltboard preview --why {}", shell_word(source)), "why it is not built"));
        }
    }
    let part = step.part.map_or("", |part| board.parts[part].name.as_str());
    for other in parts {
        let other = &board.parts[*other].name;
        line(format!("  part {other} defines it: add \"{other}\" to `uses` of part {part}"));
    }
    for need in needs {
        let need = &board.needs[*need].name;
        line(format!("  the need {need} brings it: add \"{need}\" to `needs` of part {part}"));
    }
    for (file, LeftOut { part, conditions }) in left_out.iter().take(LISTED) {
        let conditions: Vec<String> = conditions.iter().map(|condition| board.print(condition)).collect();
        let only =
            if conditions.is_empty() { String::new() } else { format!(" only while {}", conditions.join(" and ")) };
        line(format!("  {file} defines it, and is not built: part {} has it{only}", board.parts[*part].name));
        next.push(Next::new(format!("boltboard preview --why {}", shell_word(file)), "why it is not built"));
    }
    if !near.is_empty() && was_in.is_empty() && parts.is_empty() && needs.is_empty() {
        let near: Vec<String> = near.iter().map(|name| format!("`{name}`")).collect();
        line(format!("  did you mean {}?", near.join(" or ")));
    }
}

fn flag_told(
    board: &Board,
    flag: &str,
    refused: bool,
    from: Option<&FlagFrom>,
    line: &mut dyn FnMut(String),
    next: &mut Vec<Next>,
) {
    let what = if refused { "the compiler refuses" } else { "warnings are errors by" };
    let Some(FlagFrom { place, options }) = from else {
        line(format!("{what} {flag}"));
        return;
    };
    let place = place.as_ref().map_or(String::new(), |(file, number)| format!(" ({file}:{number})"));
    let names: Vec<&str> = options.iter().map(|id: &OptionId| board.options[*id].name.as_str()).collect();
    let by = match names.as_slice() {
        [] => String::new(),
        [one] => format!(", which the option {one} brings"),
        many => format!(", which the options {} bring", many.join(", ")),
    };
    line(format!("{what} {flag}{place}{by}"));
    next.extend(names.iter().map(|name| Next::new(format!("boltboard show {name}"), "what it accepts")));
}
