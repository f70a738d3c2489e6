//! `boltboard demo`: the whole way on Skerry, each step a real command with its real output.

use std::path::{Path, PathBuf};
use std::process::Command;

use boltboard_core::base::FileError;
use boltboard_core::base::files::make_folder;
use clap::Args;
use include_dir::{Dir, include_dir};

use crate::fault::{Diagnostic, Exit, FaultKind, Stop};
use crate::render::Screen;
use crate::render::text::{Role, paint};

/// The made-up tree, carried in the program.
static SKERRY: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo/skerry");

/// What is another in its later version, laid over the earlier one.
static LATER: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo/skerry-3.0");
/// Add-ons that lie beside it.
static ADD_ONS: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo/add-ons");
/// The later version.
const LATER_VERSION: &str = "3.0";

/// Show the whole way on a made-up tree
#[derive(Debug, Args)]
pub struct DemoArgs {
    /// Work in DIR and leave everything there [default: a temporary folder that is removed]
    #[arg(long = "in", value_name = "DIR")]
    folder: Option<PathBuf>,
    /// Only lay the tree out in DIR, in this version
    #[arg(long, value_name = "VERSION", requires = "folder", value_parser = ["2.4", LATER_VERSION])]
    tree_version: Option<String>,
}

/// One step: what it shows, and the command. `{prefix}` stands for the install folder.
struct Scene {
    tells: &'static str,
    program: Program,
    words: &'static [&'static str],
    folder: &'static str,
    ends: &'static [i32],
}

