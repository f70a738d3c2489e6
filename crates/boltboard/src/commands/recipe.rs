//! `boltboard export recipe`

use std::collections::BTreeSet;
use std::fmt::Write;
use std::path::{Path, PathBuf};

use boltboard_core::base::FileError;
use boltboard_core::base::files::{make_folder, write_whole};
use boltboard_core::board::ADD_ONS;
use boltboard_core::definitions::Listing;
use boltboard_core::profile::Layers;
use boltboard_core::remedy::{Family, packages};
use boltboard_core::session::Resolved;
use boltboard_core::survey::FactState;
use clap::Args;

use super::profile::told;
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::Screen;
use crate::render::text::next_line;
use crate::session::Session;

/// The script's name.
const SCRIPT: &str = "recipe.sh";
/// The file with what this host has.
const HOST: &str = "host.toml";

#[derive(Debug, Args)]
pub struct RecipeArgs {
    /// The folder for the script, the profile and what goes with them; it must be new or empty
    #[arg(long, value_name = "DIR")]
    into: PathBuf,
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &RecipeArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    session.only_real()?;
    // Only what holds together here is handed on.
    let resolved = session.resolve()?;
    let folder = session.around.path_here(&args.into);
    if std::fs::read_dir(&folder).is_ok_and(|mut entries| entries.next().is_some()) {
        let diagnostic = Diagnostic::new(format!("{} is not empty", args.into.display()));
        return Err(Stop::new(Exit::WrongUse, diagnostic.help("name a new folder")));
    }
    std::fs::create_dir_all(&folder).map_err(FileError::on("make", &folder))?;
    let profile = folder.join(format!("{}.toml", session.profile));
    let draft = session.shelf.on_its_own(&session.profile, &resolved.choices, &profile, Layers::None, &session.board);
    draft.map_err(|fault| told(fault, &session))?.save()?;
    for place in &session.add_ons {
        copy_folder(&place.folder, &folder.join(ADD_ONS).join(&place.name))?;
    }
    session.host_record(&resolved.choices, &resolved.facts).save(&folder.join(HOST))?;
    write_whole(&folder.join(SCRIPT), script(&session, &resolved).as_bytes())?;
    let shown = args.into.display();
    screen.done(
        &format!("Wrote {shown}/{SCRIPT} with the profile {} and what this host has.\n", session.profile),
        global.json,
    );
    if !global.json {
        screen.out(&next_line(format!("less {shown}/{SCRIPT}"), "what it does; hand the folder on as it is"));
    }
    Ok(Exit::Done)
}

/// Copies a folder without what is hidden and what builds wrote.
fn copy_folder(from: &Path, to: &Path) -> Result<(), FileError> {
    for file in Listing::of(from).files() {
        let place = file.below(to);
        make_folder(place.parent().unwrap_or(to))?;
        std::fs::copy(file.below(from), &place).map_err(FileError::on("copy to", &place))?;
    }
    Ok(())
}

/// The packages of a family that bring what the profile was built with here.
fn packages_of(session: &Session, resolved: &Resolved, family: Family) -> BTreeSet<String> {
    let board = &session.board;
    let found = resolved.facts.iter().filter(|fact| matches!(fact.state, FactState::Found(_)));
    let names = found.flat_map(|fact| packages(board, &resolved.facts, fact.need, family));
    names.map(|package| package.to_string()).collect()
}

fn script(session: &Session, resolved: &Resolved) -> String {
    let tree = &session.board.tree;
    let (name, version, profile) = (&tree.name, &tree.version, session.profile.as_str());
    let has_prefix = session.board.prefix().is_some();
    let has_tests = session.board.tests.iter().next().is_some();
    let installs = session.board.parts.iter().any(|(_, part)| part.install.is_some());
    let mut text = format!(
        "#!/bin/sh\n\
         # Builds {name} {version} as the profile {profile} has it: what is needed, survey, build, tests, installation.\n\
         #\n\
         #   sh {SCRIPT} TREE                    in the folder TREE with the sources of {name} {version}\n\
         #   sh {SCRIPT} TREE --with-packages    installs the packages first, for which you need the right\n"
    );
    if has_prefix {
        let _ = writeln!(text, "#   PREFIX=/some/where sh {SCRIPT} TREE    installs there");
    }
    text += "set -eu\n\
         here=$(cd \"$(dirname \"$0\")\" && pwd)\n\
         tree=${1:?name the folder of the tree}\n\
         command -v boltboard > /dev/null || { echo 'boltboard is not in the search path' >&2; exit 4; }\n\n";
    text += "# What the profile was built with, by distribution.\nfamily=\nif [ -r /etc/os-release ]; then\n    . /etc/os-release\n    family=\"${ID:-} ${ID_LIKE:-}\"\nfi\ninstall=\ncase \" $family \" in\n";
    for family in Family::ALL {
        let packages = packages_of(session, resolved, family);
        let ids: Vec<String> = family
            .ids()
            .iter()
            .map(|id| if id.ends_with('-') { format!("*' {id}'*") } else { format!("*' {id} '*") })
            .collect();
        let command = if packages.is_empty() {
            String::new()
        } else {
            let words = family.install_words().iter().map(ToString::to_string);
            words.chain(packages).collect::<Vec<_>>().join(" ")
        };
        let _ = writeln!(text, "{}) install='{command}' ;;", ids.join("|"));
    }
    text += "esac\nif [ -n \"$install\" ]; then\n    echo \"Packages: $install\"\n    if [ \"${2:-}\" = --with-packages ]; then $install; fi\nfi\n\n";
    let prefix = if has_prefix { " ${PREFIX:+--try \"prefix=$PREFIX\"}" } else { "" };
    let _ = write!(
        text,
        "board() {{\n    command=$1\n    shift\n    (cd \"$tree\" && boltboard \"$command\" --profile \"$here/{profile}.toml\" \"$@\")\n}}\n\n"
    );
    for add_on in &session.board.add_ons {
        let name = &add_on.name;
        let _ = writeln!(
            text,
            "echo '== Add-on {name}'\n\
             (cd \"$tree\" && {{ boltboard show {name} > /dev/null 2>&1 || boltboard add-on add \"$here/{ADD_ONS}/{name}\"; }})"
        );
    }
    if session.board.fetches.ids().next().is_some() {
        text += "echo '== What the tree does not carry'\nboard fetch\n";
    }
    text += "echo '== What this machine has, and how it differs from the one that this was written on'\n";
    let _ = writeln!(text, "board survey\nboard survey --against \"$here/{HOST}\" || true");
    let _ = writeln!(text, "echo '== Build'\nboard build{prefix}");
    if has_tests {
        let _ = writeln!(text, "echo '== Tests'\nboard test --all{prefix}");
    }
    if installs {
        let _ = writeln!(text, "echo '== Installation'\nboard install{prefix}");
    }
    text
}
