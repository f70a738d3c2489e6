//! What is said about results that are shared.

use std::path::Path;
use std::time::SystemTime;

use boltboard_core::base::web::{Address, WebDialect};
use boltboard_core::shared::{Amount, OthersCounts, OthersReport, Pruned, Pruning, SharedConfig, SharedKind, Stock};

use super::text::{Role, age, bytes, columns, count, next_line, paint};

/// Tells where results are shared, and how.
pub fn configured(config: Option<&SharedConfig>, file: &Path) -> String {
    let Some(config) = config else {
        return format!(
            "Results are kept on this machine only.\n{}",
            next_line("boltboard store --help", "how they are shared")
        );
    };
    let own = match (&config.signing, config.read_only) {
        (_, true) => "not given: read-only".to_string(),
        (Some(key), false) => format!("given, signed as {}", key.public()),
        (None, false) => "given, not signed".to_string(),
    };
    let trusted = match config.trusted.as_slice() {
        [] => "of everybody whom the server lets write".to_string(),
        keys => keys.iter().map(ToString::to_string).collect::<Vec<_>>().join(", "),
    };
    let token = if config.token.is_some() { "told to the server" } else { "none" };
    let key =
        config.access.as_ref().map_or("none".to_string(), |access| format!("{}, which signs each request", access.key));
    let certificate = if config.identity.is_shown() { "shown to the server" } else { "none" };
    let rows = [
        ("address", config.address.to_string()),
        ("own file", file.display().to_string()),
        match config.address.dialect() {
            WebDialect::Files => ("token", token.to_string()),
            WebDialect::Objects => ("key", key),
        },
        ("certificate", certificate.to_string()),
        ("ours", own),
        ("taken", trusted),
    ];
    let cells = |(name, value): (&str, String)| vec![(Role::Faint, name.to_string()), (Role::Value, value)];
    // Nobody copies a key that is broken into lines.
    columns(&rows.map(cells), 0, usize::MAX / 4)
}

/// Tells that a profile names a store that nothing is taken from and given to.
pub fn not_allowed(named: &Address) -> String {
    let told = paint(Role::Warn, "not shared:");
    let next = next_line(format!("boltboard store allow {named}"), "let profiles name it");
    format!("{told} the profile names {named}, which you have not allowed.\n{next}")
}

/// Tells what came from others and went to them.
pub fn report(report: &OthersReport) -> String {
    told(report, "")
}

/// The same after a build.
pub fn of_build(report: &OthersReport) -> String {
    told(report, " The build went on alone.")
}

fn told(report: &OthersReport, alone: &str) -> String {
    let mut text = String::new();
    let OthersReport { address, found: _, counts, taken, taken_bytes, left, off, takes_nothing } = report;
    let OthersCounts { given, private, spoilt } = *counts;
    if *taken > 0 {
        text += &format!("From {address}: {}, {}.\n", count(*taken, "result", "results"), bytes(*taken_bytes));
    }
    if given > 0 {
        text += &format!("Given to {address}: {}.\n", count(given, "result", "results"));
    }
    if private > 0 {
        let kept = count(private, "result names", "results name");
        text += &format!("{} {kept} places of this machine, and stay here.\n", paint(Role::Faint, "not given:"));
    }
    if spoilt > 0 {
        let things = match spoilt {
            1 => "1 thing there is not what it should be".to_string(),
            spoilt => format!("{spoilt} things there are not what they should be"),
        };
        text += &format!("{} {things}. Nothing of that is taken.\n", paint(Role::Warn, "not sound:"));
        if given == 0 {
            text += &next_line("boltboard store push", "give sound ones in their place");
        }
    }
    if *left > 0 {
        let things = count(*left, "result is", "results are");
        text += &format!("{things} not given yet.\n");
        text += &next_line("boltboard store push", "give them");
    }
    let trouble = match (off, takes_nothing) {
        (Some(why), _) => format!("{} {address}: {why}.{alone}\n", paint(Role::Warn, "not shared:")),
        (None, Some(why)) => format!("{} {address}: {why}.\n", paint(Role::Warn, "nothing given:")),
        (None, None) => return text,
    };
    text + &trouble + &next_line("boltboard store", "where that is, and what is told to it")
}

