//! One command of a build, and what differs between the kinds of them.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::archive::Archive;
use super::check::{Check, Unloadable};
use super::compile::Compile;
use super::copy::Copy;
use super::generate::Generate;
use super::link::Link;
use super::location::Location;
use super::look::Look;
use super::process::{AbsentTool, ByHand, Process, Setup};
use super::symlink::Symlink;
use super::tool::{Tool, ToolPlace};
use super::write::Write;
use crate::base::{Digest, FileError, Id};
use crate::board::{Condition, PartId};
use crate::launch::Job;
use crate::reading::Dialects;
use crate::work::Folders;

/// The id of a [`Step`].
pub type StepId = Id<Step>;

/// One command of a build.
#[derive(Debug, Clone)]
pub struct Step {
    /// Its name: the first file that it writes, as people see it. No two steps share one.
    pub name: String,
    /// The part that it belongs to; none for what serves all.
    pub part: Option<PartId>,
    /// What it does.
    pub kind: Kind,
    /// Files that it reads and that are known beforehand.
    pub reads: Vec<Location>,
    /// Files that it writes; at least one.
    pub writes: Vec<Location>,
    /// Steps that must come first, beyond those whose files it reads.
    pub after: Arc<[StepId]>,
    /// The condition that brought its source into the part.
    pub brought_by: Option<Arc<Condition>>,
}

/// What a step does. Each kind has a file of its own for its key, what it sees, how it runs and what it leaves.
#[derive(Debug, Clone)]
pub enum Kind {
    /// Compiles one source.
    Compile(Compile),
    /// Collects objects in a static library.
    Archive(Box<Archive>),
    /// Makes a program, a shared library or a module.
    Link(Box<Link>),
    /// Runs a command of the tree.
    Generate(Box<Generate>),
    /// Writes a text that follows from the resolution.
    Write(Write),
    /// Puts a file of the tree among the outputs.
    Copy(Copy),
    /// Makes another name of an output.
    Symlink(Symlink),
    /// Checks that modules can be loaded.
    Check(Box<Check>),
}

/// How all that a step's result depends on comes to be known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sees {
    /// By the rules of its language and the lists of its compiler; by watching where these are not enough.
    Text,
    /// By watching it for what is its own, and its class for the rest.
    Class,
    /// By watching it.
    All,
    /// It reads what it declares.
    Declared,
}

/// A file that was made without a process.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Made {
    /// Its content; of a link what it leads to.
    pub digest: Digest,
    /// Its permission bits.
    pub mode: u32,
    /// The files that it was made of with what they held; empty where that follows from its content.
    pub looked: Vec<(Location, Digest)>,
}

/// Why a file could not be made without a process.
#[derive(Debug, thiserror::Error)]
pub enum MakeFault {
    /// A file cannot be written, or what it is made of cannot be read.
    #[error(transparent)]
    File(#[from] FileError),
    /// Modules cannot be loaded.
    #[error(transparent)]
    Unloadable(Unloadable),
}

/// What every kind of step says of itself.
pub trait Acts {
    /// Stands for the kind in keys; it stays, whatever people read.
    fn tag(&self) -> &'static str;

    /// Says what it does in one word, for people.
    fn verb(&self) -> &'static str;

    /// Returns the words of its command, the same on every machine.
    fn command(&self, step: &Step) -> Vec<String>;

    /// Returns what decides about its result whatever files hold, beyond its command, its tool and the names of its results.
    fn decides(&self) -> Vec<String> {
        Vec::new()
    }

    /// Says how all that its result depends on comes to be known.
    fn sees(&self) -> Sees;

    /// Returns what counts of a file that it declares.
    fn look(&self, read: &Location) -> Look {
        Look::Content(read.clone())
    }
}

/// What a kind says of itself whose steps run a process.
pub trait Runs: Acts {
    /// Returns the program that runs it.
    fn tool(&self) -> &Tool;

    /// Returns what stands for all steps that use the same programs in the same way; none where each is its own.
    fn class(&self) -> Option<Digest>;

    /// Returns its process.
    ///
    /// # Errors
    /// Its program is not there.
    fn process(&self, step: &Step, setup: &Setup<'_>) -> Result<Process, AbsentTool>;

    /// Tells whether an exit code means success.
    fn succeeds(&self, code: i32) -> bool {
        code == 0
    }

    /// Returns where a result lies while the step runs: by its path, because commands may go by that.
    fn aside(&self, write: &Location, aside: &Path) -> PathBuf {
        aside.join(write.below_root())
    }

    /// Returns what of its process a person repeats.
    fn by_hand<'j>(&self, job: &'j Job) -> ByHand<'j> {
        ByHand::of(job)
    }
}

/// What a kind says of itself whose steps need no process.
pub trait Makes: Acts {
    /// Makes its file.
    ///
    /// # Errors
    /// See [`MakeFault`].
    fn make(&self, step: &Step, folders: &Folders) -> Result<Made, MakeFault>;
}

/// How steps of a kind come about.
enum How<'k> {
    Process(&'k dyn Runs),
    Here(&'k dyn Makes),
}

impl Kind {
    fn how(&self) -> How<'_> {
        match self {
            Kind::Compile(kind) => How::Process(kind),
            Kind::Archive(kind) => How::Process(&**kind),
            Kind::Link(kind) => How::Process(&**kind),
            Kind::Generate(kind) => How::Process(&**kind),
            Kind::Write(kind) => How::Here(kind),
            Kind::Copy(kind) => How::Here(kind),
            Kind::Symlink(kind) => How::Here(kind),
            Kind::Check(kind) => How::Here(&**kind),
        }
    }

    fn acts(&self) -> &dyn Acts {
        match self.how() {
            How::Process(kind) => kind,
            How::Here(kind) => kind,
        }
    }
}

