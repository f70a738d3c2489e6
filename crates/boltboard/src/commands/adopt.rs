//! `boltboard adopt`: a tree that has no description gets one from a watched build.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use boltboard_core::adopt::{
    DifferAsk, DifferFault, Drawing, Host, Proof, WatchAsk, WatchFault, Watched, again, differ, draw, from_database,
    hints, prove, watch,
};
use boltboard_core::base::files::{make_folder, read_text, write_whole};
use boltboard_core::base::{FileError, shell_word};
use boltboard_core::session::Surroundings;
use boltboard_core::watch::Gate;
use boltboard_core::work::{Places, WorkFolder};
use clap::{Args, Subcommand};

use super::build::{BuildArgs, build_first};
use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::text::next_line;
use crate::render::{Screen, adopt as render, json};
use crate::session::{Session, surroundings};

/// The name of a watched build that nobody named.
const USUAL: &str = "build";
/// What was drawn last lies there, beside the watched builds.
const DRAWN: &str = "drawn";
/// The name of work folders.
const WORK: &str = "boltboard-work";
/// The file of a description.
const DEFINITIONS: &str = "boltboard.toml";

/// Describe a tree that has no description, from one watched build
#[derive(Debug, Args)]
#[command(
    after_help = "A watched build is kept in boltboard-work/adopt/ of the tree. Nothing else of the tree changes."
)]
pub struct AdoptArgs {
    #[command(subcommand)]
    what: Option<What>,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Run the tree's usual build from nothing, and keep what it does
    Watch {
        /// What to call it
        #[arg(long, value_name = "NAME", default_value = USUAL)]
        name: String,
        /// Read a JSON compilation database instead, where no build can be watched: it knows compiles alone
        #[arg(long, value_name = "FILE", conflicts_with = "command")]
        database: Option<PathBuf>,
        /// The command that builds, with its words
        #[arg(
            value_name = "COMMAND",
            required_unless_present = "database",
            trailing_var_arg = true,
            allow_hyphen_values = true
        )]
        command: Vec<String>,
    },
    /// Show what was understood of a watched build, and what was not
    Seen {
        /// The watched build
        #[arg(long, value_name = "NAME", default_value = USUAL)]
        name: String,
    },
    /// Write the description
    Draw {
        /// The watched build
        #[arg(long, value_name = "NAME", default_value = USUAL)]
        name: String,
        /// Write it into DIR [default: TREE-board beside the tree]
        #[arg(long, value_name = "DIR")]
        into: Option<PathBuf>,
        /// Take over into the description that is there what has changed since it was drawn
        #[arg(long)]
        again: bool,
    },
    /// Find the option between two watched builds, write it into the description, and prove both values
    Differ {
        /// The build without the setting
        #[arg(value_name = "WITHOUT")]
        without: String,
        /// The build with it
        #[arg(value_name = "WITH")]
        with: String,
        /// The option's name
        #[arg(long, value_name = "NAME", required = true)]
        option: String,
        /// The description lies in DIR [default: TREE-board beside the tree]
        #[arg(long, value_name = "DIR")]
        from: Option<PathBuf>,
        /// Several macros belong to this one setting
        #[arg(long)]
        together: bool,
    },
    /// List macros that look like options, the likeliest first
    Hints {
        /// The watched build
        #[arg(long, value_name = "NAME", default_value = USUAL)]
        name: String,
        /// All of them
        #[arg(long)]
        all: bool,
    },
    /// Build by the description, and compare each file with the watched build's
    Prove {
        /// The watched build
        #[arg(long, value_name = "NAME", default_value = USUAL)]
        name: String,
        /// The description lies in DIR [default: TREE-board beside the tree]
        #[arg(long, value_name = "DIR")]
        from: Option<PathBuf>,
    },
}

/// The tree that is adopted.
struct Adopted {
    tree: PathBuf,
    work: WorkFolder,
    around: Surroundings,
}

impl Adopted {
    fn find(global: &Global) -> Result<Adopted, Stop> {
        let around = surroundings()?;
        let tree = global.tree.as_deref().map_or_else(|| around.folder.clone(), |tree| around.path_here(tree));
        let tree = tree.canonicalize().map_err(|e| Stop::from(FileError::on("look at", &tree)(e)))?;
        let work = global.work.as_deref().map_or_else(|| tree.join(WORK), |work| around.path_here(work));
        Ok(Adopted { work: WorkFolder::at(&work), tree, around })
    }

    fn tree_name(&self) -> String {
        self.tree.file_name().map_or("tree".into(), |name| name.to_string_lossy().into_owned())
    }

