//! `boltboard adopt`: a tree that has no description gets one from a watched build.

mod draw;
mod prove;
mod watch;

use std::path::{Path, PathBuf};

use boltboard_core::adopt::{AnswerFault, Answers, Drawing, Host, Watched, draw as drawn, hints};
use boltboard_core::base::FileError;
use boltboard_core::base::files::{read_text, write_whole};
use boltboard_core::session::Surroundings;
use boltboard_core::work::WorkFolder;
use clap::{Args, Subcommand};

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Stop};
use crate::render::{Screen, adopt as render, json};
use crate::session::surroundings;

/// The name of a watched build that nobody named.
const USUAL: &str = "build";
/// What was drawn last lies there, beside the watched builds.
const DRAWN: &str = "drawn";
/// What was answered lies there; no watched build can be called so.
const ANSWERS: &str = ".answers";
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
        /// Answer a question before it is asked, as in `version=2.4` or `flags=options`
        #[arg(long = "answer", value_name = "QUESTION=ANSWER")]
        answers: Vec<String>,
        /// Take over into the description that is there what has changed since it was drawn
        #[arg(long)]
        again: bool,
    },
    /// Find the option between watched builds, write it into the description, and prove each value
    Differ {
        /// The build without the setting, and the one with it; or one build for each value of a choice
        #[arg(value_name = "BUILD", num_args = 2.., required = true)]
        builds: Vec<String>,
        /// The option's name
        #[arg(long, value_name = "NAME", required = true)]
        option: String,
        /// What the option's value is called in each build, with commas between [default of more than two: the builds' names]
        #[arg(long, value_name = "VALUES", value_delimiter = ',')]
        values: Vec<String>,
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
    /// What a person answered, now or before.
    answers: Answers,
}

impl Adopted {
    fn find(global: &Global) -> Result<Adopted, Stop> {
        let around = surroundings()?;
        let tree = global.tree.as_deref().map_or_else(|| around.folder.clone(), |tree| around.path_here(tree));
        let tree = tree.canonicalize().map_err(|e| Stop::from(FileError::on("look at", &tree)(e)))?;
        let work = global.work.as_deref().map_or_else(|| tree.join(WORK), |work| around.path_here(work));
        let work = WorkFolder::at(&work);
        let answers = Answers::parse(&read_text(&work.watched().join(ANSWERS))?.unwrap_or_default());
        Ok(Adopted { work, tree, around, answers })
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
        drawn(watched, &self.host(), &self.answers, into)
    }

    /// Takes answers that were typed, and keeps them.
    fn take_answers(&mut self, typed: &[String]) -> Result<(), Stop> {
        for text in typed {
            let (key, answer) = text.split_once('=').unwrap_or((text, ""));
            self.take_answer(key, answer)?;
        }
        Ok(())
    }

    fn take_answer(&mut self, key: &str, answer: &str) -> Result<(), Stop> {
        let wrong = |fault: AnswerFault| {
            let help = "as in `--answer version=2.4`, `--answer flags=options` or `--answer hints=WITH`";
            Stop::new(Exit::WrongUse, Diagnostic::new(fault.to_string()).help(help))
        };
        self.answers.take(key, answer).map_err(wrong)?;
        Ok(write_whole(&self.work.watched().join(ANSWERS), self.answers.text().as_bytes())?)
    }

    fn host(&self) -> Host {
        Host { metadata_folders: self.around.own_metadata_folders(), distribution: self.around.distribution() }
    }
}

/// Runs the command.
pub fn run(global: &Global, screen: &Screen, args: &AdoptArgs) -> Result<Exit, Stop> {
    let mut adopted = Adopted::find(global)?;
    match &args.what {
        None => status(global, screen, &adopted),
        Some(What::Watch { name, database: Some(file), .. }) => {
            watch::read_database(global, screen, &adopted, name, file)
        }
        Some(What::Watch { name, database: None, command }) => {
            watch::watch_build(global, screen, &adopted, name, command)
        }
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
        Some(What::Draw { name, into, answers, again }) => {
            adopted.take_answers(answers)?;
            let draw = if *again { draw::draw_again } else { draw::draw_it };
            draw(global, screen, &mut adopted, name, into.as_deref())
        }
        Some(What::Differ { builds, option, values, from, together }) => {
            let values = if builds.len() > 2 && values.is_empty() { builds } else { values };
            let ask = draw::DifferWords { builds, option, values, together: *together };
            draw::differ_it(global, screen, &adopted, &ask, from.as_deref())
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
        Some(What::Prove { name, from }) => prove::prove_it(global, screen, &adopted, name, from.as_deref()),
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

/// There is nothing to go by yet.
fn no_description(folder: &Path) -> Stop {
    let diagnostic = Diagnostic::new(format!("there is no description in {}", folder.display()))
        .next("boltboard adopt draw", "write it");
    Stop::new(Exit::WrongUse, diagnostic)
}