impl Step {
    /// Says what it does in one word, for people.
    pub fn verb(&self) -> &'static str {
        self.kind.acts().verb()
    }

    /// Returns the words of its command, the same on every machine; empty for steps without one.
    pub fn command(&self) -> Vec<String> {
        self.kind.acts().command(self)
    }

    /// Returns the digest of its command and tool: what is the same whatever the files hold.
    pub fn base_key(&self) -> Digest {
        if let Kind::Compile(compile) = &self.kind {
            return compile.key(self);
        }
        let acts = self.kind.acts();
        let mut parts = vec![acts.tag().to_string(), self.tool_identity().to_string()];
        parts.extend(acts.command(self));
        parts.extend(acts.decides());
        parts.extend(self.writes.iter().map(Location::kept));
        Digest::of_parts(parts.iter().map(String::as_str))
    }

    /// Says how all that its result depends on comes to be known.
    pub fn sees(&self) -> Sees {
        self.kind.acts().sees()
    }

    /// Returns what counts of a file that it declares.
    pub fn look(&self, read: &Location) -> Look {
        self.kind.acts().look(read)
    }

    /// Returns how its process runs, if it has one.
    pub fn runs(&self) -> Option<&dyn Runs> {
        match self.kind.how() {
            How::Process(kind) => Some(kind),
            How::Here(_) => None,
        }
    }

    /// Returns how its file is made, if it needs no process.
    pub fn makes(&self) -> Option<&dyn Makes> {
        match self.kind.how() {
            How::Process(_) => None,
            How::Here(kind) => Some(kind),
        }
    }

    /// Tells whether running it starts a process.
    pub fn has_process(&self) -> bool {
        self.runs().is_some()
    }

    /// Returns the program that runs it.
    pub fn tool(&self) -> Option<&Tool> {
        self.runs().map(|runs| runs.tool())
    }

    /// Returns the digest of the tool that runs it.
    pub fn tool_identity(&self) -> Digest {
        self.tool().map_or(Digest::of(b"none"), Tool::identity)
    }

    /// Returns why its tool cannot be run, if it cannot.
    pub fn absent_tool(&self) -> Option<&str> {
        match &self.tool()?.place {
            ToolPlace::Absent(why) => Some(why),
            ToolPlace::Host { .. } | ToolPlace::Made(_) => None,
        }
    }

    /// Returns what stands for all steps that use the same programs in the same way; none where each is its own.
    pub fn class(&self) -> Option<Digest> {
        self.runs().and_then(|runs| runs.class())
    }

    /// Returns its compile, if it is one.
    pub fn compile(&self) -> Option<&Compile> {
        if let Kind::Compile(compile) = &self.kind { Some(compile) } else { None }
    }

    /// Returns its compile, if it is one of Fortran.
    pub fn fortran(&self) -> Option<&Compile> {
        self.compile().filter(|compile| compile.language.is_fortran())
    }

    /// Returns its link, if it is one.
    pub fn link(&self) -> Option<&Link> {
        if let Kind::Link(link) = &self.kind { Some(link) } else { None }
    }

    /// Returns the program whose modules it checks, if that is what it does.
    pub fn checks(&self) -> Option<&Location> {
        if let Kind::Check(check) = &self.kind { Some(&check.program) } else { None }
    }

    /// Returns the text that it writes, if that is what it does.
    pub fn text(&self) -> Option<&str> {
        if let Kind::Write(write) = &self.kind { Some(&write.content) } else { None }
    }

    /// Returns where the name that it makes leads, if that is what it does.
    pub fn leads_to(&self) -> Option<&str> {
        if let Kind::Symlink(symlink) = &self.kind { Some(&symlink.target) } else { None }
    }

    /// Returns its source, if it compiles one.
    pub fn source(&self) -> Option<&Location> {
        self.compile().and_then(|_| self.reads.first())
    }

    /// Tells whether it is a compile that leaves further files beside its object.
    pub fn makes_more(&self) -> bool {
        self.compile().is_some_and(Compile::makes_more)
    }

    /// Tells whether it compiles a text that goes through the preprocessor.
    pub fn is_preprocessed(&self) -> bool {
        self.compile().is_some_and(|compile| compile.language.is_preprocessed())
    }

    /// Tells whether its result holds every macro, named or not, as debug information of the third level does.
    pub fn records_macros(&self) -> bool {
        self.compile().is_some_and(|compile| compile.setting.records_macros)
    }

    /// Returns how its text is read, if it compiles one.
    pub fn dialects(&self) -> &Dialects {
        static OTHERS: std::sync::LazyLock<Dialects> = std::sync::LazyLock::new(Dialects::default);
        self.compile().map_or(&OTHERS, |compile| &compile.setting.flags.dialects)
    }

    /// Returns those of its results that were not made, as `made` tells by their kept form.
    pub fn unmade(&self, made: impl Fn(&str) -> bool) -> impl Iterator<Item = &Location> {
        self.writes.iter().filter(move |write| !made(&write.kept()))
    }

    /// Returns where one of its results lies until it is moved into place.
    pub fn aside(&self, write: &Location, aside: &Path) -> PathBuf {
        self.runs().map_or_else(|| aside.join(write.below_root()), |runs| runs.aside(write, aside))
    }
}