    fn kept(&self, name: &str) -> Result<PathBuf, Stop> {
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
        if name.is_empty() || name == DRAWN || name.starts_with('.') || !name.chars().all(plain) {
            let what = format!("`{name}` cannot be the name of a watched build: letters, digits, `-`, `_` and `.` can");
            return Err(Stop::new(Exit::WrongUse, Diagnostic::new(what)));
        }
        Ok(self.work.watched().join(name))
    }

    fn load(&self, name: &str) -> Result<Watched, Stop> {
        let file = self.kept(name)?;
        if let Some(watched) = Watched::load(&file) {
            return Ok(watched);
        }
        let known = self.names();
        let what = if file.exists() {
            format!("what was kept of the watched build `{name}` is damaged, or of another version: watch it again")
        } else {
            format!("no build called `{name}` was watched in {}", self.tree.display())
        };
        let mut diagnostic = Diagnostic::new(what);
        if !known.is_empty() {
            diagnostic = diagnostic.note(format!("watched builds here: {}", known.join(", ")));
        }
        Err(Stop::new(Exit::WrongUse, diagnostic.next("boltboard adopt", "what is known, and how to go on")))
    }

    /// The builds that were watched.
    fn names(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.work.watched()).into_iter().flatten();
        let name = |entry: std::io::Result<std::fs::DirEntry>| entry.ok()?.file_name().into_string().ok();
        let mut names: Vec<String> =
            entries.filter_map(name).filter(|name| !name.starts_with('.') && name != DRAWN).collect();
        names.sort();
        names
    }

    /// Where the description lies, or is to lie.
    fn description(&self, told: Option<&Path>) -> PathBuf {
        told.map_or_else(
            || self.tree.with_file_name(format!("{}-board", self.tree_name())),
            |told| self.around.path_here(told),
        )
    }

    fn drawing(&self, watched: &Watched, into: &Path) -> Drawing {
        draw(watched, &self.host(), into)
    }

    /// Keeps what was drawn, so that a later drawing can be told from a person's edits.
    fn note_drawn(&self, drawing: &Drawing) -> Result<(), Stop> {
        let folder = self.work.watched().join(DRAWN);
        make_folder(&folder)?;
        write_files(&folder, &drawing.files)?;
        write_whole(&folder.join(DEFINITIONS), drawing.text.as_bytes())?;
        Ok(())
    }

    fn host(&self) -> Host {
        Host::at(Path::new("/"), self.around.own_metadata_folders())
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &AdoptArgs) -> Result<Exit, Stop> {
    let adopted = Adopted::find(global)?;
    match &args.what {
        None => status(global, screen, &adopted),
        Some(What::Watch { name, database: Some(file), .. }) => read_database(global, screen, &adopted, name, file),
        Some(What::Watch { name, database: None, command }) => watch_build(global, screen, &adopted, name, command),
        Some(What::Seen { name }) => {
            let watched = adopted.load(name)?;
            let drawing = adopted.drawing(&watched, &adopted.description(None));
            if global.json {
                screen.json(&json::adopt_seen(&watched, &drawing));
            } else {
                screen.out(&render::seen(&watched, &drawing, screen.width));
            }
            Ok(Exit::Done)
        }
        Some(What::Draw { name, into, again: false }) => draw_it(global, screen, &adopted, name, into.as_deref()),
        Some(What::Draw { name, into, again: true }) => draw_again(global, screen, &adopted, name, into.as_deref()),
        Some(What::Differ { without, with, option, from, together }) => {
            let ask = DifferWords { without, with, option, together: *together };
            differ_it(global, screen, &adopted, &ask, from.as_deref())
        }
        Some(What::Hints { name, all }) => {
            let found = hints(&adopted.load(name)?, &adopted.host());
            if global.json {
                screen.json(&json::adopt_hints(&found));
            } else {
                screen.out(&render::hints(&found, *all, screen.width));
            }
            Ok(Exit::Done)
        }
        Some(What::Prove { name, from }) => prove_it(global, screen, &adopted, name, from.as_deref()),
    }
}

fn status(global: &Global, screen: &Screen, adopted: &Adopted) -> Result<Exit, Stop> {
    let names = adopted.names();
    let description = adopted.description(None);
    let drawn = description.join(DEFINITIONS).is_file().then_some(description);
    let own = adopted.tree.join(DEFINITIONS).is_file();
    if global.json {
        screen.json(&json::adopted(&adopted.tree, &names, drawn.as_deref()));
    } else {
        screen.out(&render::status(&adopted.tree, &names, drawn.as_deref(), own));
    }
    Ok(Exit::Done)
}

