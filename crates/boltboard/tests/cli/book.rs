//! The book for maintainers: every example in it is a whole tree, and is built as it stands there.

use std::path::{Path, PathBuf};

use crate::harness::Scratch;

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// The blocks of a page: what stands behind the three signs, and the text.
fn blocks(page: &str) -> Vec<(String, String)> {
    let mut blocks = Vec::new();
    let mut open: Option<(String, String)> = None;
    for line in page.lines() {
        match (line.strip_prefix("```"), &mut open) {
            (Some(_), Some(_)) => blocks.extend(open.take()),
            (Some(head), None) => open = Some((head.to_string(), String::new())),
            (None, Some((_, text))) => {
                text.push_str(line);
                text.push('\n');
            }
            (None, None) => {}
        }
    }
    assert!(open.is_none(), "a block is not closed");
    blocks
}

#[test]
fn each_example_is_built_and_its_commands_work() {
    let mut pages: Vec<PathBuf> = std::fs::read_dir(docs().join("maintaining"))
        .expect("pages")
        .map(|entry| entry.expect("a page").path())
        .collect();
    pages.sort();
    assert!(pages.len() >= 8, "{pages:?}");
    for page in pages {
        let text = std::fs::read_to_string(&page).expect("a page");
        let tree = Scratch::new();
        let mut root = None;
        let mut commands = Vec::new();
        let mut typed: Vec<(String, String)> = Vec::new();
        for (head, text) in blocks(&text) {
            match head.split_once(' ') {
                // As somebody types them in that folder, after all else.
                Some(("console", folder)) => {
                    typed.extend(text.lines().map(|line| (folder.to_string(), line.to_string())))
                }
                Some((_, file)) => {
                    tree.write(file, &text);
                    if text.contains("[tree]") {
                        root = Some(file.trim_end_matches("boltboard.toml").to_string());
                    }
                }
                None if head == "sh" => commands.extend(text.lines().map(str::to_string)),
                None => panic!("{}: a block without a file: {head:?}", page.display()),
            }
        }
        let root = tree.at(&root.unwrap_or_else(|| panic!("{}: no tree", page.display())));
        let at = format!("--tree {} --work {}", root.display(), tree.at("work").display());
        if text.contains("gfortran") && std::process::Command::new("gfortran").arg("--version").output().is_err() {
            continue;
        }
        let first = tree.run(&format!("build --verify {at}")).code(0);
        assert!(!first.err.contains("did not expect"), "{}: {}", page.display(), first.err);
        tree.run(&format!("build {at}")).code(0).steps(0);
        if text.contains("[test.") {
            tree.run(&format!("test {at}")).code(0);
        }
        for line in commands {
            let command = line.split('#').next().unwrap_or_default().trim();
            let words = command.strip_prefix("boltboard ").unwrap_or_else(|| panic!("{line}"));
            tree.run(&format!("{words} {at}")).code(0);
        }
        tree.run(&format!("build --verify {at}")).code(0);
        for (folder, line) in typed {
            let here = tree.at(&folder);
            let command = line.split('#').next().unwrap_or_default().trim();
            let command = command.replace("\"$PWD", &here.display().to_string()).replace('"', "");
            let words = command.strip_prefix("boltboard ").unwrap_or_else(|| panic!("{line}"));
            tree.ran(tree.command(words).current_dir(&here)).code(0);
        }
    }
}

#[test]
fn the_reference_is_what_the_reader_is_held_to() {
    let file = docs().join("reference.md");
    let made = boltboard_core::definitions::reference_text();
    if std::env::var_os("BOLTBOARD_WRITE_MESSAGES").is_some() {
        std::fs::write(&file, &made).expect("written");
    }
    let there = std::fs::read_to_string(&file).expect("docs/reference.md");
    assert!(
        there == made,
        "docs/reference.md is not what the table of keys says; BOLTBOARD_WRITE_MESSAGES=1 writes it"
    );
}
