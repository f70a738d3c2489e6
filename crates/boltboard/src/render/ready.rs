//! What stands against what is installed being what runs.

use std::path::Path;

use boltboard_core::base::shell_word;
use boltboard_core::install::{Misfit, Right, SmokeRun, Smoked, Unready, UnreadyService};

use super::text::{Role, next_line, paint};

/// Says what was built against the tree as it was, and what helps.
pub fn misfit(one: &Misfit) -> String {
    let Misfit { name, then, version, differs } = one;
    let mut why: Vec<String> = differs.iter().map(ToString::to_string).collect();
    why.extend(version.then(|| "it does not fit this version".to_string()));
    let helps = if *version { "take a version of it that fits" } else { "run boltboard install in its folder" };
    let (head, why) = (paint(Role::Warn, "does not fit:"), why.join(", "));
    format!("{head} {name} was built against version {then}, and {why}: {helps} once this is installed\n")
}

/// Says what stands against what is installed being what runs.
///
/// `has` tells whether this machine has a program.
pub fn unready(all: &[Unready], has: &dyn Fn(&str) -> bool) -> String {
    let mut text = String::new();
    for one in all {
        text += &match one {
            Unready::OtherProgram { ours, first } => format!(
                "{} {} runs, not {}: it comes first in the search path\n",
                paint(Role::Warn, "another copy:"),
                first.display(),
                ours.display()
            ),
            Unready::NotSearched { folder, names } => format!(
                "{} {} is not in the search path, so that {} not found\n",
                paint(Role::Warn, "not found:"),
                folder.display(),
                are(names)
            ),
            Unready::NoLibrary { file, library, ours } => {
                let there = ours.as_ref().map_or("nothing here has it".to_string(), |ours| {
                    format!("it is {}, where the linker does not look", ours.display())
                });
                let asks = file.display();
                format!("{} {asks} needs {library}; {there}\n", paint(Role::Bad, "no library:"))
            }
            Unready::OtherLibrary { file, ours, first } => format!(
                "{} {} gets {}, not {}\n",
                paint(Role::Warn, "another library:"),
                file.display(),
                first.display(),
                ours.display()
            ),
            Unready::Service(one) => service(one),
            Unready::Misfit(one) => misfit(one),
        };
    }
    let helps = |one: &Unready| {
        !matches!(one, Unready::NoLibrary { ours: None, .. } | Unready::Service(_) | Unready::Misfit(_))
    };
    if all.iter().any(helps) {
        text += &next_line("eval \"$(boltboard env)\"", "let this shell find what is installed first");
    }
    let services = all.iter().filter_map(|one| match one {
        Unready::Service(one) => remedy(one),
        _ => None,
    });
    let mut told = std::collections::BTreeSet::new();
    for (program, words, what) in services {
        if has(program) && told.insert(words.clone()) {
            text += &next_line(format!("sudo {program} {words}"), what);
        }
    }
    text
}

fn are(names: &[String]) -> String {
    match names {
        [one] => format!("{one} is"),
        _ => format!("{} are", names.join(", ")),
    }
}

/// Says what stands against a service.
fn service(one: &UnreadyService) -> String {
    let (role, head, says) = match one {
        UnreadyService::OtherUnit { ours, first, runs } => {
            let runs = runs.as_ref().map_or(String::new(), |runs| format!(" and runs {}", runs.display()));
            (
                Role::Warn,
                "another unit:",
                format!("{} counts, not {}; it comes first{runs}", first.display(), ours.display()),
            )
        }
        UnreadyService::UnitNotRead(unit) => {
            (Role::Warn, "not read:", format!("the service manager does not look for {} there", unit.display()))
        }
        UnreadyService::OtherPrefix { unit, runs, ours } => (
            Role::Bad,
            "another prefix:",
            format!("{} runs {}, not {}", unit.display(), runs.display(), ours.display()),
        ),
        UnreadyService::NoUser { user, .. } => (Role::Warn, "no user:", format!("this machine does not know {user}")),
        UnreadyService::NoFolder { folder, .. } => {
            (Role::Warn, "no folder:", format!("{} is not there yet", folder.display()))
        }
        UnreadyService::NoFile { service, file } => {
            (Role::Bad, "no file:", format!("{service} needs {}, which is not there", file.display()))
        }
        UnreadyService::NoRight { user, path, right } => {
            let may = match right {
                Right::Read => "read",
                Right::Write => "write to",
                Right::Run => "run",
            };
            // What bars can be a folder on the way.
            let what = if path.is_dir() && *right != Right::Write { "pass through" } else { may };
            (Role::Bad, "no right:", format!("{user} may not {what} {}", path.display()))
        }
        UnreadyService::PortTaken { service, port, by } => {
            let by = by.as_ref().map_or("by another program".to_string(), |by| format!("by {}", by.display()));
            (Role::Bad, "port taken:", format!("{service} is to listen on {port}, which is taken {by}"))
        }
    };
    format!("{} {says}\n", paint(role, head))
}

/// What helps against it: a program of the system, its arguments, and what that does.
fn remedy(one: &UnreadyService) -> Option<(&'static str, String, &'static str)> {
    let word = |path: &Path| shell_word(&path.display().to_string());
    match one {
        UnreadyService::UnitNotRead(unit) => {
            Some(("systemctl", format!("link {}", word(unit)), "let the service manager know it"))
        }
        UnreadyService::NoUser { file: Some(file), .. } => Some(("systemd-sysusers", word(file), "make the user")),
        UnreadyService::NoFolder { file: Some(file), .. } => {
            Some(("systemd-tmpfiles", format!("--create {}", word(file)), "make the folders"))
        }
        _ => None,
    }
}

/// How much is shown of what a program said that does not work, in lines.
const SAID: usize = 12;

/// Says which short runs show that it works.
pub fn smoked(all: &[(SmokeRun, Smoked)]) -> String {
    let mut text = String::new();
    for (run, outcome) in all {
        let what = if run.summary.is_empty() { run.name.clone() } else { format!("{} ({})", run.name, run.summary) };
        match outcome {
            Smoked::Works => text += &format!("{} {what}\n", paint(Role::Good, "works:")),
            Smoked::Fails { why, said } => {
                text += &format!("{} {what}: {why}\n", paint(Role::Bad, "fails:"));
                said.lines().take(SAID).for_each(|line| text += &format!("  {line}\n"));
                text += &next_line(command(run), "run it by hand");
            }
        }
    }
    text
}

/// A run as a shell takes it.
pub fn command(run: &SmokeRun) -> String {
    let program = run.program.display().to_string();
    let words = std::iter::once(&program).chain(&run.arguments);
    words.map(|word| shell_word(word)).collect::<Vec<_>>().join(" ")
}
