//! `boltboard init`: the first description of a tree.

use std::io::{BufRead, IsTerminal};

use boltboard_core::adopt::{First, FirstKind, FirstLanguage, begin};
use boltboard_core::base::files::{make_folder, write_whole};
use boltboard_core::definitions::Listing;
use clap::{Args, ValueEnum};
use serde::Serialize;

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Next, Stop};
use crate::render::Screen;
use crate::render::json::FORMAT;
use crate::render::text::next_lines;
use crate::session::surroundings;

/// Begin the description of a tree by hand
#[derive(Debug, Args)]
#[command(
    after_help = "On a terminal, what is not told here is asked; elsewhere the usual answers are taken, and told."
)]
pub struct InitArgs {
    /// The tree's name [default: the folder's]
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Its version [default: 0.1]
    #[arg(long = "tree-version", value_name = "VERSION")]
    tree_version: Option<String>,
    /// What it makes [default: program]
    #[arg(long, value_enum)]
    kind: Option<KindArg>,
    /// The language of the first source, where there is none [default: c]
    #[arg(long, value_enum)]
    language: Option<LanguageArg>,
    /// One line about it
    #[arg(long, value_name = "TEXT")]
    summary: Option<String>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum KindArg {
    /// A program
    Program,
    /// A library that is linked in
    StaticLibrary,
    /// A shared library
    SharedLibrary,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum LanguageArg {
    /// C
    C,
    /// C++
    #[value(name = "c++")]
    Cxx,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct InitAnswer {
    format: u32,
    files: Vec<String>,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &InitArgs) -> Result<Exit, Stop> {
    let around = surroundings()?;
    let folder = global.tree.as_deref().map_or_else(|| around.folder.clone(), |tree| around.path_here(tree));
    if folder.join("boltboard.toml").symlink_metadata().is_ok() {
        let diagnostic =
            Diagnostic::new(format!("there already is a description: {}", folder.join("boltboard.toml").display()))
                .next("boltboard", "what it says");
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    }
    let listing = Listing::of(&folder);
    let own = folder.file_name().map_or("tree".into(), |name| name.to_string_lossy().into_owned());
    let own = own.to_lowercase().replace(|c: char| !c.is_ascii_alphanumeric(), "-");
    let ask = Asker { screen, asks: std::io::stdin().is_terminal() && !global.json };
    let name = ask.text("Name of the tree", args.name.as_deref(), own.trim_matches('-'));
    let is_name = |name: &str| {
        name.starts_with(|c: char| c.is_ascii_lowercase())
            && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-')
    };
    if !is_name(&name) {
        let what = format!(
            "`{name}` cannot be a name: it begins with a letter, and lower-case letters, digits and `-` follow"
        );
        return Err(Stop::new(Exit::WrongUse, Diagnostic::new(what)));
    }
    let version = ask.text("Version", args.tree_version.as_deref(), "0.1");
    let kinds: Vec<&str> = FirstKind::ALL.iter().map(|(_, word)| *word).collect();
    let told = args.kind.map(|kind| match kind {
        KindArg::Program => "program",
        KindArg::StaticLibrary => "static-library",
        KindArg::SharedLibrary => "shared-library",
    });
    let word = ask.text(&format!("What it makes ({})", kinds.join(", ")), told, "program");
    let kind =
        FirstKind::ALL.into_iter().find(|(_, known)| *known == word).map_or(FirstKind::Program, |(kind, _)| kind);
    let told = args.language.map(|language| match language {
        LanguageArg::C => "c",
        LanguageArg::Cxx => "c++",
    });
    let word = ask.text("Language (c, c++)", told, "c");
    let language = if word == "c++" { FirstLanguage::Cxx } else { FirstLanguage::C };
    let summary = ask.text("One line about it", args.summary.as_deref(), &format!("what {name} does"));
    let files = begin(&First { name, version, kind, language, summary }, &listing);
    for (place, text) in &files {
        let path = folder.join(place);
        path.parent().map(make_folder).transpose()?;
        write_whole(&path, text.as_bytes())?;
    }
    let names: Vec<String> = files.keys().cloned().collect();
    if global.json {
        screen.json(&InitAnswer { format: FORMAT, files: names });
    } else {
        let next = [Next::new("boltboard build", "build it"), Next::new("boltboard", "what it says")];
        screen.out(&format!("Wrote {}.\n{}", names.join(" and "), next_lines(&next, 0)));
    }
    Ok(Exit::Done)
}

struct Asker<'a> {
    screen: &'a Screen,
    asks: bool,
}

impl Asker<'_> {
    /// What was told, else what a person answers, else the usual.
    fn text(&self, question: &str, told: Option<&str>, usual: &str) -> String {
        if let Some(told) = told {
            return told.to_string();
        }
        if !self.asks {
            self.screen.remark(&format!("{question}: {usual}"));
            return usual.to_string();
        }
        self.screen.out(&format!("{question} [{usual}]: "));
        let mut line = String::new();
        let read = std::io::stdin().lock().read_line(&mut line);
        let answer = line.trim();
        if read.is_err() || answer.is_empty() { usual.to_string() } else { answer.to_string() }
    }
}
