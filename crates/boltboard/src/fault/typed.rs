//! What was typed and is no command line of ours.

use boltboard_core::base::{near_matches, shell_word};
use clap::CommandFactory;
use clap::error::{ContextKind, ContextValue, ErrorKind};

use super::{Diagnostic, Exit, Next, Stop};
use crate::args::Cli;

/// Words of the trade for what a command of ours does, or a command with words of its own.
const MEANT: &[(&str, &str)] = &[
    ("add", "set"),
    ("all", "build"),
    ("analyse", "lint"),
    ("analyze", "lint"),
    ("check", "survey"),
    ("choose", "set"),
    ("compile", "build"),
    ("config", "options"),
    ("configs", "profile list"),
    ("configure", "options"),
    ("delete", "unset"),
    ("deps", "survey"),
    ("dependencies", "survey"),
    ("diff", "compare"),
    ("disable", "set"),
    ("doctor", "survey"),
    ("dry-run", "preview"),
    ("enable", "set"),
    ("explain", "why"),
    ("features", "options"),
    ("find", "options"),
    ("get", "show"),
    ("help", "--help"),
    ("history", "ledger"),
    ("import", "adopt"),
    ("info", "show"),
    ("list", "options"),
    ("log", "ledger"),
    ("ls", "options"),
    ("make", "build"),
    ("new", "profile list"),
    ("plan", "preview"),
    ("profiles", "profile list"),
    ("query", "options"),
    ("rebuild", "build"),
    ("remove", "uninstall"),
    ("reset", "unset"),
    ("run", "build"),
    ("search", "options"),
    ("start", "overview"),
    ("status", "overview"),
    ("switch", "profile list"),
    ("tests", "test"),
    ("tree", "overview"),
    ("undo", "unset"),
    ("update", "build"),
    ("use", "profile list"),
    ("validate", "lint"),
    ("verify", "build --verify"),
    ("version", "--version"),
];

/// Tells in our words what is wrong with a command line.
pub fn mistyped(error: &clap::Error, words: &[String]) -> Stop {
    let text = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => text.clone(),
        Some(ContextValue::Strings(texts)) => texts.join(", "),
        Some(ContextValue::StyledStr(text)) => text.to_string(),
        Some(other) => other.to_string(),
        None => String::new(),
    };
    let argument = text(ContextKind::InvalidArg);
    let flag = argument.split([' ', '=']).next().unwrap_or_default().to_string();
    let near = |kind| match error.get(kind) {
        Some(ContextValue::String(text)) => vec![text.clone()],
        Some(ContextValue::Strings(texts)) => texts.clone(),
        _ => Vec::new(),
    };
    let command = command_of(words);
    let diagnostic = match error.kind() {
        ErrorKind::InvalidSubcommand => return unknown_command(&text(ContextKind::InvalidSubcommand)),
        ErrorKind::UnknownArgument => {
            let diagnostic = if argument.starts_with('-') {
                let near = near(ContextKind::SuggestedArg);
                Diagnostic::new(format!("`{command}` has no flag `{flag}`")).near(&near)
            } else {
                Diagnostic::new(format!("`{command}` does not accept `{argument}`"))
            };
            // A value of several words that was typed without quotes.
            let meant = quoted_choice(words).filter(|_| command == "boltboard set" && !diagnostic.message.is_empty());
            let diagnostic =
                meant.into_iter().fold(diagnostic, |told, command| told.next(command, "a value of several words"));
            let sub = near(ContextKind::SuggestedSubcommand);
            sub.iter()
                .fold(diagnostic, |diagnostic, name| diagnostic.next(format!("boltboard {name} --help"), "a command"))
        }
        ErrorKind::MissingRequiredArgument => {
            Diagnostic::new(format!("`{command}` needs {}", argument.replace(['<', '>'], "")))
        }
        ErrorKind::InvalidValue if text(ContextKind::InvalidValue).is_empty() => {
            Diagnostic::new(format!("`{flag}` needs a value"))
        }
        ErrorKind::InvalidValue => {
            let value = text(ContextKind::InvalidValue);
            let valid = near(ContextKind::ValidValue);
            let expected = format!("`{flag}` does not accept `{value}`; it accepts {}", valid.join(", "));
            Diagnostic::new(expected).near(&near(ContextKind::SuggestedValue))
        }
        ErrorKind::ValueValidation => {
            let value = text(ContextKind::InvalidValue);
            let why = std::error::Error::source(error).map_or(String::new(), |why| format!(": {why}"));
            Diagnostic::new(format!("`{flag}` does not accept `{value}`{why}"))
        }
        ErrorKind::ArgumentConflict => {
            let other = text(ContextKind::PriorArg);
            if other.is_empty() || other == argument {
                Diagnostic::new(format!("`{flag}` can be given only once"))
            } else {
                Diagnostic::new(format!("`{flag}` and `{other}` cannot be given together"))
            }
        }
        ErrorKind::MissingSubcommand | ErrorKind::DisplayHelpOnMissingArgumentOrSubcommand => {
            Diagnostic::new(format!("`{command}` needs to know what to do"))
        }
        ErrorKind::InvalidUtf8 => Diagnostic::new("a word of the command line is not UTF-8"),
        _ => Diagnostic::new(error.to_string().lines().next().unwrap_or_default().trim_start_matches("error: ")),
    };
    Stop::new(Exit::WrongUse, diagnostic.next(format!("{command} --help"), "how it is used"))
}

