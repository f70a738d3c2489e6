//! A compile that another machine runs. Nothing is taken on trust: what comes back counts as a run here would only if all that it stands on
//! is the same here. A step that fails there runs here.

use std::collections::HashMap;
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::ended::{Concluded, Ended, NotCounted, Trouble};
use super::execute::Executor;
use super::failure::Cause;
use super::stands::{self, Stands};
use crate::base::files::{make_folder, write_quickly};
use crate::base::{Digest, FileError};
use crate::launch::{Exit, Outcome, Used};
use crate::step::{Compile, Form, Lists, Location, Look, Process, Setup, Step, Word};
use crate::work::{Folders, time_of_files};
use crate::workers::{Done, Gone, Input, Seat, Work, Worker};

/// Whether a step may go to another machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Goes {
    /// It may.
    Now,
    /// It may when one like it has run here, which shows what its programs stand on.
    Later,
    /// It may not.
    Never,
}

impl Executor<'_> {
    /// Tells whether a step may go to another machine: a compile of which all that it can look at is known beforehand.
    pub fn goes(&self, step: &Step) -> Goes {
        let Some(compile) = step.compile() else { return Goes::Never };
        let simple = compile.form == Form::Object && !step.makes_more() && compile.is_plain(self.tools);
        if !simple || !self.launch.watches() {
            return Goes::Never;
        }
        let closely = || {
            let before = self.judge.journal.packed(&step.name).and_then(|record| record.note.as_ref());
            before.is_some_and(|note| note.closely)
        };
        match step.class() {
            Some(class) if !self.judge.knows_class(&class) => Goes::Later,
            Some(_) if self.depth(step, closely()).is_none() => Goes::Now,
            Some(_) | None => Goes::Never,
        }
    }

    /// Has a step run by a worker.
    pub fn run_away(&self, seat: &Seat, step: &Step) -> Ended {
        let stays = |why: Option<String>| Ended::NotCounted(NotCounted::Stays(why));
        let Some(compile) = step.compile() else { return stays(None) };
        // One for each seat: making folders anew for each step costs more than all else.
        let of_worker = &Digest::of(seat.worker.name().as_bytes()).to_string()[..8];
        let aside = self.judge.plan.folders.aside().join(format!("away-{of_worker}-{}", seat.number));
        match self.sent(seat, step, compile, &aside) {
            Ok(ended) => {
                seat.worker.counts();
                ended
            }
            Err(Home::Lost) => Ended::NotCounted(NotCounted::Lost),
            Err(Home::Stopped) => Ended::Stopped,
            Err(Home::Unlike(why)) => {
                let why = format!("{}: {why}", seat.worker.name());
                seat.worker.is_futile();
                Ended::NotCounted(NotCounted::Unlike(why))
            }
            Err(Home::Own(why)) => stays(why),
        }
    }

    fn sent(&self, seat: &Seat, step: &Step, compile: &Compile, aside: &Path) -> Result<Ended, Home> {
        let worker = &*seat.worker;
        let class = step.class().ok_or(Home::Own(None))?;
        let asks = compile.setting.words.iter().any(Word::asks_for_own_processor);
        if asks && worker.hello().processor != self.tools.processor {
            return Err(Home::Unlike("it has another processor".into()));
        }
        let searched = self.search_folders(compile);
        let mut folders = self.own_folders(searched.iter().chain(&compile.setting.flags.search.quoted));
        let footing = self.judge.footing(&class).ok_or(Home::Own(None))?;
        if !worker.is_known(&footing.generation) {
            let (of_host, of_tree) = parted(&footing.looks)?;
            self.holds_there(worker, &of_host, footing.absent.iter().map(String::as_str))?;
            folders.extend(self.own_folders(&of_tree));
        }
        let inputs = self.may_see(step, compile, &searched).map_err(|why| Home::Own(Some(why)))?;
        let inputs = self.inputs(&inputs)?;
        let started = time_of_files();
        let there = Folders { tree: worker.hello().tree.clone(), build: worker.hello().build.clone() };
        let aside_there = there.aside().join(seat.number.to_string());
        let setup = Setup { folders: &there, ..self.setup(&aside_there, None) };
        let runs = step.runs().ok_or(Home::Own(None))?;
        let process = runs.process(step, &setup).map_err(|_| Home::Own(None))?;
        let work = errand(step, &process, &aside_there, folders);
        let content = |input: &Input| {
            let at: Location = input.at.parse().ok()?;
            std::fs::read(at.path(&self.judge.plan.folders)).ok()
        };
        let done = worker.run(work, &inputs, &content, self.stopped)?;
        // From now on, its folders are there as well.
        worker.knows(footing.generation);
        if done.exit != Exit::Code(0) {
            // Whatever the reason is, it shows here as well, or is none.
            return Err(Home::Own(None));
        }
        self.read_the_same(&done, &there)?;
        let lists = put_aside(step, &done, aside, &process.lists, &there)?;
        self.taken(step, &process, done, Arrived { worker, lists, there, aside_there, aside, started }, &inputs)
    }

    /// Takes what a worker made, if all that it stands on is the same here.
    fn taken(
        &self,
        step: &Step,
        process: &Process,
        done: Done,
        arrived: Arrived<'_>,
        inputs: &[Input],
    ) -> Result<Ended, Home> {
        let Arrived { worker, lists, there, aside_there, aside, started } = arrived;
        let here = |text: &[u8]| self.by_places_here(text, &there, (&aside_there, aside));
        let outcome = Outcome {
            exit: done.exit,
            stdout: here(&done.stdout),
            stderr: here(&done.stderr),
            wall: Duration::from_micros(done.wall_us),
            used: Used { cpu: Duration::from_micros(done.cpu_us), memory: done.memory },
            sight: None,
        };
        let said = self.by_final_names(step, aside, outcome.stdout_text() + &outcome.stderr_text());
        let run = stands::Ended { job: &process.job, outcome: &outcome, lists: &lists, aside, started, closely: false };
        let sent: HashMap<&str, Digest> = inputs.iter().map(|input| (input.at.as_str(), input.content)).collect();
        let counts = |stands: Option<&Stands>| {
            let stands = stands.ok_or("a file changed meanwhile")?;
            self.stands_there(worker, stands, &sent).map_err(|home| match home {
                Home::Unlike(why) | Home::Own(Some(why)) => why,
                Home::Lost | Home::Stopped | Home::Own(None) => "the connection ended".into(),
            })
        };
        let trouble = |cause: Cause, said: &str| Trouble { cause, said: said.into(), command: String::new() };
        match self.conclude(step, &run, said, None, &counts, &trouble) {
            Ok(Concluded::Done(ended)) => Ok(*ended),
            Ok(Concluded::Unlike(_)) if worker.gone().is_some() => Err(Home::Lost),
            Ok(Concluded::Unlike(why)) => Err(Home::Unlike(why)),
            // What stands against it is told by a run here.
            Ok(Concluded::OnlyWatched) | Err(_) => Err(Home::Own(None)),
        }
    }

    /// Those of some folders that lie in tree and build and are there: compilers leave out those that are not.
    fn own_folders<'l>(&self, folders: impl IntoIterator<Item = &'l Location>) -> Vec<String> {
        let places = &self.judge.plan.folders;
        let is_own = |at: &&Location| matches!(at, Location::Tree(_) | Location::Made(_)) && at.path(places).is_dir();
        folders.into_iter().filter(is_own).map(Location::kept).collect()
    }

    /// What is to lie with a worker.
    fn inputs<'l>(&self, files: impl IntoIterator<Item = &'l Location>) -> Result<Vec<Input>, Home> {
        let folders = &self.judge.plan.folders;
        let input = |at: &Location| {
            let path = at.path(folders);
            let content = self.judge.status.digest(&path)?;
            let status = std::fs::metadata(&path).ok()?;
            let modified = (status.mtime(), u32::try_from(status.mtime_nsec()).ok()?);
            Some(Input { at: at.kept(), content, modified, file: Some((status.dev(), status.ino())) })
        };
        files.into_iter().map(|at| input(at).ok_or(Home::Own(None))).collect()
    }

    /// Checks that what a compile read there by its lists is what lies here, by the names that it used.
    fn read_the_same(&self, done: &Done, there: &Folders) -> Result<(), Home> {
        let folders = &self.judge.plan.folders;
        let lists = Lists { written_by: Some(there.clone()), ..Lists::default() };
        for (file, content) in &done.read {
            let path = folders.tree.join(lists.here(file.clone(), folders));
            if self.judge.status.digest(&path) != Some(*content) {
                return Err(Home::Unlike(format!("{} is another one there", path.display())));
            }
        }
        Ok(())
    }

    /// Checks that all that a result stands on holds there as well: beyond what it read, what it asked for and where it found nothing.
    fn stands_there(&self, worker: &Worker, stands: &Stands, sent: &HashMap<&str, Digest>) -> Result<(), Home> {
        let folders = &self.judge.plan.folders;
        let is_own = |at: &&Location| matches!(at, Location::Tree(_) | Location::Made(_));
        let as_sent = |at: &Location| match self.judge.status.digest(&at.path(folders)) {
            Some(now) => sent.get(at.kept().as_str()) == Some(&now),
            None => false,
        };
        // What lies first here and was not read there must have lain there, else it would have been.
        let passed = stands.passed.iter().filter(is_own);
        let asked = stands.looks.iter().filter_map(|look| match look {
            Look::Content(at) | Look::Form(at) => Some(at),
            Look::Mode(at) if at.path(folders).is_file() => Some(at),
            _ => None,
        });
        if let Some(at) = passed.chain(asked.filter(is_own)).find(|at| !as_sent(at)) {
            return Err(Home::Unlike(format!("{at} is not there as it is here")));
        }
        let mut looks = Vec::new();
        for look in &stands.looks {
            match look {
                // Of these it was told with their names.
                Look::Content(Location::System(_)) => {}
                look if matches!(look.place(), Some(Location::System(_))) => {
                    looks.push((look.kept(), look.alone(folders, self.judge.status).ok_or(Home::Own(None))?));
                }
                // What lies in the tree lies there as it does here, and its programs were asked for before.
                _ => {}
            }
        }
        let absent: Vec<String> = stands.absent.iter().map(Location::kept).collect();
        self.holds_there(worker, &looks, absent.iter().map(String::as_str))
    }

    /// Checks that looks hold there and that nothing lies in these places of the host.
    fn holds_there<'t>(
        &self,
        worker: &Worker,
        looks: &[(String, Digest)],
        absent: impl Iterator<Item = &'t str>,
    ) -> Result<(), Home> {
        let place = |text: &str| match text.parse::<Location>() {
            Ok(Location::System(path)) => Some(path),
            Ok(_) | Err(_) => None,
        };
        let absent: Vec<PathBuf> = absent.filter_map(place).collect();
        match worker.differs(looks, &absent, self.stopped)? {
            None => Ok(()),
            Some(what) => Err(Home::Unlike(format!("{what} is not there as it is here"))),
        }
    }

    /// What a step said, with places of here for those of there.
    fn by_places_here(&self, text: &[u8], there: &Folders, aside: (&Path, &Path)) -> Vec<u8> {
        let here = &self.judge.plan.folders;
        let pairs = [aside, (&*there.build, &*here.build), (&*there.tree, &*here.tree)];
        let text = String::from_utf8_lossy(text).into_owned();
        let moved =
            |text: String, (from, to): &(&Path, &Path)| text.replace(&*from.to_string_lossy(), &to.to_string_lossy());
        // Most say nothing.
        if text.is_empty() { vec![] } else { pairs.iter().fold(text, moved).into_bytes() }
    }
}