enum Program {
    Boltboard,
    Built(&'static str),
    Installed(&'static str),
}

const fn scene(tells: &'static str, words: &'static [&'static str]) -> Scene {
    Scene { tells, program: Program::Boltboard, words, folder: "", ends: &[0] }
}

const SCENES: &[Scene] = &[
    scene("What is this tree? Nothing of it has run, and nothing has been written.", &[]),
    scene("What is there to choose about fog signals?", &["options", "--section", "fog"]),
    Scene {
        tells: "The loudspeaker is blocked. Why? (From a folder inside the tree: every command works there.)",
        program: Program::Boltboard,
        words: &["why", "horn-speaker"],
        folder: "fog",
        ends: &[0],
    },
    scene(
        "Three choices. What they require is switched on with them, and listed.",
        &["set", "fog-horn=builtin", "link-satellite=loadable", "prefix={prefix}", "--reason", "trying it out"],
    ),
    scene("What would a build do, and what will it cost?", &["preview"]),
    scene("Build.", &["build"]),
    Scene {
        tells: "The watch that was built: modules built in and loaded, fog, lamp, tide.",
        program: Program::Built("skerryd"),
        words: &["--seed", "11", "--minutes", "60"],
        folder: "",
        ends: &[0],
    },
    scene(
        "How to get an arc lamp? Two ways, each with its cost in choices, other values and steps.",
        &["ways", "lamp-drive=arc"],
    ),
    scene("And why not do without checksums?", &["why", "crc=off"]),
    scene("One option changes.", &["set", "units=metric"]),
    scene("Which files does that touch, and why?", &["preview"]),
    scene("Build again: just those, and what links them.", &["build"]),
    scene("The tree's own tests on the result.", &["test"]),
    Scene {
        tells: "How does this profile differ from the small station that the tree ships?",
        program: Program::Boltboard,
        words: &["compare", "small-station", "mine"],
        folder: "",
        ends: &[1],
    },
    scene("Go over to that one and build it.", &["profile", "use", "small-station"]),
    scene("What both have in common is reused.", &["build"]),
    scene("And back again.", &["profile", "use", "mine"]),
    scene("Going back costs hardly anything.", &["build"]),
    scene(
        "Someone else has made an add-on, in a folder of its own. What does it bring?",
        &["add-on", "add", "../add-ons/aurora"],
    ),
    scene("Its module is built against this tree, and nothing else is.", &["build"]),
    scene("Where would it be installed?", &["install", "--preview"]),
    scene("Install it; no administrator is needed below one's own folders.", &["install"]),
    Scene {
        tells: "It runs from there, with its modules.",
        program: Program::Installed("skerryd"),
        words: &["--minutes", "5"],
        folder: "",
        ends: &[0],
    },
    scene(
        "What is this program? It says itself how it was made, wherever it is.",
        &["inspect", "--has", "fog-horn", "--has", "units=metric", "{prefix}/bin/skerryd"],
    ),
    scene("Another option changes.", &["set", "lamp-drive=arc", "lamp-rotation=off"]),
    scene("Install that: the next generation.", &["install"]),
    scene("What was installed when, and what differs?", &["back"]),
    scene("Back to the first, exactly.", &["back", "1"]),
    scene("Remove exactly what was installed.", &["uninstall"]),
    scene("What was built when, and how long it took.", &["ledger"]),
];

/// Runs the demo.
pub fn run(screen: &Screen, args: &DemoArgs) -> Result<Exit, Stop> {
    let temporary = tempfile::Builder::new().prefix("skerry-").tempdir();
    let temporary = temporary.map_err(FileError::on("make a folder in", &std::env::temp_dir()))?;
    let folder = match &args.folder {
        Some(folder) => {
            let used = std::fs::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some());
            if used {
                let diagnostic = Diagnostic::new(format!("{} is not empty", folder.display()));
                return Err(Stop::new(Exit::WrongUse, diagnostic.help("name a new folder")));
            }
            make_folder(folder)?;
            folder.canonicalize().map_err(FileError::on("read", folder))?
        }
        None => temporary.path().to_path_buf(),
    };
    let (tree, prefix) = (folder.join("skerry"), folder.join("installed"));
    make_folder(&tree)?;
    SKERRY.extract(&tree).map_err(FileError::on("write", &tree))?;
    let add_ons = folder.join("add-ons");
    make_folder(&add_ons)?;
    ADD_ONS.extract(&add_ons).map_err(FileError::on("write", &add_ons))?;
    if let Some(version) = &args.tree_version {
        if version == LATER_VERSION {
            LATER.extract(&tree).map_err(FileError::on("write", &tree))?;
        }
        screen.out(&format!("The tree Skerry {version} is in {}\n", tree.display()));
        return Ok(Exit::Done);
    }
    screen.out(&format!("The tree Skerry is in {}\n", tree.display()));
    for (number, scene) in SCENES.iter().enumerate() {
        screen.out(&format!("\n{}\n", paint(Role::Title, &format!("{}. {}", number + 1, scene.tells))));
        play(screen, scene, &tree, &prefix)?;
    }
    if args.folder.is_some() {
        screen.out(&format!("\nEverything is still in {}; go on by hand from there.\n", folder.display()));
    } else {
        screen
            .out("\nEverything was in a temporary folder and is gone now. Keep one with `boltboard demo --in DIR`.\n");
    }
    Ok(Exit::Done)
}

fn play(screen: &Screen, scene: &Scene, tree: &Path, prefix: &Path) -> Result<(), Stop> {
    let shown_prefix = prefix.display().to_string();
    let words: Vec<String> = scene.words.iter().map(|word| word.replace("{prefix}", &shown_prefix)).collect();
    let (program, name) = match scene.program {
        Program::Boltboard => {
            let own = std::env::current_exe().map_err(|e| Stop::usage(format!("cannot find this program: {e}")))?;
            (own, "boltboard".to_string())
        }
        Program::Built(name) => {
            let path = tree.join("boltboard-work/builds/mine/out/bin").join(name);
            (path, format!("boltboard-work/builds/mine/out/bin/{name}"))
        }
        Program::Installed(name) => (prefix.join("bin").join(name), format!("{shown_prefix}/bin/{name}")),
    };
    let quoted = |word: &String| if word.contains(' ') { format!("'{word}'") } else { word.clone() };
    let line = std::iter::once(name).chain(words.iter().map(quoted)).collect::<Vec<_>>().join(" ");
    let place = if scene.folder.is_empty() { String::new() } else { format!("cd {} && ", scene.folder) };
    screen.out(&format!("{} {}\n", paint(Role::Good, "$"), paint(Role::Name, &format!("{place}{line}"))));
    let status = Command::new(&program)
        .args(&words)
        .current_dir(tree.join(scene.folder))
        // The demo's tree is its own, whatever the person's shell is set to.
        .env_remove("BOLTBOARD_WORK")
        .status()
        .map_err(FileError::on("run", &program))?;
    match status.code() {
        Some(code) if scene.ends.contains(&code) => Ok(()),
        Some(130) | None => Err(Stop::of_all(FaultKind::No, Exit::Interrupted, vec![])),
        Some(4) => {
            let diagnostic = Diagnostic::new("the demo needs a C compiler that works");
            Err(Stop::new(Exit::HostLacks, diagnostic.help("install gcc and ar, then run the demo again")))
        }
        Some(code) => Err(Stop::new(Exit::No, Diagnostic::new(format!("the demo stops: `{line}` ended with {code}")))),
    }
}