/// The command that was begun, as far as it is known.
fn command_of(words: &[String]) -> String {
    let cli = Cli::command();
    let (mut at, mut name) = (&cli, "boltboard".to_string());
    for word in words.iter().skip(1) {
        if let Some(sub) = at.find_subcommand(word) {
            at = sub;
            name.push_str(&format!(" {word}"));
        }
    }
    name
}

/// The choice that was meant where its value has several words and neither `=` nor quotes.
fn quoted_choice(words: &[String]) -> Option<String> {
    let at = words.iter().position(|word| word == "set")?;
    let (first, more) = words.get(at + 1..)?.split_first()?;
    if more.is_empty() || first.starts_with('-') {
        return None;
    }
    let (name, value) = first.split_once('=').unwrap_or((first.as_str(), ""));
    let value: Vec<&str> =
        std::iter::once(value).chain(more.iter().map(String::as_str)).filter(|v| !v.is_empty()).collect();
    Some(format!("boltboard set {}", shell_word(&format!("{name}={}", value.join(" ")))))
}

/// An unknown command, with the one that does what was probably meant.
fn unknown_command(typed: &str) -> Stop {
    let diagnostic = Diagnostic::new(format!("there is no command `{typed}`"));
    let cli = Cli::command();
    let about = |command: &str| {
        let name = command.split(' ').next().unwrap_or_default();
        let about = cli.find_subcommand(name).and_then(|found| found.get_about());
        about.map_or_else(|| "all commands".to_string(), |about| lower(&about.to_string()))
    };
    let same: Vec<&str> = MEANT.iter().filter(|(word, _)| *word == typed).map(|(_, meant)| *meant).collect();
    let own = cli.get_subcommands().map(clap::Command::get_name);
    let near = if same.is_empty() { near_matches(typed, own) } else { Vec::new() };
    let meant: Vec<String> = same.into_iter().map(String::from).chain(near).collect();
    let next = meant.iter().map(|command| {
        // What needs words of its own is told of by its help.
        let needs = cli.find_subcommand(command).is_some_and(|sub| {
            sub.get_positionals().any(clap::Arg::is_required_set) || ["set", "unset", "demo"].contains(&sub.get_name())
        });
        let help = if needs { " --help" } else { "" };
        Next::new(format!("boltboard {command}{help}"), about(command))
    });
    let mut diagnostic = Diagnostic { next: next.collect(), ..diagnostic };
    if !meant.iter().any(|command| command == "--help") {
        diagnostic = diagnostic.next("boltboard --help", "all commands");
    }
    Stop::new(Exit::WrongUse, diagnostic)
}

fn lower(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |first| first.to_lowercase().chain(letters).collect())
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    fn told(words: &str) -> Stop {
        let words: Vec<String> = words.split(' ').map(String::from).collect();
        mistyped(&Cli::try_parse_from(&words).expect_err("mistyped"), &words)
    }

    #[test]
    fn what_is_mistyped_is_told_in_our_words() {
        for (words, message) in [
            ("boltboard show", "`boltboard show` needs OPTION"),
            ("boltboard show a b", "`boltboard show` does not accept `b`"),
            ("boltboard build --jobz", "`boltboard build` has no flag `--jobz`"),
            ("boltboard build --jobs", "`--jobs` needs a value"),
            ("boltboard build --jobs many", "`--jobs` does not accept `many`: invalid digit found in string"),
            ("boltboard lint --severity none", "`--severity` does not accept `none`; it accepts error, warning, note"),
            ("boltboard survey --cost --toolchains", "`--cost` and `--toolchains` cannot be given together"),
            ("boltboard profile", "`boltboard profile` needs to know what to do"),
        ] {
            let stop = told(words);
            assert_eq!((stop.diagnostics[0].message.as_str(), stop.exit), (message, Exit::WrongUse), "{words}");
            assert!(stop.diagnostics[0].next.iter().any(|next| next.command.ends_with("--help")), "{words}");
        }
        assert_eq!(told("boltboard build --jobz").diagnostics[0].near, ["--jobs"]);
    }

    #[test]
    fn values_of_several_words_lead_to_the_line_to_type() {
        for words in ["boltboard set cflags=-O2 -g", "boltboard set cflags -O2 -g"] {
            let next = told(words).diagnostics[0].next[0].command.clone();
            assert_eq!(next, "boltboard set 'cflags=-O2 -g'", "{words}");
        }
    }

    #[test]
    fn unknown_commands_lead_to_ours() {
        for (word, command) in [
            ("status", "boltboard overview"),
            ("enable", "boltboard set --help"),
            ("diff", "boltboard compare --help"),
            ("serch", "boltboard --help"),
            ("buidl", "boltboard build"),
        ] {
            assert_eq!(told(&format!("boltboard {word}")).diagnostics[0].next[0].command, command, "{word}");
        }
    }

    #[test]
    fn every_command_that_may_be_meant_is_one() {
        for (word, meant) in MEANT {
            assert!(Cli::command().find_subcommand(word).is_none(), "{word} is a command itself");
            let first = meant.split(' ').next().expect("a word");
            assert!(first.starts_with("--") || Cli::command().find_subcommand(first).is_some(), "{meant}");
        }
    }
}