/// What came back from a worker.
struct Arrived<'a> {
    worker: &'a Worker,
    lists: Lists,
    there: Folders,
    aside_there: PathBuf,
    aside: &'a Path,
    started: std::time::SystemTime,
}

/// Why a step comes home.
enum Home {
    /// The worker is lost.
    Lost,
    /// Everything stops.
    Stopped,
    /// Something is not there as it is here.
    Unlike(String),
    /// It is the step's own matter, with a word where it is worth one.
    Own(Option<String>),
}

impl From<Gone> for Home {
    fn from(gone: Gone) -> Home {
        match gone {
            Gone::Lost(_) => Home::Lost,
            Gone::Stopped => Home::Stopped,
            Gone::Refused(why) => Home::Unlike(why),
        }
    }
}

impl From<FileError> for Home {
    fn from(_: FileError) -> Home {
        // A run here tells it better.
        Home::Own(None)
    }
}

/// A look in kept form, with what stands for it.
type SeenAs = (String, Digest);

/// Parts what a class stands on into what lies on the host and folders of the tree, which are made with a worker.
fn parted(looks: &[SeenAs]) -> Result<(Vec<SeenAs>, Vec<Location>), Home> {
    let (mut of_host, mut of_tree) = (Vec::new(), Vec::new());
    for (text, digest) in looks {
        match text.parse::<Look>() {
            Ok(Look::Mode(at @ (Location::Tree(_) | Location::Made(_)))) => of_tree.push(at),
            Ok(look) if matches!(look.place(), Some(Location::System(_))) => of_host.push((text.clone(), *digest)),
            Ok(look) => {
                let place = look.place().map_or(String::new(), ToString::to_string);
                return Err(Home::Own(Some(format!("its compiler looks at {place} of the tree"))));
            }
            Err(_) => return Err(Home::Own(None)),
        }
    }
    Ok((of_host, of_tree))
}

