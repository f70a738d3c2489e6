//! How the last build stands, told from its seal alone: without reading the board.

use std::path::{Path, PathBuf};

use boltboard_core::base::Digest;
use boltboard_core::board::{Generator, PartKind};
use boltboard_core::definitions::Listing;
use boltboard_core::judge::{Basis, Concern, SealFile, SealWanted, Standing, Touched};
use boltboard_core::profile::ProfileName;

use boltboard_core::survey::EPOCH_VARIABLE;
use boltboard_core::work::WorkFolder;

use crate::args::Global;
use crate::exit::Stop;
use crate::host::processor;
use crate::session::{Planned, Resolved, Session, Whereabouts, this_program, variables};

/// Returns how the last build of the profile in use stands, with that profile, if it was one for what is asked.
pub fn standing(global: &Global) -> Result<Option<(Standing<'static>, Whereabouts)>, Stop> {
    if is_supposed(global) {
        return Ok(None);
    }
    let place = Whereabouts::find(global)?;
    // Where the sources lie only matters for what `asked` holds already.
    let folders = place.work.folders(&place.root, &place.profile);
    let Some(file) = SealFile::read(&folders.seal()) else { return Ok(None) };
    // A command ends soon; what it looks into stays until then.
    let file: &'static SealFile = Box::leak(Box::new(file));
    let variables = variables();
    let asked = asked(&place.root, &place.work, &place.profile, global);
    Ok(file.look(asked, |name| variables.get(name).cloned()).map(|standing| (standing, place)))
}

/// What a build of this session is sealed with; none where it answers a mere supposition. What was looked at for a `touched`
/// part of the plan is known already.
pub fn seal_wanted(
    session: &Session,
    resolved: &Resolved,
    planned: &Planned,
    touched: Option<&Touched>,
) -> Option<SealWanted> {
    if is_supposed(&session.global) {
        return None;
    }
    let tree = &session.board.tree;
    let asked = asked(&tree.board_root, &session.work, &session.profile, &session.global);
    let layers = resolved.choices.layers.iter().filter_map(|(_, layer)| ProfileName::parse(&layer.name));
    let chosen = layers.chain([session.profile.clone()]).flat_map(|name| session.shelf.places(&name));
    let mut looked: Vec<(PathBuf, Concern)> = chosen.map(|place| (place, Concern::Choices)).collect();
    let mut wanted = SealWanted {
        asked,
        started: session.opened,
        looked: Vec::new(),
        variables: session.variables.clone(),
        named: Vec::new(),
        search_path: std::env::split_paths(&session.search_path).filter(|folder| folder.is_absolute()).collect(),
        basis: match touched {
            Some(touched) => touched.basis.clone(),
            None => Basis::of(&session.plan_input(resolved, planned), &planned.plan.macros),
        },
    };
    if touched.is_none() {
        let mut places: Vec<PathBuf> = session.board.files.names().map(|name| tree.board_root.join(name)).collect();
        for (_, part) in session.board.parts.iter() {
            if let PartKind::Generated(Generator::Template { from, .. }) = &part.kind {
                places.push(from.below(&tree.source_root));
            }
        }
        places.extend(session.probes.places());
        looked.extend(places.into_iter().map(|place| (place, Concern::Plan)));
        wanted.named.extend(planned.listing.folders().iter().map(|folder| folder.below(&tree.source_root)));
        if tree.board_root != tree.source_root {
            let listing = Listing::of(&tree.board_root);
            wanted.named.extend(listing.folders().iter().map(|folder| folder.below(&tree.board_root)));
        }
    }
    looked.sort();
    looked.dedup();
    wanted.looked = looked;
    Some(wanted)
}

fn is_supposed(global: &Global) -> bool {
    !global.tried.is_empty() || !global.assume.is_empty() || !global.forbid.is_empty() || global.facts.is_some()
}

/// Stands for all that a build follows from and that no file says.
fn asked(root: &Path, work: &WorkFolder, profile: &ProfileName, global: &Global) -> Digest {
    let mut parts = vec![
        this_program(),
        root.display().to_string(),
        work.root().display().to_string(),
        global.sources.as_ref().map_or(String::new(), |folder| folder.display().to_string()),
        profile.to_string(),
        std::env::var("PATH").unwrap_or_default(),
        std::env::var(EPOCH_VARIABLE).unwrap_or_default(),
        processor().to_string(),
    ];
    let own = std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("BOLTBOARD_"));
    let mut own: Vec<String> =
        own.map(|(name, value)| format!("{}={}", name.to_string_lossy(), value.to_string_lossy())).collect();
    own.sort();
    parts.extend(own);
    Digest::of_parts(parts.iter().map(String::as_str))
}