/// Tells why nothing was given where nothing went wrong.
pub fn nothing_given(is_read_only: bool) -> String {
    if is_read_only {
        let told = "Nothing is given: your own file says read-only.\n".to_string();
        return told + &next_line("boltboard store", "where that file is");
    }
    "Nothing is given: no results of this profile are kept here yet.\n".to_string()
        + &next_line("boltboard build", "make them")
}

/// Tells what was seen of a profile's steps.
pub fn looked_at(report: &OthersReport, steps: usize) -> String {
    let OthersReport { address, found, .. } = report;
    format!("{address} has results of {found} of {}.\n", count(steps, "step", "steps"))
}

fn amount(amount: Amount) -> String {
    format!("{}, {}", count(amount.files, "file", "files"), bytes(amount.bytes))
}

fn kind_words(kind: SharedKind) -> &'static str {
    match kind {
        SharedKind::Content => "what steps made",
        SharedKind::Notes => "what runs of steps stood on",
        SharedKind::Footings => "what compilers and libraries stand on",
        SharedKind::Pack => "whole builds",
        SharedKind::Lead => "where the newest whole builds are",
    }
}

/// Tells how much lies in a shared store. `now`: from when ages are counted.
pub fn stocked(stock: &Stock, now: SystemTime) -> String {
    let mut text = format!("{}: {}\n", stock.address(), amount(stock.amount()));
    let row = |(kind, amount): (SharedKind, Amount)| {
        vec![
            (Role::Faint, kind_words(kind).to_string()),
            (Role::Value, count(amount.files, "file", "files")),
            (Role::Faint, bytes(amount.bytes)),
        ]
    };
    let rows: Vec<_> = stock.kinds().into_iter().filter(|(_, amount)| amount.files > 0).rev().map(row).collect();
    text += &columns(&rows, 2, usize::MAX / 4);
    if let Some((first, last)) = stock.given() {
        let ago = |time: SystemTime| age(now.duration_since(time).map_or(0, |since| since.as_secs()));
        text += &format!("The first was given {}, the last {}.\n", ago(first), ago(last));
        text += &next_line("boltboard store prune --days 30 --preview", "what is older than that");
    }
    text
}

/// Tells what was too old in a shared store, and what became of it.
pub fn pruned(address: &Address, pruned: &Pruned, days: u32, pruning: Pruning) -> String {
    let Pruned { removed, needed, left, ageless, changed, why } = pruned;
    let than = format!("given more than {} ago", count(days as usize, "day", "days"));
    let none = Amount::default();
    let mut text = match (*removed == none, pruning) {
        (true, _) => format!("{address} has nothing to remove that was {than}.\n"),
        (false, Pruning::Preview) => format!("{address} would lose {}, {than}.\n", amount(*removed)),
        (false, Pruning::Remove) => format!("Removed from {address}: {}, {than}.\n", amount(*removed)),
    };
    let mut line = |what: &str, told: String| text += &format!("  {} {told}\n", paint(Role::Faint, what));
    if *needed != none {
        line("kept:", format!("{}, as old, which younger results need", amount(*needed)));
    }
    if *ageless > 0 {
        line("kept:", format!("{} of which the server tells no date", count(*ageless, "file", "files")));
    }
    if *changed > 0 {
        line("kept:", format!("{}, given anew meanwhile", count(*changed, "file", "files")));
    }
    line("left:", amount(*left));
    if let Some(why) = why {
        text += &format!("{} {address}: {why}.\n", paint(Role::Warn, "not all of it:"));
        text += &next_line("boltboard store", "where that is, and what is told to it");
    } else if pruning == Pruning::Preview && *removed != none {
        text += &next_line(format!("boltboard store prune --days {days}"), "remove that");
    }
    text
}
