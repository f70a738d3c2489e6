//! Whether the last build still stands, told from its seal alone: without reading the board.

use std::path::{Path, PathBuf};

use boltboard_core::base::Digest;
use boltboard_core::board::{Generator, PartKind};
use boltboard_core::definitions::Listing;
use boltboard_core::profile::{Choices, ProfileName};
use boltboard_core::run::SealWanted;
use boltboard_core::store::{Sealed, WorkFolder, sealed};

use crate::args::Global;
use crate::exit::Stop;
use crate::session::{Planned, Session, Whereabouts, this_program};

/// Returns the last build of the profile in use, with that profile, if it stands for what is asked.
pub fn standing(global: &Global) -> Result<Option<(Sealed, Whereabouts)>, Stop> {
    if is_supposed(global) {
        return Ok(None);
    }
    let place = Whereabouts::find(global)?;
    // Where the sources lie only matters for what `asked` holds already.
    let folders = place.work.folders(&place.root, &place.profile);
    Ok(sealed(&folders.seal(), asked(&place.root, &place.work, &place.profile, global)).map(|sealed| (sealed, place)))
}

/// What a build of this session is sealed with; none where it answers a mere supposition.
pub fn seal_wanted(session: &Session, choices: &Choices, planned: &Planned) -> Option<SealWanted> {
    if is_supposed(&session.global) {
        return None;
    }
    let tree = &session.board.tree;
    let asked = asked(&tree.board_root, &session.work, &session.profile, &session.global);
    let mut looked: Vec<PathBuf> = session.board.files.names().map(|name| tree.board_root.join(name)).collect();
    looked.extend(planned.listing.folders().iter().map(|folder| folder.below(&tree.source_root)));
    if tree.board_root != tree.source_root {
        let listing = Listing::of(&tree.board_root);
        looked.extend(listing.folders().iter().map(|folder| folder.below(&tree.board_root)));
    }
    for (_, part) in session.board.parts.iter() {
        if let PartKind::Generated(Generator::Template { from, .. }) = &part.kind {
            looked.push(from.below(&tree.source_root));
        }
    }
    let layers = choices.layers.iter().filter_map(|(_, layer)| ProfileName::parse(&layer.name));
    looked.extend(layers.chain([session.profile.clone()]).flat_map(|name| session.shelf.places(&name)));
    looked.extend(session.probes.places());
    let search_path = std::env::split_paths(&session.search_path).filter(|folder| folder.is_absolute()).collect();
    looked.sort();
    looked.dedup();
    Some(SealWanted { asked, started: session.opened, looked, search_path })
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
    ];
    let own = std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("BOLTBOARD_"));
    let mut own: Vec<String> =
        own.map(|(name, value)| format!("{}={}", name.to_string_lossy(), value.to_string_lossy())).collect();
    own.sort();
    parts.extend(own);
    Digest::of_parts(parts.iter().map(String::as_str))
}
