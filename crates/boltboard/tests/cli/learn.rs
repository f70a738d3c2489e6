//! Learning: help, completions, the manual page, exit codes of wrong use.

use crate::harness::{MINI, Scratch};

#[test]
fn help_names_every_command_and_every_documented_exit_code_is_used() {
    let scratch = Scratch::new();
    let help = scratch.run("--help").code(0).out;
    for command in [
        "overview",
        "options",
        "show",
        "why",
        "set",
        "unset",
        "profile",
        "survey",
        "compare",
        "preview",
        "build",
        "test",
        "clean",
        "ledger",
        "install",
        "uninstall",
        "export",
        "demo",
        "completions",
        "man",
    ] {
        assert!(help.contains(&format!("  {command} ")), "{command} in:\n{help}");
        scratch.run(&format!("{command} --help")).code(0).says(&["Usage: boltboard"]);
    }
    scratch.run("--version").code(0).says(&["boltboard 0.1.0"]);
}

#[test]
fn wrong_use_is_told_with_what_was_meant() {
    let scratch = Scratch::new();
    scratch.run("optoins").code(2).complains(&["unrecognized subcommand 'optoins'", "options"]);
    scratch.run("set").code(2).complains(&["OPTION=VALUE"]);
    scratch.run("build --jobs many").code(2).complains(&["many"]);
    scratch.run("profile new ../x --tree .").code(2);
}

#[test]
fn completions_and_manual_are_made_from_the_same_source() {
    let scratch = Scratch::new();
    for shell in ["bash", "zsh", "fish"] {
        scratch.run(&format!("completions {shell}")).code(0).says(&["boltboard", "preview", "keep-going"]);
    }
    scratch.run("man").code(0).says(&[".TH boltboard", "preview"]);
}

#[test]
fn colour_is_for_terminals_and_pipes_that_close_are_no_error() {
    let tree = Scratch::with(MINI);
    for words in ["options", "why horn", "preview", "survey"] {
        assert!(!tree.run(words).out.contains('\u{1b}'), "{words} is not painted in a pipe");
    }
    let mut forced = tree.command("options");
    assert!(tree.ran(forced.env("CLICOLOR_FORCE", "1")).out.contains('\u{1b}'), "it can be forced");
    let mut never = tree.command("options");
    assert!(!tree.ran(never.env("NO_COLOR", "1")).out.contains('\u{1b}'));
    let program = env!("CARGO_BIN_EXE_boltboard");
    let mut closed = std::process::Command::new("sh");
    closed.args(["-c", &format!("{program} completions bash | head -n 1; echo ok")]).current_dir(tree.path());
    let ran = tree.ran(&mut closed).code(0).says(&["ok"]);
    assert!(ran.err.is_empty(), "{}", ran.err);
}

#[test]
fn names_in_the_readme_and_the_documents_exist() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let readme = std::fs::read_to_string(format!("{root}/README.md")).expect("README.md");
    let mut links = 0;
    for part in readme.split("](").skip(1) {
        let link = part.split(')').next().unwrap_or_default();
        assert!(std::path::Path::new(root).join(link).exists(), "{link}");
        links += 1;
    }
    assert!(links > 15);
    let architecture = std::fs::read_to_string(format!("{root}/docs/architecture.md")).expect("the page");
    for entry in
        std::fs::read_dir(format!("{root}/crates/boltboard-core/src")).expect("the core").filter_map(Result::ok)
    {
        let name = entry.file_name().to_string_lossy().into_owned();
        if entry.path().is_dir() {
            assert!(
                architecture.contains(&format!("### `{name}/`")),
                "docs/architecture.md has no heading for {name}/"
            );
        }
    }
}
