//! Watching a build, and reading what stands for one.

use std::path::Path;

use boltboard_core::adopt::{Said, WatchAsk, WatchFault, Watched, from_database, watch};
use boltboard_core::base::files::{make_folder, read_text};

use super::Adopted;
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::{Screen, adopt as render, json};

/// Keeps what was seen, and tells what was understood of it.
fn keep(global: &Global, screen: &Screen, adopted: &Adopted, watched: &Watched) -> Result<Exit, Stop> {
    adopted.work.prepare(&adopted.tree_name()).map_err(Stop::from)?;
    make_folder(&adopted.work.watched())?;
    watched.save(&adopted.kept(&watched.name)?)?;
    let drawing = adopted.drawing(watched, &adopted.description(None));
    if global.json {
        screen.json(&json::adopt_seen(watched, &drawing));
    } else {
        screen.out(&render::watched(watched, &drawing));
    }
    Ok(if watched.exit == 0 { Exit::Done } else { Exit::No })
}

/// Runs the usual build, watched.
pub(super) fn watch_build(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    name: &str,
    command: &[String],
) -> Result<Exit, Stop> {
    adopted.kept(name)?;
    let Some(own) = &adopted.around.own else {
        return Err(Stop::usage("this program cannot find its own file, which it needs to watch others".to_string()));
    };
    adopted.work.prepare(&adopted.tree_name()).map_err(Stop::from)?;
    let gate = own.gate();
    let ask = WatchAsk {
        gate: &gate,
        name,
        command,
        tree: &adopted.tree,
        environment: &adopted.around.variables,
        search_path: adopted.around.search_path(),
        said: if global.json { Said::ToErrors } else { Said::AsUsual },
    };
    let watched = watch(&ask).map_err(|fault| {
        let mut diagnostic = Diagnostic::new(fault.to_string());
        if matches!(fault, WatchFault::NotWatched { .. }) {
            let lesser = "Where watching is forbidden, `--database FILE` reads a JSON compilation database instead.";
            diagnostic = diagnostic.help(lesser);
        }
        Stop::new(Exit::Machine, diagnostic)
    })?;
    keep(global, screen, adopted, &watched)
}

/// Takes compiles over from a database.
pub(super) fn read_database(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    name: &str,
    file: &Path,
) -> Result<Exit, Stop> {
    adopted.kept(name)?;
    let path = adopted.around.path_here(file);
    let text = read_text(&path)?
        .ok_or_else(|| Stop::new(Exit::WrongUse, Diagnostic::new(format!("there is no file {}", path.display()))))?;
    let watched = from_database(&text, name, file, &adopted.tree).map_err(|why| {
        let what = format!("{} is no compilation database: {why}", path.display());
        Stop::new(Exit::WrongUse, Diagnostic::new(what))
    })?;
    keep(global, screen, adopted, &watched)
}