fn watch_build(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    name: &str,
    command: &[String],
) -> Result<Exit, Stop> {
    let file = adopted.kept(name)?;
    let Some(own) = &adopted.around.own else {
        return Err(Stop::usage("this program cannot find its own file, which it needs to watch others".to_string()));
    };
    adopted.work.prepare(&adopted.tree_name()).map_err(Stop::from)?;
    let gate = Gate { program: own.file.clone(), word: own.gate };
    let ask = WatchAsk {
        gate: &gate,
        name,
        command,
        tree: &adopted.tree,
        environment: &adopted.around.variables,
        search_path: adopted.around.search_path(),
    };
    let watched = watch(&ask).map_err(|fault| {
        let mut diagnostic = Diagnostic::new(fault.to_string());
        if matches!(fault, WatchFault::NotWatched { .. }) {
            let lesser = "Where watching is forbidden, `--database FILE` reads a JSON compilation database instead.";
            diagnostic = diagnostic.help(lesser);
        }
        Stop::new(Exit::Machine, diagnostic)
    })?;
    make_folder(&adopted.work.watched())?;
    watched.save(&file)?;
    let drawing = adopted.drawing(&watched, &adopted.description(None));
    if global.json {
        screen.json(&json::adopt_seen(&watched, &drawing));
    } else {
        screen.out(&render::watched(&watched, &drawing));
    }
    Ok(if watched.exit == 0 { Exit::Done } else { Exit::No })
}

/// Takes compiles over from a database.
fn read_database(global: &Global, screen: &Screen, adopted: &Adopted, name: &str, file: &Path) -> Result<Exit, Stop> {
    let kept = adopted.kept(name)?;
    let path = adopted.around.path_here(file);
    let text = read_text(&path)?
        .ok_or_else(|| Stop::new(Exit::WrongUse, Diagnostic::new(format!("there is no file {}", path.display()))))?;
    let watched = from_database(&text, name, file, &adopted.tree).map_err(|why| {
        let what = format!("{} is no compilation database: {why}", path.display());
        Stop::new(Exit::WrongUse, Diagnostic::new(what))
    })?;
    adopted.work.prepare(&adopted.tree_name()).map_err(Stop::from)?;
    make_folder(&adopted.work.watched())?;
    watched.save(&kept)?;
    let drawing = adopted.drawing(&watched, &adopted.description(None));
    if global.json {
        screen.json(&json::adopt_seen(&watched, &drawing));
    } else {
        screen.out(&render::watched(&watched, &drawing));
    }
    Ok(Exit::Done)
}

fn draw_it(global: &Global, screen: &Screen, adopted: &Adopted, name: &str, into: Option<&Path>) -> Result<Exit, Stop> {
    let watched = adopted.load(name)?;
    let folder = adopted.description(into);
    let file = folder.join(DEFINITIONS);
    if file.symlink_metadata().is_ok() {
        let diagnostic = Diagnostic::new(format!("there already is a description: {}", file.display()))
            .help("Move it away, or write the new one elsewhere with `--into DIR`.".to_string());
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    }
    let drawing = adopted.drawing(&watched, &folder);
    write_files(&folder, &drawing.files)?;
    // The definitions come last: until then, nobody takes the folder for a description.
    write_whole(&file, drawing.text.as_bytes())?;
    adopted.note_drawn(&drawing)?;
    // From now on, every command works within the tree as well.
    let places = Places { board: folder.clone(), sources: adopted.tree.clone(), work: Some(folder.join(WORK)) };
    adopted.work.remember(&places)?;
    if global.json {
        screen.json(&json::adopt_drawn(&file, &drawing));
    } else {
        screen.out(&render::drawn(&file, &drawing, name, into));
    }
    Ok(Exit::Done)
}

fn write_files(folder: &Path, files: &BTreeMap<String, String>) -> Result<(), Stop> {
    for (place, text) in files {
        let path = folder.join(place);
        path.parent().map(make_folder).transpose()?;
        write_whole(&path, text.as_bytes())?;
    }
    Ok(())
}

