//! Generations: each installation has a number, and what it replaced is kept by content, so that one can go back to it exactly.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use super::apply::{Believed, KeptEdit, ThreeWay, beside, missing_folders};
use super::change::{Change, Doing, Move, Recovered, State, Yard};
use super::lock::Lock;
use super::manifest::{Installed, Manifest, Recorded};
use super::place::Content;
use super::{InTheWay, InUse, InstallFault, Running};
use crate::base::files::{read_regular, read_text, write_whole};
use crate::base::{Digest, FileError};
use crate::board::Board;

/// What is in the way of going back.
const CHANGED_SINCE: &str = "not as it was installed: it was changed or replaced since";
/// Seconds of a day.
const DAY: u64 = 24 * 60 * 60;

/// How many generations are kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limits {
    /// So many at least, that in place among them.
    pub keep: u32,
    /// Older ones go when they were installed so many days ago; all beyond `keep` go where no days are told.
    pub days: Option<u32>,
}

impl Default for Limits {
    fn default() -> Limits {
        Limits { keep: 10, days: None }
    }
}

/// The generations of a tree below a prefix.
#[derive(Debug, Clone)]
pub struct Generations {
    /// All that are kept, by number.
    pub all: BTreeMap<u32, Manifest>,
    /// The number of the one in place.
    pub current: u32,
    /// How many are kept.
    pub limits: Limits,
    yard: Yard,
}

/// What going back would do, or did.
#[derive(Debug, Clone)]
pub struct BackPlan {
    /// Edited configuration files that stay.
    pub kept: Vec<KeptEdit>,
    /// Files that stay because they are in use now.
    pub in_use: Vec<(PathBuf, InUse)>,
    change: Change,
}

/// A change that was cut off.
#[derive(Debug, Clone)]
pub struct Begun {
    /// Stands for what was written down.
    pub seal: Digest,
    change: Change,
    yard: Yard,
}

impl Yard {
    fn numbers(&self) -> Result<Vec<u32>, FileError> {
        let entries = match std::fs::read_dir(&self.root) {
            Ok(entries) => entries,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(vec![]),
            Err(e) => return Err(FileError::on("read", &self.root)(e)),
        };
        let number = |name: &str| name.strip_suffix(".json")?.parse().ok();
        let names = entries.filter_map(Result::ok).filter_map(|entry| number(entry.file_name().to_str()?));
        let mut numbers: Vec<u32> = names.collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// The number of the generation that comes next.
    pub(super) fn next_number(&self, before: Option<&Manifest>) -> Result<u32, FileError> {
        let last = self.numbers()?.last().copied().unwrap_or(0);
        Ok(last.max(before.map_or(0, |manifest| manifest.generation.max(1))) + 1)
    }

    /// Takes in what an earlier program installed: it is the first generation.
    pub(super) fn number(&self, before: &Manifest) -> Result<(), FileError> {
        let number = before.generation.max(1);
        let file = self.generation(number);
        if file.exists() {
            return Ok(());
        }
        write_whole(&file, Manifest { generation: number, ..before.clone() }.text().as_bytes())
    }

    fn limits_file(&self) -> PathBuf {
        self.root.join("limits.json")
    }

    fn limits(&self) -> Limits {
        let text = read_text(&self.limits_file()).ok().flatten();
        text.and_then(|text| serde_json::from_str(&text).ok()).unwrap_or_default()
    }

    /// Drops generations beyond the limits, and contents that none of the others needs.
    pub(super) fn prune(&self) -> Result<(), FileError> {
        let Some(all) = self.read()? else { return Ok(()) };
        all.prune()
    }

    fn read(&self) -> Result<Option<Generations>, FileError> {
        let parse = |path: &Path| -> Option<Manifest> {
            serde_json::from_slice(&read_regular(path).ok()?).ok().filter(|manifest: &Manifest| manifest.format == 1)
        };
        let Some(current) = parse(&self.manifest) else { return Ok(None) };
        let numbers = self.numbers()?;
        let mut all: BTreeMap<u32, Manifest> =
            numbers.into_iter().filter_map(|number| Some((number, parse(&self.generation(number))?))).collect();
        let number = current.generation.max(1);
        all.insert(number, Manifest { generation: number, ..current });
        Ok(Some(Generations { all, current: number, limits: self.limits(), yard: self.clone() }))
    }
}

impl Generations {
    /// Reads the generations of a tree; `None` where it is not installed.
    ///
    /// # Errors
    /// They cannot be read, or the record of what is in place is damaged.
    pub fn read(manifest: &Path, board: &Board) -> Result<Option<Generations>, InstallFault> {
        match Manifest::read(manifest, board)? {
            Recorded::Nothing => Ok(None),
            Recorded::Damaged => Err(InstallFault::Damaged(manifest.to_path_buf())),
            Recorded::Whole(_) => Ok(Yard::of(manifest).read()?),
        }
    }

