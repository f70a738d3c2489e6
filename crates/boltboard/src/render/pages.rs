//! Manual pages.

use clap::Command;
use clap_mangen::Man;
use clap_mangen::roff::{Roff, roman};

/// Exit codes as they stand in every page.
const EXIT: &[(&str, &str)] = &[
    ("0", "Done."),
    ("1", "The answer is no: differences, a failed build or test."),
    ("2", "Wrong use."),
    ("3", "Definitions or a profile are wrong, or choices cannot hold together."),
    ("4", "The host does not meet a need, or has no compiler that works."),
    ("5", "No permission to read or write a file or folder."),
    ("6", "The disk is full."),
    ("7", "Another fault of the machine."),
    ("8", "A fault of boltboard itself."),
    ("130", "Interrupted."),
];

/// Files that commands read and write.
const FILES: &[(&str, &str)] = &[
    ("boltboard.toml", "What the tree is: its options, needs, parts and tests."),
    ("boltboard-work/", "All that is written: profiles, builds, logs, kept results."),
    ("boltboard-work/builds/PROFILE/out/", "What a build makes, each with the record of how it was made."),
    ("boltboard-work/profiles/NAME.toml, profiles/NAME.toml", "Your own profiles, and those of the tree."),
    ("~/.config/boltboard/store.toml", "Where your results are shared, and whose you take."),
    ("~/.config/boltboard/workers.toml", "The other machines that can take steps of your builds."),
    ("PREFIX/share/boltboard/TREE.json", "The record of an installation."),
];

/// Variables of the environment that count.
const VARIABLES: &[(&str, &str)] = &[
    ("BOLTBOARD_WORK", "The work folder, as --work."),
    ("BOLTBOARD_STORE", "Where results are shared, as --store-at."),
    ("BOLTBOARD_STORE_TOKEN", "What is told to the server there."),
    ("AWS_ACCESS_KEY_ID, AWS_SECRET_ACCESS_KEY, AWS_SESSION_TOKEN, AWS_REGION", "Who you are to an object store."),
    ("BOLTBOARD_METADATA_PATH", "Further folders with metadata files of libraries."),
    ("SOURCE_DATE_EPOCH", "The time that generators and __DATE__ see."),
    ("PATH", "Where compilers and other programs are searched."),
    ("COLUMNS, NO_COLOR, LC_ALL", "How answers look."),
];

/// Examples, by command.
const EXAMPLES: &[(&str, &[&str])] = &[
    ("boltboard", &["boltboard", "boltboard demo"]),
    ("boltboard-overview", &["boltboard overview", "boltboard overview --json"]),
    ("boltboard-options", &["boltboard options", "boltboard options changed", "boltboard options off kind:module"]),
    ("boltboard-board", &["boltboard board", "boltboard board lamp-drive", "boltboard board off in:links"]),
    ("boltboard-show", &["boltboard show fog-horn"]),
    ("boltboard-why", &["boltboard why horn-speaker", "boltboard why crc=off"]),
    ("boltboard-ways", &["boltboard ways lamp-drive=arc", "boltboard ways lamp-drive=arc --apply 1"]),
    ("boltboard-set", &["boltboard set fog-horn=builtin", "boltboard set need:gps=off --reason \"no receiver\""]),
    ("boltboard-unset", &["boltboard unset fog-horn"]),
    ("boltboard-profile", &["boltboard profile list", "boltboard profile new quiet --base small-station"]),
    ("boltboard-patch", &["boltboard patch add fix.patch", "boltboard patch list"]),
    ("boltboard-tailor", &["boltboard tailor --preview", "boltboard tailor --evidence harbour.toml --keep fog-bell"]),
    ("boltboard-survey", &["boltboard survey", "boltboard survey alsa", "boltboard survey --cost"]),
    (
        "boltboard-compare",
        &["boltboard compare small-station mine", "boltboard compare small-station full-station --html stations.html"],
    ),
    (
        "boltboard-carry",
        &["boltboard carry --from ../skerry-2.4 --preview", "boltboard carry mine --from-revision v2.4"],
    ),
    ("boltboard-inspect", &["boltboard inspect /usr/local/bin/skerryd", "boltboard inspect --has crc 4711"]),
    ("boltboard-trial", &["boltboard trial --vary optimise=none,size,speed -- bin/skerryd --minutes 600"]),
    ("boltboard-preview", &["boltboard preview", "boltboard preview --why fog/horn.c"]),
    ("boltboard-build", &["boltboard build", "boltboard build skerryd", "boltboard build --verify"]),
    ("boltboard-test", &["boltboard test", "boltboard test --report tests.xml"]),
    ("boltboard-clean", &["boltboard clean", "boltboard clean --store-limit 20GiB"]),
    ("boltboard-ledger", &["boltboard ledger", "boltboard ledger --timeline build.svg"]),
    ("boltboard-install", &["boltboard install --preview", "boltboard install --staging root"]),
    ("boltboard-back", &["boltboard back", "boltboard back 2 --preview", "boltboard back --keep 5"]),
    (
        "boltboard-env",
        &["boltboard env", "boltboard env --shell fish --undo", "boltboard env --shell module --write skerry"],
    ),
    ("boltboard-add-on", &["boltboard add-on add ../tide-clock", "boltboard add-on list"]),
    ("boltboard-fetch", &["boltboard fetch --preview", "boltboard fetch --offline --from archives"]),
    ("boltboard-workers", &["boltboard workers", "boltboard build --on office"]),
    ("boltboard-store", &["boltboard store", "boltboard store push", "boltboard store prune --days 90 --preview"]),
    ("boltboard-package", &["boltboard package --preview", "boltboard package --as deb --split"]),
    ("boltboard-uninstall", &["boltboard uninstall --preview", "boltboard uninstall"]),
    ("boltboard-lint", &["boltboard lint", "boltboard lint --severity error"]),
    (
        "boltboard-adopt",
        &[
            "boltboard adopt watch -- sh build.sh",
            "boltboard adopt draw",
            "boltboard adopt prove",
            "boltboard adopt hints",
        ],
    ),
    ("boltboard-init", &["boltboard init", "boltboard init --name beacon --kind shared-library"]),
    ("boltboard-export", &["boltboard export compile-commands > compile_commands.json"]),
    ("boltboard-demo", &["boltboard demo", "boltboard demo --in skerry"]),
    ("boltboard-completions", &["source <(boltboard completions bash)"]),
    ("boltboard-man", &["boltboard man build | man -l -", "boltboard man --all pages"]),
];

