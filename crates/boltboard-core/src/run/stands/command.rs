//! What archives, links and generators stand on.

use std::collections::BTreeSet;
use std::path::PathBuf;

use super::named::named_files;
use super::seen::{Seen, of_version_control};
use super::traced::{library_misses, traced};
use super::{Ended, Known, Stands};
use crate::base::{Digest, RelPath};
use crate::launch::Job;
use crate::run::build::Reads;
use crate::run::execute::Executor;
use crate::run::failure::Cause;
use crate::step::{Kind, Location, Look, Step, ToolPlace, Word};
use crate::survey::Tools;
use crate::watch::Sight;

/// Folders in which interpreters keep what they make of scripts.
const CACHES: [&str; 1] = ["__pycache__"];

impl Executor<'_> {
    /// What a command that ended well stands on: what it was seen to do, or its words where nothing can be watched.
    pub(super) fn command_stands(&self, step: &Step, ended: &Ended<'_>) -> Result<Known, Cause> {
        let outcome = ended.outcome;
        let (stands, said) = match (step.class(), &outcome.sight) {
            (Some(class), sight) if self.launch.watches() => {
                (self.linked_stands(step, &class, sight.as_ref())?, ended.said())
            }
            (None, Some(sight)) => (self.generator_stands(step, sight)?, ended.said()),
            (_, _) if step.link().is_some() => {
                let told = traced(&outcome.stdout_text(), &step.reads, ended.aside, &self.judge.plan.folders);
                (self.stands_by_words(step, ended, told.inputs)?, told.rest + &outcome.stderr_text())
            }
            (_, _) => (self.stands_by_words(step, ended, step.reads.clone())?, ended.said()),
        };
        Ok(Known::Wholly(stands, said, vec![]))
    }

    /// What a generator stands on, when it was watched: all that it was seen to look at, and what it declares.
    ///
    /// # Errors
    /// It read what a step makes that it does not wait for, wrote where it must not, or, where that is asked, read what it does not declare.
    fn generator_stands(&self, step: &Step, sight: &Sight) -> Result<Stands, Cause> {
        let seeing = self.seeing();
        let Seen { mut looks, absent } = seeing.whole(sight);
        for at in looks.iter().filter_map(Look::file) {
            self.waits_for(step, at)?;
            self.declares(step, at)?;
        }
        let elsewhere = seeing.written(sight).into_iter().find(|at| matches!(at, Location::Tree(_)) && !is_cache(at));
        if let Some(at) = elsewhere {
            return Err(Cause::WroteElsewhere(at.to_string()));
        }
        looks.extend(step.reads.iter().cloned().map(Look::Content));
        if sight.blind.is_some() {
            looks.insert(Look::Unseen);
        }
        Ok(Stands { looks, absent, ..Stands::default() })
    }

    /// What a link or archive stands on: what is its own, and what its class stands on. One that was not watched reads what it declares.
    ///
    /// # Errors
    /// It read what a step makes that it does not wait for, or what its class stands on cannot be kept.
    fn linked_stands(&self, step: &Step, class: &Digest, sight: Option<&Sight>) -> Result<Stands, Cause> {
        let interface = |at: &Location| step.link().is_some_and(|link| link.by_interface(at));
        let declared = step.reads.iter().map(|read| step.look(read)).collect();
        let mut stands = Stands { looks: declared, ..Stands::default() };
        if let Some(sight) = sight {
            let inputs = step.reads.iter().cloned().collect();
            let begins = |at: &Location| step.reads.contains(at);
            let (mut own, mut of_class) = self.seeing().of_class(sight, &inputs, &begins, &interface);
            if step.link().is_none() {
                // An archiver reads what it is given, and nothing else that follows from it.
                let given = |look: &Look| look.place().is_some_and(|at| step.reads.contains(at));
                of_class.looks.extend(own.looks.iter().filter(|look| !given(look)).cloned());
                of_class.absent.append(&mut own.absent);
                own.looks.clear();
            }
            self.learn(class, &of_class, false)?;
            for look in own.looks {
                if let Some(at) = look.file() {
                    self.waits_for(step, at)?;
                    if step.reads.contains(at) {
                        continue;
                    }
                }
                stands.looks.insert(look);
            }
            stands.absent = own.absent;
            if sight.blind.is_some() {
                stands.looks.insert(Look::Unseen);
            }
        }
        stands.looks.insert(Look::Footing(*class));
        Ok(stands)
    }

    /// What a command other than a compile stands on by its words, where nothing can be watched.
    fn stands_by_words(&self, step: &Step, ended: &Ended<'_>, mut inputs: Vec<Location>) -> Result<Stands, Cause> {
        let mut absent = BTreeSet::new();
        if let Some(link) = step.link() {
            self.add_named(step, &link.words, ended, &mut inputs)?;
            let own = linker_folders(self.tools, ended.job);
            absent = library_misses(&inputs, &ended.job.arguments, &own, &self.judge.plan.folders);
        }
        let look = |at: Location| match step.link() {
            Some(link) if link.by_interface(&at) => Look::Interface(at),
            Some(_) | None => Look::Content(at),
        };
        let looks = inputs.into_iter().map(look).chain([Look::SearchPath]).collect();
        Ok(Stands { looks, absent, ..Stands::default() })
    }

    /// Checks that a generator declares what it read, where that is asked.
    fn declares(&self, step: &Step, at: &Location) -> Result<(), Cause> {
        let of_tree = matches!(at, Location::Tree(_) | Location::Made(_) | Location::Object(_));
        let tool = step.tool().is_some_and(|tool| matches!(&tool.place, ToolPlace::Made(own) if own == at));
        let free = self.reads == Reads::Free || tool || !of_tree;
        let by_pattern = |path: &RelPath| match &step.kind {
            Kind::Generate(generate) => generate.reads.iter().any(|glob| glob.matches(path)),
            _ => false,
        };
        // Hidden files are in no listing, and may be read all the same.
        let hidden = matches!(at, Location::Tree(path) if by_pattern(path));
        if free || hidden || step.reads.contains(at) { Ok(()) } else { Err(Cause::UndeclaredRead(at.to_string())) }
    }

    /// Adds the files that the words of a compile or link name; those of other steps are declared.
    ///
    /// # Errors
    /// One of them is made by a step that this one does not wait for.
    pub(super) fn add_named(
        &self,
        step: &Step,
        words: &[Word],
        ended: &Ended<'_>,
        inputs: &mut Vec<Location>,
    ) -> Result<(), Cause> {
        let (job, aside) = (ended.job, ended.aside);
        // They come first among the arguments. What is nothing but a place is known.
        let flags = words.iter().zip(&job.arguments).filter(|(word, _)| !word.is_place());
        let words = flags.map(|(_, argument)| argument.as_str());
        let mut files = named_files(words.clone(), &job.folder);
        // A compiler that is told to take another linker looks for it by this name.
        let linkers = words.filter_map(|word| word.strip_prefix("-fuse-ld="));
        files.extend(linkers.filter_map(|name| self.tools.program(&format!("ld.{name}"))).map(|(path, _)| path));
        for file in files {
            let location = Location::of(&file, &self.judge.plan.folders);
            self.declared(step, &location)?;
            if !file.starts_with(aside) && !inputs.contains(&location) {
                inputs.push(location);
            }
        }
        Ok(())
    }
}

/// Whether a file is what a program keeps for itself: what an interpreter makes of a script, what a version control knows of the files.
fn is_cache(at: &Location) -> bool {
    let Location::Tree(path) = at else { return false };
    path.as_str().split('/').any(|folder| CACHES.contains(&folder)) || of_version_control(path)
}

/// The folders that a linker searches by itself.
fn linker_folders(tools: &Tools, job: &Job) -> Vec<PathBuf> {
    let compilers = tools.found();
    compilers
        .filter(|compiler| compiler.path == job.program)
        .map(|c| c.library_folders.clone())
        .next()
        .unwrap_or_default()
}
