//! What is said about other machines that take steps of a build.

use boltboard_core::base::shell_word;
use boltboard_core::workers::{CrewFile, CrewReport, Reach, WorkerReport};

use super::text::{Role, bytes, columns, count, harmless, next_line, paint};

/// How many reasons are told.
const REASONS: usize = 3;

/// What a worker was seen to have otherwise.
pub struct Looked {
    /// Its name.
    pub name: String,
    /// The first thing, if any.
    pub differs: Option<String>,
}

/// Tells what is written down.
pub fn written(file: &CrewFile) -> String {
    if file.crews().is_empty() {
        return format!(
            "No other machines are written down in {}.\n{}",
            file.file().display(),
            next_line("boltboard workers --help", "how they are")
        );
    }
    let row = |(name, crew): (&String, &boltboard_core::workers::CrewConfig)| {
        let reach = match &crew.reach {
            Reach::Hosts { hosts, command } => {
                format!("{} by {}", hosts.join(", "), command.first().map_or("", String::as_str))
            }
            Reach::Slurm { workers, options } => {
                let options = if options.is_empty() { String::new() } else { format!(", {}", options.join(" ")) };
                format!("{} of slurm{options}", count(*workers, "machine", "machines"))
            }
        };
        let jobs = crew.jobs.map_or("as many steps as processors".to_string(), |jobs| {
            format!("{} at once on each", count(jobs, "step", "steps"))
        });
        vec![(Role::Name, name.clone()), (Role::Value, harmless(&reach)), (Role::Faint, jobs)]
    };
    let rows: Vec<_> = file.crews().iter().map(row).collect();
    let first = file.crews().keys().next().map_or("", String::as_str);
    let next = next_line(format!("boltboard workers check {first}"), "whether they can be reached");
    format!("{}{next}", columns(&rows, 0, usize::MAX / 4))
}

/// Tells what was found when machines were reached.
pub fn looked(report: &CrewReport, differs: &[Looked], tools: usize) -> String {
    let mut text = String::new();
    for worker in &report.workers {
        let other = differs.iter().find(|looked| looked.name == worker.name).and_then(|looked| looked.differs.as_ref());
        let (role, state) = match other {
            Some(what) => (Role::Warn, format!("not as here: {}", harmless(what))),
            None if tools == 0 => (Role::Good, "reached".to_string()),
            None => (Role::Good, "reached; compilers as here".to_string()),
        };
        let WorkerReport { name, host, jobs, .. } = worker;
        let host = if harmless(host) == *name { String::new() } else { format!(" ({})", harmless(host)) };
        let steps = count(*jobs, "step", "steps");
        text += &format!("{}{host}: {}, {steps} at once.\n", paint(Role::Name, &harmless(name)), paint(role, &state));
    }
    let differs = differs.iter().any(|looked| looked.differs.is_some());
    let hint = "A compiler, or a file behind it, is another one there; install the same, or leave that machine out.\n";
    text + &unreached(report) + if differs { hint } else { "" }
}

fn unreached(report: &CrewReport) -> String {
    let line = |(name, why): &(String, String)| {
        format!("{} {}: {}\n", paint(Role::Warn, "not reached:"), harmless(name), ended(&harmless(why)))
    };
    report.unreached.iter().map(line).collect()
}

/// A sentence that ends.
fn ended(text: &str) -> String {
    if text.ends_with('.') { text.into() } else { format!("{text}.") }
}

/// Tells what came of the other machines of a build, which are written down under this name.
pub fn of_build(report: &CrewReport, name: &str) -> String {
    let mut text = String::new();
    let busy: Vec<&WorkerReport> = report.workers.iter().filter(|worker| worker.steps > 0).collect();
    if !busy.is_empty() {
        let each: Vec<String> =
            busy.iter().map(|worker| format!("{} {}", harmless(&worker.name), worker.steps)).collect();
        let (sent, got) = busy.iter().fold((0, 0), |(sent, got), worker| (sent + worker.sent, got + worker.got));
        let moved = format!("{} sent, {} back", bytes(sent), bytes(got));
        let steps: usize = busy.iter().map(|worker| worker.steps).sum();
        text += &format!("On other machines: {} ({}); {moved}.\n", count(steps, "step", "steps"), each.join(", "));
    }
    text += &unreached(report);
    for worker in report.workers.iter() {
        if let Some(why) = &worker.lost {
            let name = harmless(&worker.name);
            text += &format!("{} {name}: {} The build went on.\n", paint(Role::Warn, "lost:"), ended(&harmless(why)));
        }
    }
    for (why, times) in report.not_counted.iter().take(REASONS) {
        let times = if *times > 1 { format!(" ({times} times)") } else { String::new() };
        text += &format!("{} {}{times}. It ran here.\n", paint(Role::Warn, "not taken:"), harmless(why));
    }
    if report.not_counted.len() > REASONS {
        text += &format!("{} {} more reasons.\n", paint(Role::Faint, "not taken:"), report.not_counted.len() - REASONS);
    }
    if let Some(why) = &report.stayed_for {
        let steps = count(report.stayed, "step was", "steps were");
        text += &format!("{} {steps} not sent: {}.\n", paint(Role::Faint, "ran here:"), harmless(why));
    }
    if !report.unreached.is_empty() || !report.not_counted.is_empty() {
        text += &next_line(format!("boltboard workers check {}", shell_word(name)), "what stands against them");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_of_other_machines_is_told_in_a_few_lines() {
        let worker = |name: &str, steps, lost: Option<&str>| WorkerReport {
            name: name.into(),
            host: name.into(),
            jobs: 2,
            steps,
            sent: 2048,
            got: 1024,
            lost: lost.map(String::from),
        };
        let report = CrewReport {
            workers: vec![worker("fog", 0, Some("the connection ended")), worker("lamp", 7, None)],
            unreached: vec![("sea\x1b[31m".into(), "no route".into())],
            not_counted: (0..5).map(|n| (format!("lamp: /usr/include/{n}.h is another one there"), n + 1)).collect(),
            stayed: 2,
            stayed_for: Some("a.c includes by a macro".into()),
        };
        let painted = of_build(&report, "office");
        let told = console::strip_ansi_codes(&painted);
        for line in [
            "On other machines: 7 steps (lamp 7); 2.0 KiB sent, 1.0 KiB back.",
            "lost: fog: the connection ended. The build went on.",
            "/usr/include/1.h is another one there (2 times). It ran here.",
            "2 more reasons",
            "2 steps were not sent: a.c includes by a macro.",
            "→ boltboard workers check office",
        ] {
            assert!(told.contains(line), "{line}: {told}");
        }
        assert!(told.contains("sea\\u{1b}[31m"), "what comes from elsewhere is shown harmless: {told:?}");
        assert_eq!(of_build(&CrewReport::default(), "office"), "");
    }
}