/// Gives every command its whole name, so that its page is found: `boltboard-profile-new`.
pub fn named(command: Command) -> Command {
    fn below(command: Command, before: Option<(&str, &str)>) -> Command {
        let own = command.get_name().to_string();
        // A name may have a `-` of its own.
        let (name, typed) = match before {
            None => (own.clone(), own),
            Some((name, typed)) => (format!("{name}-{own}"), format!("{typed} {own}")),
        };
        let subs: Vec<String> = command.get_subcommands().map(|sub| sub.get_name().to_string()).collect();
        let above = Some((name.as_str(), typed.as_str()));
        let full = subs.iter().fold(command, |command, sub| command.mut_subcommand(sub, |sub| below(sub, above)));
        full.display_name(name).bin_name(typed)
    }
    let mut command = command;
    command.build();
    below(command, None)
}

/// Returns the pages of a command and of all below it, by name.
pub fn all(command: &Command) -> Vec<(String, Vec<u8>)> {
    let own = (command.get_display_name().unwrap_or(command.get_name()).to_string(), page(command));
    let shown = command.get_subcommands().filter(|sub| sub.get_name() != "help");
    std::iter::once(own).chain(shown.flat_map(all)).collect()
}

/// Returns the page of a command.
pub fn page(command: &Command) -> Vec<u8> {
    let name = command.get_display_name().unwrap_or(command.get_name());
    let man = Man::new(command.clone()).title(name);
    let mut text = Vec::new();
    // Writing to memory does not fail.
    let parts = [Man::render_title, Man::render_name_section, Man::render_synopsis_section];
    let more = [Man::render_description_section, Man::render_options_section];
    for part in parts.into_iter().chain(more) {
        let _ = part(&man, &mut text);
    }
    if command.has_subcommands() {
        let _ = man.render_subcommands_section(&mut text);
    }
    if command.get_after_help().is_some() {
        let _ = man.render_extra_section(&mut text);
    }
    let mut roff = Roff::new();
    let base = EXAMPLES.iter().find(|(command, _)| *command == name);
    if let Some((_, examples)) = base {
        roff.control("SH", ["EXAMPLES"]);
        for example in *examples {
            roff.control("PP", []).control("nf", []).text([roman(*example)]).control("fi", []);
        }
    }
    for (title, list) in [("EXIT STATUS", EXIT), ("FILES", FILES), ("ENVIRONMENT", VARIABLES)] {
        roff.control("SH", [title]);
        for (word, about) in list {
            roff.control("TP", []).text([clap_mangen::roff::bold(*word)]).text([roman(*about)]);
        }
    }
    text.extend(roff.render().into_bytes());
    text
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;
    use crate::args::Cli;

    #[test]
    fn every_command_has_a_page_with_examples_that_can_be_typed() {
        let pages = all(&named(Cli::command()));
        for sub in Cli::command().get_subcommands() {
            let name = format!("boltboard-{}", sub.get_name());
            assert!(pages.iter().any(|(page, _)| *page == name), "{name}");
            assert!(EXAMPLES.iter().any(|(command, _)| *command == name), "no example for {name}");
        }
        let whole = named(Cli::command());
        let add_on = whole.find_subcommand("add-on").and_then(|add_on| add_on.find_subcommand("remove"));
        assert_eq!(add_on.and_then(Command::get_bin_name), Some("boltboard add-on remove"));
        for (_, examples) in EXAMPLES {
            for example in *examples {
                let words =
                    example.split(['|', '>']).next().unwrap_or_default().replace("source <(", "").replace(')', "");
                let words = words.split_whitespace().map(|word| word.trim_matches('"').to_string());
                // Words of a quoted text are more than the command line has; a reason may hold any.
                let words: Vec<String> = words.filter(|word| !word.starts_with("receiver")).collect();
                assert!(Cli::command().try_get_matches_from(&words).is_ok(), "{example}");
            }
        }
    }
}