    /// The one in place.
    pub fn in_place(&self) -> &Manifest {
        &self.all[&self.current]
    }

    /// Keeps other limits, and drops what is beyond them.
    ///
    /// # Errors
    /// A file cannot be written or removed.
    pub fn limit(&mut self, limits: Limits, now_s: u64) -> Result<Vec<u32>, FileError> {
        self.limits = limits;
        let text = serde_json::to_string(&limits).unwrap_or_default();
        write_whole(&self.yard.limits_file(), text.as_bytes())?;
        let before: Vec<u32> = self.all.keys().copied().collect();
        self.drop_old(now_s)?;
        Ok(before.into_iter().filter(|number| !self.all.contains_key(number)).collect())
    }

    fn prune(mut self) -> Result<(), FileError> {
        let newest = self.all.values().map(|manifest| manifest.installed_s).max().unwrap_or(0);
        self.drop_old(newest)
    }

    fn drop_old(&mut self, now_s: u64) -> Result<(), FileError> {
        let numbers: Vec<u32> = self.all.keys().copied().collect();
        let beyond = numbers.len().saturating_sub(self.limits.keep.max(1) as usize);
        for number in numbers.into_iter().filter(|number| *number != self.current).take(beyond) {
            let age = now_s.saturating_sub(self.all[&number].installed_s) / DAY;
            if self.limits.days.is_some_and(|days| age < u64::from(days)) {
                continue;
            }
            let file = self.yard.generation(number);
            std::fs::remove_file(&file).map_err(FileError::on("remove", &file))?;
            self.all.remove(&number);
        }
        self.yard.kept.keep_only(&self.needed())
    }

    /// The contents that cannot be had from what is in place: those of other generations, and of all configuration files as they were
    /// installed, because people edit them.
    fn needed(&self) -> BTreeSet<Digest> {
        let plain = |manifest: &Manifest| -> BTreeSet<Digest> {
            manifest.files.iter().filter(|file| !file.config).filter_map(|file| file.digest).collect()
        };
        let others = self.all.iter().filter(|(number, _)| **number != self.current);
        let mut needed: BTreeSet<Digest> = others.flat_map(|(_, manifest)| plain(manifest)).collect();
        for digest in plain(self.in_place()) {
            needed.remove(&digest);
        }
        let configs = self.all.values().flat_map(|manifest| &manifest.files).filter(|file| file.config);
        needed.extend(configs.filter_map(|file| file.digest));
        needed
    }

