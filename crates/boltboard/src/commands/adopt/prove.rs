//! Holding a build by a description against a watched one.

use std::path::{Path, PathBuf};

use boltboard_core::adopt::{Proof, Watched, prove};
use boltboard_core::base::shell_word;

use super::{Adopted, DEFINITIONS, WORK, no_description};
use crate::args::Global;
use crate::commands::build::{BuildArgs, build_first};
use crate::fault::{Exit, Stop};
use crate::render::{Screen, adopt as render, json};
use crate::session::Session;

/// Builds by the description and compares; where that fails, how the build ended.
pub(super) fn proof_of(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    watched: &Watched,
    folder: &Path,
) -> Result<Result<Proof, Exit>, Stop> {
    if !folder.join(DEFINITIONS).is_file() {
        return Err(no_description(folder));
    }
    let drawing = adopted.drawing(watched, folder);
    // What the watched build left in the work folder of the tree is none of the description's.
    let there = Global { tree: Some(folder.to_path_buf()), work: Some(folder.join(WORK)), ..global.clone() };
    let session = Session::open(&there, screen)?;
    let built = build_first(&session, screen, &BuildArgs::default())?;
    if built.exit != Exit::Done {
        built.answer(&session, screen);
        return Ok(Err(built.exit));
    }
    let planned = session.plan_to_build(&built.resolved)?;
    Ok(Ok(prove(watched, &drawing, &planned.plan, &planned.folders)))
}

/// Builds by the description, and tells how it compares.
pub(super) fn prove_it(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    name: &str,
    from: Option<&Path>,
) -> Result<Exit, Stop> {
    let watched = adopted.load(name)?;
    let folder = adopted.description(from);
    let proof = match proof_of(global, screen, adopted, &watched, &folder)? {
        Ok(proof) => proof,
        Err(exit) => return Ok(exit),
    };
    if global.json {
        screen.json(&json::adopt_proof(&proof));
    } else {
        // Within the tree, its work folder knows where the description lies.
        let overview = if global.tree.is_none() && adopted.description(None) == folder {
            "boltboard".to_string()
        } else {
            let place = |path: PathBuf| shell_word(&path.display().to_string());
            format!("boltboard --tree {} --work {}", place(folder.clone()), place(folder.join(WORK)))
        };
        screen.out(&render::proof(&proof, &overview, screen.width));
    }
    Ok(if proof.holds() { Exit::Done } else { Exit::No })
}