/// What a worker is told of a step's process.
fn errand(step: &Step, process: &Process, aside: &Path, folders: Vec<String>) -> Work {
    Work {
        program: process.job.program.clone(),
        arguments: process.job.arguments.clone(),
        environment: process.job.environment.clone(),
        folders,
        aside: aside.to_path_buf(),
        makes: step.writes.iter().map(|write| step.aside(write, aside)).collect(),
        lists: [process.lists.read.clone(), process.lists.taken_in.clone()],
    }
}

/// Puts what came back where a run here would have left it.
fn put_aside(step: &Step, done: &Done, aside: &Path, lists: &Lists, there: &Folders) -> Result<Lists, Home> {
    if done.made.len() != step.writes.len() {
        return Err(Home::Unlike("it did not make all results".into()));
    }
    make_folder(aside)?;
    for (write, made) in step.writes.iter().zip(&done.made) {
        let place = step.aside(write, aside);
        make_folder(place.parent().unwrap_or(aside))?;
        write_quickly(&place, &made.content)?;
        let mode = std::fs::Permissions::from_mode(made.mode & 0o777);
        std::fs::set_permissions(&place, mode).map_err(FileError::on("set the mode of", &place))?;
    }
    let put = |wanted: &Option<PathBuf>, text: &Option<Vec<u8>>, name: &str| match (wanted, text) {
        (Some(_), Some(text)) => {
            let place = aside.join(name);
            write_quickly(&place, text)?;
            Ok(Some(place))
        }
        (Some(_), None) => Err(Home::Unlike("it did not say what it read".into())),
        (None, _) => Ok(None),
    };
    Ok(Lists {
        read: put(&lists.read, &done.lists[0], "read.list")?,
        taken_in: put(&lists.taken_in, &done.lists[1], "taken-in.list")?,
        written_by: Some(there.clone()),
    })
}