    /// Works out what going back to a generation would do.
    ///
    /// # Errors
    /// Something lies in the way, or what the generation needs is no longer kept.
    pub fn plan_back(&self, to: u32, believed: Believed<'_>, running: &Running) -> Result<BackPlan, InstallFault> {
        let (now, then) = (self.in_place(), &self.all[&to]);
        let installed: BTreeMap<&Path, &Installed> = now.files.iter().map(|file| (file.path.as_path(), file)).collect();
        let mut after = then.clone();
        let mut plan = BackPlan {
            kept: vec![],
            in_use: vec![],
            change: Change {
                doing: Doing::Back,
                moves: vec![],
                folders: vec![],
                leaving: vec![],
                generation: to,
                after: None,
            },
        };
        let mut in_the_way = Vec::new();
        for file in &then.files {
            let known = installed.get(file.path.as_path()).copied();
            let lies = |what| InTheWay { path: file.path.clone(), what };
            if !believed.has(&file.path) {
                in_the_way.push(lies("no place of this tree's; the record was not written from here"));
                continue;
            }
            match State::of(&file.path)? {
                None => in_the_way.push(lies("no file")),
                Some(there)
                    if file.is(&there) && mode_of(&there).is_none_or(|mode| file.mode.unwrap_or(mode) == mode) => {}
                Some(State::Nothing) => plan.change.moves.push(self.comes(file, State::Nothing)?),
                Some(there) if known.is_some_and(|known| known.is(&there)) || file.is(&there) => {
                    if let Some(known) = known.filter(|_| running.is_booted(&file.path)) {
                        self.stays(known, &now.version, &mut plan, &mut after)?;
                    }
                    plan.change.moves.push(self.comes(file, there)?);
                }
                Some(_) if file.config => self.keeps(file, known, then, &mut plan)?,
                Some(_) => in_the_way.push(lies(CHANGED_SINCE)),
            }
        }
        let wanted: BTreeSet<&Path> = then.files.iter().map(|file| file.path.as_path()).collect();
        for file in now.files.iter().filter(|file| !wanted.contains(file.path.as_path())) {
            if let Some(used) = running.uses(&file.path) {
                plan.in_use.push((file.path.clone(), used));
                after.files.push(file.clone());
                continue;
            }
            match State::of(&file.path)? {
                Some(there) if file.is(&there) && believed.has(&file.path) => {
                    plan.change.moves.push(Move { path: file.path.clone(), before: there, after: State::Nothing });
                }
                Some(State::Nothing) | None => {}
                Some(_) => plan.kept.push(KeptEdit { path: file.path.clone(), beside: None, texts: None }),
            }
        }
        if !in_the_way.is_empty() {
            return Err(InstallFault::Foreign(in_the_way));
        }
        let mut folders = Vec::new();
        let moves = &plan.change.moves;
        moves.iter().filter(|one| one.after != State::Nothing).for_each(|one| missing_folders(&one.path, &mut folders));
        then.folders.iter().for_each(|folder| missing_folders(&folder.join("x"), &mut folders));
        plan.change.folders = folders;
        after.files.sort_by(|a, b| a.path.cmp(&b.path));
        plan.change.after = Some(after.text());
        plan.change.leaving = now.folders.iter().filter(|folder| !then.folders.contains(folder)).cloned().collect();
        Ok(plan)
    }

    /// What this machine was booted with stays beside what comes in its place.
    fn stays(
        &self,
        file: &Installed,
        version: &str,
        plan: &mut BackPlan,
        after: &mut Manifest,
    ) -> Result<(), InstallFault> {
        let Some(digest) = file.digest else { return Ok(()) };
        let place = beside(&file.path, Some(&Content::File(digest)), version)?;
        let kept = Installed { path: place.clone(), ..file.clone() };
        if State::of(&place)? == Some(State::Nothing) {
            plan.change.moves.push(self.comes(&kept, State::Nothing)?);
        }
        after.files.retain(|file| file.path != place);
        after.files.push(kept);
        plan.in_use.push((place, InUse::Kernel));
        Ok(())
    }

    /// A file of the generation that comes.
    fn comes(&self, file: &Installed, before: State) -> Result<Move, InstallFault> {
        let after = match (&file.digest, &file.link) {
            (Some(digest), _) => {
                let there = matches!(&before, State::File { digest: now, .. } if now == digest);
                if !there && !self.yard.kept.has(digest) && !self.lies_elsewhere(digest)? {
                    return Err(InstallFault::NotKept(file.path.clone()));
                }
                let mode = file.mode.or(mode_of(&before)).unwrap_or(0o644);
                State::File { digest: *digest, mode }
            }
            (None, Some(link)) => State::Link(link.into()),
            (None, None) => return Err(InstallFault::NotKept(file.path.clone())),
        };
        Ok(Move { path: file.path.clone(), before, after })
    }

