//! `boltboard init`: the first description of a tree.

use boltboard_core::adopt::{First, FirstKind, FirstLanguage, begin, plain_name};
use boltboard_core::base::files::write_below;
use boltboard_core::definitions::Listing;
use boltboard_core::expr::is_name;
use clap::{Args, ValueEnum};
use serde::Serialize;

use super::ask::Asker;
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
    let ask = Asker::new(global, screen);
    let name = ask.text("Name of the tree", args.name.as_deref(), &plain_name(&own));
    if !is_name(&name) {
        let what = format!("`{name}` cannot be a name: letters, digits, `_` and `-` can, with a letter among them");
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
    let Some((kind, _)) = FirstKind::ALL.into_iter().find(|(_, known)| *known == word) else {
        let what = format!("`{word}` is nothing that a tree begins with: write {}", kinds.join(", "));
        return Err(Stop::new(Exit::WrongUse, Diagnostic::new(what)));
    };
    let told = args.language.map(|language| match language {
        LanguageArg::C => "c",
        LanguageArg::Cxx => "c++",
    });
    let word = ask.text("Language (c, c++)", told, "c");
    let language = match word.as_str() {
        "c" => FirstLanguage::C,
        "c++" => FirstLanguage::Cxx,
        other => {
            let what = format!("`{other}` is not a language here: write c or c++");
            return Err(Stop::new(Exit::WrongUse, Diagnostic::new(what)));
        }
    };
    let summary = ask.text("One line about it", args.summary.as_deref(), &format!("what {name} does"));
    let files = begin(&First { name, version, kind, language, summary }, &listing);
    write_below(&folder, &files)?;
    let names: Vec<String> = files.keys().cloned().collect();
    if global.json {
        screen.json(&InitAnswer { format: FORMAT, files: names });
    } else {
        let next = [Next::new("boltboard build", "build it"), Next::new("boltboard", "what it says")];
        screen.out(&format!("Wrote {}.\n{}", names.join(" and "), next_lines(&next, 0)));
    }
    Ok(Exit::Done)
}
