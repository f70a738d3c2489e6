//! What a build would do, and why.

use std::collections::BTreeMap;

use boltboard_core::board::Board;
use boltboard_core::judge::{Judge, Preview, PreviewStep, Reason, Verdict, Work, WorkKnown};

use boltboard_core::plan::Plan;
use boltboard_core::record::Amiss;
use boltboard_core::session::HandingAhead;
use boltboard_core::work::Why;

use boltboard_core::base::web::Address;
use boltboard_core::step::{Step, StepId};

use super::text::{ENDLESS, Role, count, duration, paint, wrap};

/// How many steps of one reason are listed before the rest is counted.
const LISTED: usize = 12;

/// Says why a step would run.
pub fn reason(board: &Board, plan: &Plan, reason: &Reason) -> String {
    why(&reason.why(board, plan))
}

/// Says why a step was not current.
pub fn why(why: &Why) -> String {
    match why {
        Why::New => "never built here".into(),
        Why::Option { option, r#macro, before, now, named_in } => {
            let shown = |value: &Option<String>| match value {
                Some(value) if value.is_empty() => "defined empty".to_string(),
                Some(value) => value.clone(),
                None => "not defined".to_string(),
            };
            let owner = option.as_ref().map_or_else(|| "flag".to_string(), |option| format!("option {option}"));
            let place = named_in.as_ref().map_or(String::new(), |file| format!(", named in {file}"));
            format!("{owner}: {} {} → {}{place}", r#macro, shown(before), shown(now))
        }
        Why::Edited { file } => format!("{file} has changed"),
        Why::Gone { file } => format!("{file} is gone"),
        Why::Looks { at } => format!("{at} changed"),
        Why::Unseen => "what it reads cannot be seen, so it always runs".into(),
        Why::Added { file } => format!("it also reads {file} now"),
        Why::Dropped { file } => format!("it no longer reads {file}"),
        Why::Appeared { file } => format!("{file} is new and comes first"),
        Why::Command { added, removed } => {
            let told = [("added", added), ("removed", removed)];
            let told = told.iter().filter(|(_, words)| !words.is_empty());
            let told: Vec<String> = told.map(|(what, words)| format!("{what} {}", words.join(" "))).collect();
            if told.is_empty() {
                "its words come in another order, or it runs in another way".into()
            } else {
                format!("command: {}", told.join("; "))
            }
        }
        Why::Text => "its text follows other values".into(),
        Why::Tool { tool } => format!("{tool}, or a program behind it, has changed"),
        Why::ToolUnseen { tool } => {
            format!("{tool} was never seen to run here, so that the programs behind it are not known")
        }
        Why::OutputMissing { file } => format!("{file} is missing"),
        Why::OutputEdited { file } => format!("{file} was changed by hand"),
        Why::Unsettled => "an input changed during its last run".into(),
        Why::Follows { step } => format!("follows {step}"),
    }
}

/// Says that a build would do nothing.
pub fn nothing_to_do(steps: usize) -> String {
    format!("Nothing to do: all {} are current.\n", count(steps, "step", "steps"))
}

fn nothing_to_run(steps: usize) -> String {
    format!("No step to run: all {} are current.\n", count(steps, "step", "steps"))
}

/// Says what is handed over anew beside what steps make.
fn handed(handing: &HandingAhead, verbose: bool) -> String {
    let mut text = String::new();
    if !handing.amiss.is_empty() {
        let many = count(handing.amiss.len(), "file", "files");
        text.push_str(&format!("{}\n", paint(Role::Title, &format!("{many} to put right"))));
        let listed = if verbose { usize::MAX } else { LISTED };
        for (path, how) in handing.amiss.iter().take(listed) {
            let how = match how {
                Amiss::Changed => "was changed by hand",
                Amiss::Missing => "is missing",
            };
            text.push_str(&format!("    out/{path} {how}\n"));
        }
        if handing.amiss.len() > listed {
            text.push_str(&format!("    and {} more\n", handing.amiss.len() - listed));
        }
    }
    if handing.records > 0 {
        let many = count(handing.records, "file gets a record", "files get a record");
        text.push_str(&paint(Role::Faint, &format!("{many} of the new choices; no step runs for that.\n")));
    }
    text
}

/// Draws a preview: what runs for sure with its reason, what may follow, what comes from the store.
pub fn preview(
    board: &Board,
    plan: &Plan,
    (preview, handing): (&Preview, &HandingAhead),
    jobs: usize,
    verbose: bool,
    width: usize,
) -> String {
    if preview.steps.is_empty() && preview.stale.is_empty() {
        return if handing.is_empty() {
            nothing_to_do(preview.current)
        } else {
            format!("{}{}", nothing_to_run(preview.current), handed(handing, verbose))
        };
    }
    let mut text = String::new();
    let group = |wanted: &dyn Fn(&PreviewStep) -> bool| preview.steps.iter().filter(|s| wanted(s)).collect::<Vec<_>>();
    let runs = |s: &PreviewStep| s.verdict == Verdict::Run && !s.may_be_spared && plan.steps[s.step].has_process();
    let writes = |s: &PreviewStep| s.verdict == Verdict::Run && !plan.steps[s.step].has_process();
    let groups: [(&str, Vec<&PreviewStep>); 5] = [
        ("to run", group(&runs)),
        ("to run, unless the text after preprocessing comes out the same", group(&|s| s.may_be_spared)),
        ("to follow, unless what they read comes out the same", group(&|s| s.verdict == Verdict::Follows)),
        ("to reuse from an earlier build", group(&|s| matches!(s.verdict, Verdict::FromStore(_)))),
        ("to write", group(&writes)),
    ];
    for (title, steps) in &groups {
        if steps.is_empty() {
            continue;
        }
        text.push_str(&format!(
            "{}\n",
            paint(Role::Title, &format!("{} {title}", count(steps.len(), "step", "steps")))
        ));
        for (why, members) in by_reason(board, plan, steps) {
            let folded = why.lines().flat_map(|line| match width > ENDLESS / 2 {
                true => vec![line.to_string()],
                false => wrap(line, width.saturating_sub(4)),
            });
            folded.for_each(|line| text.push_str(&format!("  {}\n", paint(Role::Warn, &line))));
            let new = |s: &&PreviewStep| s.reasons.first() == Some(&Reason::New);
            if !verbose && members.len() > LISTED && members.iter().all(new) {
                text.push_str(&by_part(plan, &members));
                continue;
            }
            let listed = if verbose { members.len() } else { LISTED };
            for step in members.iter().take(listed) {
                let definition = &plan.steps[step.step];
                let subject = definition.source().map_or_else(|| definition.name.clone(), |source| source.to_string());
                let part = plan.owner(definition);
                text.push_str(&format!("    {:<9} {subject}  {}\n", definition.verb(), paint(Role::Faint, part)));
            }
            if members.len() > listed {
                text.push_str(&paint(
                    Role::Faint,
                    &format!("    and {} more (--verbose lists all)\n", members.len() - listed),
                ));
            }
        }
    }
    if !preview.stale.is_empty() {
        text.push_str(&format!(
            "{}\n",
            paint(
                Role::Title,
                &format!("{} no longer made, to be removed", count(preview.stale.len(), "file", "files"))
            )
        ));
        for name in preview.stale.iter().take(if verbose { usize::MAX } else { LISTED }) {
            text.push_str(&format!("    {name}\n"));
        }
        if !verbose && preview.stale.len() > LISTED {
            text.push_str(&format!("    and {} more\n", preview.stale.len() - LISTED));
        }
    }
    text.push_str(&handed(handing, verbose));
    let current = match preview.current {
        0 => String::new(),
        number => format!("{} current. ", count(number, "step is", "steps are")),
    };
    text.push_str(&format!("\n{current}{}\n", expectation(preview.work(), jobs)));
    text
}

/// Tells why a step would run or not.
pub fn explained(board: &Board, plan: &Plan, judge: &Judge<'_>, id: StepId, step: &Step, all: &Preview) -> String {
    let subject = step.source().map_or_else(|| step.name.clone(), ToString::to_string);
    let mut text = format!(
        "{} {}  {}\n",
        step.verb(),
        paint(Role::Title, &subject),
        paint(Role::Faint, &format!("for part {}", plan.owner(step)))
    );
    if let Some(condition) = &step.brought_by {
        text.push_str(&format!("  in the build because {} holds\n", board.print(&condition.expr)));
    }
    match all.steps.iter().find(|planned| planned.step == id) {
        Some(planned) => {
            let what = match (&planned.verdict, planned.may_be_spared) {
                (Verdict::FromStore(_), _) => "would be reused from an earlier build",
                (Verdict::Follows, _) => "would run, unless what it reads comes out the same",
                (Verdict::Run | Verdict::Current, true) => {
                    "would run, unless its text after preprocessing comes out the same"
                }
                (Verdict::Run | Verdict::Current, false) => "would run",
            };
            text.push_str(&format!("  {}:\n", paint(Role::Warn, what)));
            planned.reasons.iter().for_each(|why| text.push_str(&format!("    {}\n", reason(board, plan, why))));
        }
        None => {
            text.push_str(&format!(
                "  {}: nothing that it depends on has changed since its last run\n",
                paint(Role::Good, "would not run")
            ));
            if let Some(note) = judge.journal.get(&step.name).and_then(|record| record.note) {
                let places = count(note.absent.len(), "place", "places");
                text.push_str(&format!(
                    "    its command, {}, {places} where a header would come first\n",
                    count(note.inputs.len(), "file", "files")
                ));
                for (name, value) in &note.macros {
                    let value = value.clone().unwrap_or_else(|| "not defined".into());
                    text.push_str(&format!("    {name}: {value}\n"));
                }
            }
        }
    }
    text
}

/// Tells how many results would come from others.
pub fn from_others(results: usize, address: &Address) -> String {
    if results == 0 { String::new() } else { format!("Of what is reused, {results} from {address}.\n") }
}

fn expectation(work: Work, jobs: usize) -> String {
    let Work { sure_ms, most_ms, known } = work;
    let wall = |ms: u64| duration(ms / u64::try_from(jobs.max(1)).unwrap_or(1));
    let about = match known {
        WorkKnown::Measured => "",
        WorkKnown::Guessed => "about ",
        WorkKnown::Unknown => return "How long it takes is known after a first build.".to_string(),
    };
    let jobs = count(jobs, "job", "jobs");
    let sure = format!("Expected: {about}{} of work, {about}{} with {jobs}", duration(sure_ms), wall(sure_ms));
    match most_ms > sure_ms {
        true => format!("{sure}; up to {} if nothing comes out the same.", duration(most_ms)),
        false => format!("{sure}."),
    }
}

/// Sums many steps up by part: so many compiles, links and so on.
fn by_part(plan: &Plan, steps: &[&PreviewStep]) -> String {
    let mut parts: Vec<(&str, BTreeMap<&str, usize>)> = Vec::new();
    for step in steps {
        let step = &plan.steps[step.step];
        let owner = plan.owner(step);
        match parts.iter_mut().find(|(name, _)| *name == owner) {
            Some((_, verbs)) => *verbs.entry(step.verb()).or_default() += 1,
            None => parts.push((owner, [(step.verb(), 1)].into())),
        }
    }
    let line = |(name, verbs): &(&str, BTreeMap<&str, usize>)| {
        let verbs: Vec<String> =
            verbs.iter().map(|(verb, n)| if *n == 1 { (*verb).to_string() } else { format!("{verb} {n}") }).collect();
        format!("    {:<16} {}\n", name, paint(Role::Faint, &verbs.join(", ")))
    };
    parts.iter().map(line).collect()
}

/// Groups steps by their first reason, the largest group first.
fn by_reason<'a>(board: &Board, plan: &Plan, steps: &[&'a PreviewStep]) -> Vec<(String, Vec<&'a PreviewStep>)> {
    let mut groups: BTreeMap<String, Vec<&PreviewStep>> = BTreeMap::new();
    for step in steps {
        let why = match step.reasons.as_slice() {
            [] => String::new(),
            reasons if reasons.iter().all(|r| matches!(r, Reason::Follows(_))) => {
                "reads what an earlier step makes".to_string()
            }
            reasons => {
                let own = reasons.iter().filter(|r| !matches!(r, Reason::Follows(_)));
                let mut told: Vec<String> = own.map(|r| without_place(&reason(board, plan, r))).collect();
                told.dedup();
                told.join("\n")
            }
        };
        groups.entry(why).or_default().push(step);
    }
    let mut groups: Vec<_> = groups.into_iter().collect();
    groups.sort_by(|a, b| b.1.len().cmp(&a.1.len()).then_with(|| a.0.cmp(&b.0)));
    groups
}

/// Where the macro is named differs from file to file; the group is about the option.
fn without_place(text: &str) -> String {
    text.split(", named in ").next().unwrap_or(text).to_string()
}