    /// Tells whether a content lies in place under another name.
    fn lies_elsewhere(&self, digest: &Digest) -> Result<bool, FileError> {
        for file in self.in_place().files.iter().filter(|file| file.digest == Some(*digest)) {
            if State::of(&file.path)?.is_some_and(|now| file.is(&now)) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// A configuration file that a person has edited stays; that of the generation goes beside it, where it is another one.
    fn keeps(
        &self,
        file: &Installed,
        known: Option<&Installed>,
        then: &Manifest,
        plan: &mut BackPlan,
    ) -> Result<(), InstallFault> {
        let was = known.and_then(|known| known.digest);
        let Some(digest) = file.digest.filter(|digest| Some(*digest) != was) else {
            plan.kept.push(KeptEdit { path: file.path.clone(), beside: None, texts: None });
            return Ok(());
        };
        let place = beside(&file.path, Some(&Content::File(digest)), &then.version)?;
        let texts = self.yard.kept.read(&digest).zip(read_regular(&file.path).ok());
        let base = was.and_then(|was| self.yard.kept.read(&was));
        let texts = texts.map(|(ours, theirs)| ThreeWay { base, theirs, ours });
        if State::of(&place)? == Some(State::Nothing) {
            let one = self.comes(&Installed { path: place.clone(), ..file.clone() }, State::Nothing)?;
            plan.change.moves.push(one);
        }
        plan.kept.push(KeptEdit { path: file.path.clone(), beside: Some(place), texts });
        Ok(())
    }

    /// Goes back.
    ///
    /// # Errors
    /// A file cannot be written: what had been changed is as it was before.
    pub fn back(
        &self,
        plan: &BackPlan,
        seals: &mut dyn FnMut(Digest) -> Result<(), FileError>,
    ) -> Result<(), InstallFault> {
        let sources = self.in_place().files.iter().filter_map(|file| Some((file.digest?, file.path.clone()))).collect();
        self.yard.make(&plan.change, &sources, seals)?;
        Ok(self.yard.prune()?)
    }
}

impl BackPlan {
    /// The generation that it goes to.
    pub fn to(&self) -> u32 {
        self.change.generation
    }

    /// What becomes of each place.
    pub fn moves(&self) -> &[Move] {
        &self.change.moves
    }
}

impl Begun {
    /// Tells whether something was begun below a prefix and is not ended: by a command that was cut off, or by one that is at it.
    pub fn is_there(manifest: &Path) -> bool {
        Yard::of(manifest).begun().is_some()
    }

    /// What was begun and cut off: nobody is at it, as the lock is ours.
    pub fn under(lock: &Lock) -> Option<Begun> {
        let yard = lock.yard().clone();
        let (change, seal) = yard.begun()?;
        Some(Begun { seal, change, yard })
    }

    /// Finishes it, or takes it back.
    ///
    /// # Errors
    /// Neither can be done, or it names places that are not believed to be this tree's.
    pub fn end(&self, believed: Believed<'_>) -> Result<Recovered, InstallFault> {
        let foreign = self.change.moves.iter().find(|one| !believed.has(&one.path));
        if let Some(one) = foreign {
            let what = "no place of this tree's; what was begun there was not begun from here";
            return Err(InstallFault::Foreign(vec![InTheWay { path: one.path.clone(), what }]));
        }
        Ok(self.yard.recover(&self.change)?)
    }
}

fn mode_of(state: &State) -> Option<u32> {
    match state {
        State::File { mode, .. } => Some(*mode),
        State::Nothing | State::Link(_) => None,
    }
}