/// Takes over what has changed since the last drawing; what a person changed as well stays, and is told.
fn draw_again(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    name: &str,
    into: Option<&Path>,
) -> Result<Exit, Stop> {
    let watched = adopted.load(name)?;
    let folder = adopted.description(into);
    let file = folder.join(DEFINITIONS);
    let mine = read_text(&file)?.ok_or_else(|| no_description(&folder))?;
    let drawn = adopted.work.watched().join(DRAWN);
    let Some(before) = read_text(&drawn.join(DEFINITIONS))? else {
        let diagnostic =
            Diagnostic::new("what was drawn before is not known any more, so nothing can be told apart".to_string())
                .next("boltboard adopt draw --into drawn-anew", "draw it anew beside the description");
        return Err(Stop::new(Exit::WrongUse, diagnostic));
    };
    let drawing = adopted.drawing(&watched, &folder);
    let merged = again(&before, &mine, &drawing.text).map_err(|why| Stop::new(Exit::Wrong, Diagnostic::new(why)))?;
    let mut merged = merged;
    let mut files = BTreeMap::new();
    for (place, text) in &drawing.files {
        let (own, old) = (read_text(&folder.join(place))?, read_text(&drawn.join(place))?);
        // What is drawn as it was says nothing of what a person made of it.
        if own.as_ref() == Some(text) || old.as_ref() == Some(text) {
            continue;
        }
        if own.is_none() || own == old {
            merged.taken.push(format!("changed: {place}"));
            files.insert(place.clone(), text.clone());
        } else {
            let beside = format!("{place}.drawn");
            merged.conflicts.push(format!("{place}: drawn again as {beside}"));
            files.insert(beside, text.clone());
        }
    }
    write_files(&folder, &files)?;
    write_whole(&file, merged.text.as_bytes())?;
    adopted.note_drawn(&drawing)?;
    if global.json {
        screen.json(&json::adopt_again(&file, &merged));
    } else {
        screen.out(&render::drawn_again(&file, &merged, name));
    }
    Ok(if merged.conflicts.is_empty() { Exit::Done } else { Exit::No })
}

/// What was typed to find an option.
struct DifferWords<'a> {
    without: &'a str,
    with: &'a str,
    option: &'a str,
    together: bool,
}

fn differ_it(
    global: &Global,
    screen: &Screen,
    adopted: &Adopted,
    ask: &DifferWords<'_>,
    from: Option<&Path>,
) -> Result<Exit, Stop> {
    let (off, on) = (adopted.load(ask.without)?, adopted.load(ask.with)?);
    let folder = adopted.description(from);
    let file = folder.join(DEFINITIONS);
    let text = read_text(&file)?.ok_or_else(|| no_description(&folder))?;
    let host = adopted.host();
    let wanted = DifferAsk { option: ask.option, text: &text, at: &folder, together: ask.together };
    let differed = differ(&off, &on, &host, &wanted).map_err(not_told)?;
    write_files(&folder, &differed.files)?;
    write_whole(&file, differed.text.as_bytes())?;
    if !global.json {
        screen.out(&render::differed(ask.option, &file, &differed));
    }
    let mut proofs = Vec::new();
    for (watched, value) in [(&off, "off"), (&on, "on")] {
        let tried = vec![format!("{}={value}", ask.option)];
        match proof_of(&Global { tried, ..global.clone() }, screen, adopted, watched, &folder)? {
            Ok(proof) => proofs.push((value, proof)),
            Err(exit) => return Ok(exit),
        }
    }
    if global.json {
        let proofs: Vec<_> = proofs.iter().map(|(value, proof)| (*value, proof)).collect();
        screen.json(&json::adopt_differed(&file, &differed, &proofs));
    } else {
        for (value, proof) in &proofs {
            screen.out(&format!("\n{}={value}: {}", ask.option, render::proof_lines(proof, screen.width)));
        }
        screen.out(&next_line(format!("boltboard show {}", ask.option), "the option"));
    }
    Ok(if proofs.iter().all(|(_, proof)| proof.differences.is_empty()) { Exit::Done } else { Exit::No })
}

fn not_told(fault: DifferFault) -> Stop {
    let mut diagnostic = Diagnostic::new(fault.to_string());
    match &fault {
        DifferFault::Several(_) => {
            diagnostic = diagnostic
                .help("Watch two builds that differ in one setting, or say `--together` if it is one.".to_string());
        }
        DifferFault::Unclear(lines) => diagnostic.notes.extend(lines.iter().cloned()),
        DifferFault::Same | DifferFault::Known(_) | DifferFault::Unreadable(_) | DifferFault::OtherTree => {}
    }
    Stop::new(Exit::WrongUse, diagnostic)
}

fn no_description(folder: &Path) -> Stop {
    let diagnostic = Diagnostic::new(format!("there is no description in {}", folder.display()))
        .next("boltboard adopt draw", "write it");
    Stop::new(Exit::WrongUse, diagnostic)
}

/// Builds by the description and compares; where that fails, how the build ended.
fn proof_of(
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

fn prove_it(
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
    Ok(if proof.differences.is_empty() { Exit::Done } else { Exit::No })
}
