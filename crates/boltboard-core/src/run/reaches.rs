//! Which files of tree and build a compile could ever read: all that its source and what that asks for may lead to, whatever its macros
//! are. A compile that goes to another machine takes all of them along, so that it finds there what it would find here.

use std::collections::{BTreeSet, HashMap};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};

use super::execute::Executor;
use super::stands::{chain, parent};
use crate::base::{Digest, RelPath};
use crate::reading::Include;
use crate::step::{Compile, Location, Step};

/// Where each file leads, of compiles that look for headers in the same way.
#[derive(Debug, Default)]
pub(super) struct Reaches {
    known: Mutex<HashMap<(Digest, Location), Arc<Leads>>>,
    /// What stands for the way in which compiles look for headers, by the address of what they have in common: parts look alike.
    ways: Mutex<HashMap<usize, Digest>>,
}

/// Where a file leads. What is not there yet because a step is still to make it is none of these, and never lasts.
#[derive(Debug)]
enum Leads {
    /// To these, which are there.
    To(Vec<Location>),
    /// To what only a preprocessor or an assembler knows, or out of the tree; in words.
    Anywhere(String),
}

/// What a name leads to.
struct Named {
    there: Vec<Location>,
    /// Whether it does so to the end of the build.
    lasts: bool,
}

/// How one compile looks for headers.
struct Way<'a> {
    quoted: &'a [Location],
    folders: &'a [Location],
}

impl Executor<'_> {
    /// Returns all files of tree and build that a compile could read; `folders` are those in which it looks for all headers.
    ///
    /// # Errors
    /// That cannot be told, in words.
    pub(super) fn may_see(
        &self,
        step: &Step,
        compile: &Compile,
        folders: &[Location],
    ) -> Result<BTreeSet<Location>, String> {
        let flags = &compile.setting.flags;
        let way = Way { quoted: &flags.search.quoted, folders };
        let root = Location::Tree(RelPath::root());
        let mut open: Vec<Location> = step.reads.iter().chain(&flags.forced).cloned().collect();
        for include in &flags.includes {
            open.extend(self.found(include, &root, &way)?.there);
        }
        let mut all: BTreeSet<Location> = open.iter().cloned().collect();
        let key = self.way(step, compile, &way);
        while let Some(file) = open.pop() {
            match &*self.leads(key, step, &file, &way) {
                Leads::Anywhere(why) => return Err(why.clone()),
                Leads::To(next) => {
                    let fresh = next.iter().filter(|next| all.insert((*next).clone()));
                    open.extend(fresh.cloned().collect::<Vec<_>>());
                }
            }
        }
        all.retain(|at| matches!(at, Location::Tree(_) | Location::Made(_)));
        Ok(all)
    }

    /// What stands for all compiles that look for the same headers in the same places.
    fn way(&self, step: &Step, compile: &Compile, way: &Way<'_>) -> Digest {
        let mut ways = self.reaches.ways.lock().unwrap_or_else(PoisonError::into_inner);
        *ways.entry(Arc::as_ptr(&compile.setting) as usize).or_insert_with(|| {
            let quoted = way.quoted.iter().map(Location::kept);
            let folders = way.folders.iter().map(Location::kept);
            let all: Vec<String> = [format!("{:?}", step.dialects())]
                .into_iter()
                .chain(quoted)
                .chain(["<>".into()])
                .chain(folders)
                .collect();
            Digest::of_parts(all.iter().map(String::as_str))
        })
    }

    fn leads(&self, key: Digest, step: &Step, file: &Location, way: &Way<'_>) -> Arc<Leads> {
        let lock = || self.reaches.known.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (key, file.clone());
        if let Some(known) = lock().get(&key) {
            return Arc::clone(known);
        }
        let (leads, lasts) = self.where_leads(step, file, way);
        let leads = Arc::new(leads);
        if lasts {
            lock().insert(key, Arc::clone(&leads));
        }
        leads
    }

    /// Where a file leads now, and whether it does so to the end of the build.
    fn where_leads(&self, step: &Step, file: &Location, way: &Way<'_>) -> (Leads, bool) {
        if self.judge.plan.is_header(file) {
            // It defines macros and does nothing else.
            return (Leads::To(vec![]), true);
        }
        let path = file.path(&self.judge.plan.folders);
        let read = |content: Digest| self.judge.tokens.of(&path, &content, step.dialects());
        let Some(tokens) = self.judge.status.digest(&path).and_then(read) else {
            return (Leads::Anywhere(format!("{file} cannot be read")), false);
        };
        if tokens.computed || tokens.asks_openly {
            return (Leads::Anywhere(format!("{file} includes by a macro")), true);
        }
        let beside = parent(file);
        let (mut next, mut lasts) = (Vec::new(), true);
        for include in &tokens.includes {
            match self.found(include, &beside, way) {
                Ok(found) => {
                    next.extend(found.there);
                    lasts &= found.lasts;
                }
                Err(why) => return (Leads::Anywhere(why), false),
            }
        }
        (Leads::To(next), lasts)
    }

    /// All files that are there and that a name could lead to, whichever is found first.
    fn found(&self, include: &Include, beside: &Location, way: &Way<'_>) -> Result<Named, String> {
        let places = &self.judge.plan.folders;
        let mut found = Named { there: Vec::new(), lasts: true };
        for at in chain(include, beside, way.quoted, way.folders, places) {
            // What a name with dots in it leads to.
            let at = Location::of(&at.path(places), places);
            let lasts = || self.judge.plan.maker(&at).is_none();
            // What is not there now counts as not there to the end, here as for what looks after the compile where it looked.
            if self.absences.look(&at.path(places), lasts).is_none() {
                found.lasts &= lasts();
                continue;
            }
            if let Location::System(path) = &at
                && !self.is_header_of_host(path, way)
            {
                return Err(format!("{} lies outside of the tree", path.display()));
            }
            found.there.push(at);
        }
        Ok(found)
    }

    fn is_header_of_host(&self, path: &Path, way: &Way<'_>) -> bool {
        way.folders.iter().any(|folder| matches!(folder, Location::System(folder) if path.starts_with(folder)))
    }
}
