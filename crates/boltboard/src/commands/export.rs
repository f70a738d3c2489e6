//! `boltboard export`

use boltboard_core::definitions::{definitions_schema, profile_schema};
use boltboard_core::step::{Compile, Form, Fragment, Location, Word};

use boltboard_core::plan::Plan;
use clap::{Args, Subcommand};
use serde::Serialize;

use crate::args::Global;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::session::Session;

/// Write files for other programs
#[derive(Debug, Args)]
pub struct ExportArgs {
    #[command(subcommand)]
    what: What,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Write a script with which another person repeats the whole way on another machine
    Recipe(super::recipe::RecipeArgs),
    /// Print the JSON compilation database that editors read
    CompileCommands,
    /// Print the JSON Schema of a file of ours, for editors
    Schema {
        /// Which file
        #[arg(value_enum, default_value = "definitions")]
        file: SchemaOf,
    },
}

#[derive(Debug, Clone, Copy, clap::ValueEnum)]
enum SchemaOf {
    /// boltboard.toml
    Definitions,
    /// A profile
    Profile,
}

#[derive(Serialize)]
struct Entry {
    directory: String,
    file: String,
    arguments: Vec<String>,
    output: String,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &ExportArgs) -> Result<Exit, Stop> {
    if let What::Schema { file } = args.what {
        screen.json(&match file {
            SchemaOf::Definitions => definitions_schema(),
            SchemaOf::Profile => profile_schema(),
        });
        return Ok(Exit::Done);
    }
    if let What::Recipe(args) = &args.what {
        return super::recipe::run(global, screen, args);
    }
    let session = Session::open(global, screen)?;
    let resolved = session.resolve()?;
    let planned = session.plan(&resolved)?;
    screen.json(&entries(&planned.plan));
    Ok(Exit::Done)
}

fn entries(plan: &Plan) -> Vec<Entry> {
    let folders = &plan.folders;
    let word = |word: &Word| -> String {
        let fragment = |fragment: &Fragment| match fragment {
            Fragment::Text(text) => text.clone(),
            Fragment::At(at) => at.path(folders).display().to_string(),
            Fragment::Result(_) => String::new(),
        };
        word.fragments.iter().map(fragment).collect()
    };
    let mut entries = Vec::new();
    for (_, step) in plan.steps.iter() {
        let (Some(Compile { setting, form: Form::Object, .. }), Some(source)) = (step.compile(), step.source()) else {
            continue;
        };
        let output = step.writes.first().map_or(String::new(), |at| at.path(folders).display().to_string());
        let mut arguments = vec![setting.tool.name.clone()];
        arguments.extend(setting.words.iter().map(word));
        arguments.push(word(&Word::place(source.clone())));
        arguments.extend(setting.defines.iter().map(|(name, value)| match value {
            Some(value) => format!("-D{name}={value}"),
            None => format!("-D{name}"),
        }));
        arguments.extend(["-c".to_string(), "-o".into(), output.clone()]);
        let file = match source {
            Location::Tree(path) => path.to_string(),
            other => other.path(folders).display().to_string(),
        };
        entries.push(Entry { directory: folders.tree.display().to_string(), file, arguments, output });
    }
    entries
}
