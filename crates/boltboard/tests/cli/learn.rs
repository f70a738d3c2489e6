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
    scratch.run("optoins").code(2).complains(&["there is no command `optoins`", "→ boltboard options "]);
    scratch.run("set").code(2).complains(&["`boltboard set` needs OPTION=VALUE"]);
    scratch.run("build --jobs many").code(2).complains(&["`--jobs` does not accept `many`"]);
    scratch.run("status --tree x").code(2).complains(&["there is no command `status`", "→ boltboard overview "]);
    let told = scratch.run("build --jobz --json").code(2).json();
    assert_eq!((&told["errors"][0]["near"][0], &told["exit"]), (&"--jobs".into(), &2.into()));
    scratch.run("profile new ../x --tree .").code(2);
}

#[test]
fn manual_pages_tell_of_each_command() {
    let scratch = Scratch::new();
    scratch.run("man").code(0).says(&[".TH boltboard", "preview", "EXIT STATUS", "ENVIRONMENT", "EXAMPLES"]);
    scratch.run("man build").code(0).says(&[".TH boltboard-build", "keep\\-going", "FILES", "boltboard build skerryd"]);
    scratch.run("man profile new").code(0).says(&[".TH boltboard-profile-new"]);
    scratch.run("man enable").code(2).complains(&["there is no command `enable`"]);
    scratch.run("man --all pages").code(0).says(&["Wrote 73 manual pages"]);
    assert!(scratch.read("pages/boltboard-profile-new.1").contains("\\-\\-base"));
}

/// What a real shell offers for a line that is being typed; `None` where the shell is not there.
fn offered(tree: &Scratch, shell: &str, line: &str) -> Option<Vec<String>> {
    let words: Vec<&str> = line.split(' ').collect();
    let script = match shell {
        "bash" => format!(
            "source <(boltboard completions bash); COMP_LINE='{line}'; COMP_POINT={}; _boltboard boltboard; \
             printf '%s\\n' \"${{COMPREPLY[@]}}\"",
            line.len()
        ),
        "fish" => format!("boltboard completions fish | source; complete -C '{line}' | cut -f 1"),
        // Completion needs a terminal in zsh, so what it would show is printed instead.
        _ => format!(
            "compdef() {{ :; }}; source <(boltboard completions zsh); _describe() {{ print -rl -- ${{(P)3}} }}; \
             words=({}); CURRENT={}; _clap_dynamic_completer_boltboard",
            words.iter().map(|word| format!("'{word}'")).collect::<Vec<_>>().join(" "),
            words.len()
        ),
    };
    let flags: &[&str] = if shell == "fish" { &["--no-config"] } else { &[] };
    let folder = std::path::Path::new(env!("CARGO_BIN_EXE_boltboard")).parent().expect("a folder");
    let path = format!("{}:{}", folder.display(), crate::harness::usual_path());
    let mut command = std::process::Command::new(shell);
    command.args(flags).args(["-c", &script]).current_dir(tree.path()).env("PATH", path).env("HOME", tree.path());
    let told = command.output().ok()?;
    let text = String::from_utf8_lossy(&told.stdout).into_owned();
    assert!(!text.is_empty(), "{shell}: {told:?}");
    Some(text.lines().map(|line| line.split(':').next().unwrap_or_default().to_string()).collect())
}

#[test]
fn names_are_completed_in_the_real_shells() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on").code(0);
    let mut shells = 0;
    for shell in ["bash", "zsh", "fish"] {
        let Some(options) = offered(&tree, shell, "boltboard show ho") else { continue };
        shells += 1;
        assert_eq!(options, ["horn"], "{shell}");
        let offers = |line: &str, word: &str| {
            let offered = offered(&tree, shell, line).unwrap_or_default();
            assert!(offered.iter().any(|one| one == word), "{shell}: {line}: {offered:?}");
        };
        // Bash completes what follows the sign by itself.
        let value =
            |text: &str| if shell == "bash" { text.split_once('=').map_or("", |(_, v)| v) } else { text }.to_string();
        offers("boltboard set horn=o", &value("horn=off"));
        offers("boltboard unset ho", "horn");
        offers("boltboard survey no", "nowhere");
        offers("boltboard build mi", "mini");
        offers("boltboard profile use mi", "mine");
        offers("boltboard --profile mi", "mine");
        offers("boltboard prev", "preview");
        offers("boltboard build --keep", "--keep-going");
    }
    assert!(shells > 0, "no shell to complete in");
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
