//! Files that the build made before it compiled: by which commands, and under which names sources include them.

use std::collections::{BTreeMap, BTreeSet};

use super::names::free_name;
use super::needs::{HostHeader, plain_name};
use super::story::Story;

/// Shells whose words are only a line for them to run.
const SHELLS: [&str; 4] = ["sh", "dash", "bash", "ksh"];
/// With more files of the tree than this, folders are named, of which more than a few were read.
const MANY: usize = 12;
const FEW: usize = 4;

/// Commands that make files, or a text that the build wrote itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Generated {
    pub name: String,
    /// Each command's words; none for a text that is kept.
    pub stages: Vec<Vec<String>>,
    pub stdin: Option<String>,
    pub stdout: Option<String>,
    /// Files as they are included, with the names under which the command leaves them in its folder.
    pub outputs: Vec<(String, Option<String>)>,
    /// Files that must lie in its folder, with their names there; none where it runs in the tree.
    pub scratch: Option<Vec<(String, String)>>,
    pub folder: Option<String>,
    pub reads: Vec<String>,
    pub uses: Vec<String>,
    pub success: Option<i32>,
    /// The text that is kept.
    pub kept: Option<String>,
    /// What it rests on.
    pub seen: String,
}

/// All that was made.
#[derive(Debug, Default)]
pub(super) struct Made {
    pub generated: Vec<Generated>,
    /// The host's headers that sources include, with the words by which they do.
    pub host_headers: BTreeMap<String, HostHeader>,
    /// All files of the host that were read.
    host_files: BTreeSet<String>,
    /// The part that makes each file.
    parts: BTreeMap<String, String>,
    /// How each file is included.
    names: BTreeMap<String, String>,
    /// Folders for headers that hold copies or links of headers of the tree: where these lie.
    copied: BTreeMap<String, BTreeSet<String>>,
}

impl Made {
    pub fn of(story: &mut Story<'_>) -> Made {
        let mut made = Made::default();
        let included = included_words(story);
        let mut wanted: BTreeMap<String, u32> = BTreeMap::new();
        let products: BTreeSet<String> = story.joins.iter().map(|join| join.output.clone()).collect();
        let objects: BTreeSet<String> = story.compiles.iter().map(|compile| compile.object.clone()).collect();
        let is_input = |path: &str| products.contains(path) || objects.contains(path);
        let mut looked: Vec<(String, u32, bool)> = Vec::new();
        for compile in &story.compiles {
            looked.extend(
                compile.reads.iter().chain([&compile.source]).map(|path| (path.clone(), compile.at, compile.is_cxx())),
            );
        }
        for join in &story.joins {
            looked.extend(join.reads.iter().map(|path| (path.clone(), join.at, true)));
        }
        for (path, at, is_cxx) in looked {
            if is_input(&path) {
                continue;
            }
            if !story.is_made(&path) {
                made.note_host_header(&path, &included, is_cxx);
                continue;
            }
            let origin = story.origin(&path, at);
            if is_input(&origin) || is_temporary(story, &origin) {
                continue;
            }
            if story.is_made(&origin) {
                let latest = wanted.entry(origin.clone()).or_default();
                *latest = (*latest).max(at);
                made.names.entry(origin).or_insert_with(|| reach(story, &path, &included));
            } else if let (Some(from), Some((folder, _))) = (story.in_tree(&origin), path.rsplit_once('/')) {
                let below = from.rsplit_once('/').map_or("", |(folder, _)| folder);
                made.copied.entry(folder.to_string()).or_default().insert(below.to_string());
            }
        }
        made.units(story, wanted);
        made
    }

    /// The part that makes a file.
    pub fn part_of(&self, path: &str) -> Option<&str> {
        self.parts.get(path).map(String::as_str)
    }

    /// All files that parts make.
    pub fn files(&self) -> impl Iterator<Item = &str> {
        self.parts.keys().map(String::as_str)
    }

    /// How a made file is included.
    pub fn reach(&self, path: &str) -> Option<&str> {
        self.parts.get(path).and_then(|_| self.names.get(path)).map(String::as_str)
    }

    /// Where the headers of a folder lie in the tree that were only copied or linked there; `None` where the folder is the tree's own.
    pub fn copied_from(&self, folder: &str) -> Option<&BTreeSet<String>> {
        self.copied.get(folder)
    }

    /// Whether a folder holds made files.
    pub fn is_made_folder(&self, folder: &str) -> bool {
        self.parts.keys().any(|path| path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/')))
    }

    fn note_host_header(&mut self, path: &str, included: &BTreeSet<String>, is_cxx: bool) {
        if let Some(known) = self.host_headers.get_mut(path) {
            known.only_cxx &= is_cxx;
        } else if !self.host_files.insert(path.to_string()) {
            // It is known already that nobody names it.
        } else if let Some(word) = included.iter().find(|word| path.ends_with(&format!("/{word}"))) {
            self.host_headers.insert(path.to_string(), HostHeader { word: word.clone(), only_cxx: is_cxx });
        }
    }

    fn units(&mut self, story: &mut Story<'_>, wanted: BTreeMap<String, u32>) {
        let mut by_unit: BTreeMap<usize, BTreeSet<String>> = BTreeMap::new();
        let mut texts: BTreeSet<String> = BTreeSet::new();
        let mut waiting: Vec<(String, u32)> = wanted.into_iter().collect();
        let mut known: BTreeSet<String> = BTreeSet::new();
        while let Some((path, at)) = waiting.pop() {
            if !known.insert(path.clone()) {
                continue;
            }
            let Some(unit) = story.unit_of(&path, at) else {
                texts.insert(path);
                continue;
            };
            let unit = without_shell(story, unit);
            let stages = story.piped(unit);
            if story.is_told(&stages) || stages.iter().any(|stage| story.is_own_script(*stage)) {
                texts.insert(path);
                continue;
            }
            by_unit.entry(unit).or_default().insert(path);
            for read in story.concerning_reads(&story.piped(unit)) {
                let origin = story.origin(&read, at);
                let made = story.is_made(&origin) && !is_temporary(story, &origin);
                let own = by_unit.get(&unit).is_some_and(|writes| writes.contains(&origin));
                if made && !own && !story.joins.iter().any(|join| join.output == origin) {
                    let name = plain_path(story, &origin);
                    self.names.entry(origin.clone()).or_insert(name);
                    waiting.push((origin, at));
                }
            }
        }
        let mut taken = BTreeSet::new();
        for (path, name) in
            by_unit.values().flatten().chain(&texts).filter_map(|path| Some((path, self.names.get(path)?)))
        {
            let part = free_name(format!("make-{}", plain_name(name)), &mut taken);
            self.parts.insert(path.clone(), part);
        }
        // All files of one command have one part.
        for writes in by_unit.values() {
            let first = writes.iter().next().and_then(|path| self.parts.get(path)).cloned().unwrap_or_default();
            writes.iter().for_each(|path| {
                self.parts.insert(path.clone(), first.clone());
            });
        }
        for path in texts {
            self.text(story, &path);
        }
        for (unit, writes) in by_unit {
            let generated = self.command(story, unit, &writes);
            self.generated.push(generated);
        }
        self.generated.sort_by(|a, b| a.name.cmp(&b.name));
    }

    /// A text that the build wrote itself is kept as it came out.
    fn text(&mut self, story: &mut Story<'_>, path: &str) {
        let name = self.names.get(path).cloned().unwrap_or_default();
        let id = story.watched.texts.iter().find(|(id, _)| story.watched.path(**id).to_string_lossy() == path);
        let part = self.parts.get(path).cloned().unwrap_or_default();
        match id.map(|(_, text)| text.clone()) {
            Some(text) => {
                story.doubt(
                    &name,
                    "the build wrote this text itself, so its text is kept: does it hold values to choose, or a date?",
                );
                self.generated.push(Generated {
                    name: part,
                    outputs: vec![(name.clone(), None)],
                    kept: Some(text),
                    seen: "written by the build itself".into(),
                    ..Generated::default()
                });
            }
            None => {
                self.parts.remove(path);
                story.doubt(
                    path,
                    "the build wrote it itself, and it was gone or no text at the end: nothing makes it now",
                );
            }
        }
    }

    fn command(&self, story: &mut Story<'_>, unit: usize, writes: &BTreeSet<String>) -> Generated {
        let stages = story.piped(unit);
        let process = |at: usize| &story.watched.processes[at];
        let (first, last) = (process(stages[0]), process(unit));
        let mut generated = Generated {
            name: writes.iter().next().and_then(|path| self.parts.get(path)).cloned().unwrap_or_default(),
            success: last.exit.filter(|exit| *exit > 0),
            seen: last.words.first().map_or(String::new(), |word| format!("made by {word}")),
            ..Generated::default()
        };
        let stdout = last.streams.get(1).filter(|stream| writes.contains(*stream)).cloned();
        let reads = story.concerning_reads(&stages);
        let stdin = first.streams.first().filter(|stream| story.in_tree(stream).is_some()).cloned();
        let told: Vec<&String> = writes.iter().filter(|path| Some(*path) != stdout.as_ref()).collect();
        let names_it = |path: &str| {
            let words = stages.iter().flat_map(|at| process(*at).words.iter().skip(1).map(|word| (process(*at), word)));
            words.into_iter().any(|(process, word)| names(word, &process.folder, path).is_some())
        };
        let in_place = told.is_empty() || told.len() == 1 && stdout.is_none() && names_it(told[0]);
        let folder = last.folder.clone();
        let here = story.in_tree(&folder).map(str::to_string).or((folder == story.tree).then(String::new));
        let name_of = |path: &str| self.names.get(path).cloned().unwrap_or_default();
        let aside = !in_place || here.is_none();
        let mut uses = BTreeSet::new();
        let products: BTreeSet<String> = story.joins.iter().map(|join| join.output.clone()).collect();
        let mut laid_out: BTreeMap<String, String> = BTreeMap::new();
        for stage in &stages {
            let process = process(*stage);
            let mut words = Vec::new();
            for (at, word) in story.words_of(*stage).iter().enumerate() {
                let program = at == 0;
                if program && products.contains(&process.program) {
                    words.push(format!("${{product:{}}}", process.program));
                    continue;
                }
                let mut text = word.replace("${", "$${");
                if let Some(path) = told.iter().find(|path| in_place && names(word, &process.folder, path).is_some()) {
                    let own = names(word, &process.folder, path).unwrap_or_default();
                    text = text.replace(&own, "${step:output}");
                } else {
                    for read in &reads {
                        let Some(own) = names(word, &process.folder, read) else { continue };
                        let origin = story.origin(read, u32::MAX);
                        let of_tree = story.in_tree(&origin).is_some() && !story.is_made(&origin);
                        if aside && of_tree && (!in_place || origin != *read) && is_below(read, &folder) {
                            // It may write beside its input, so that lies where it runs.
                            continue;
                        }
                        let place = if let Some(part) = self.part_of(&origin) {
                            uses.insert(part.to_string());
                            format!("${{path:made}}/{}", name_of(&origin))
                        } else if products.contains(&origin) {
                            format!("${{product:{origin}}}")
                        } else if let Some(path) = story.in_tree(&origin) {
                            if in_place && here.as_deref() == Some("") {
                                path.to_string()
                            } else {
                                format!("${{path:tree}}/{path}")
                            }
                        } else {
                            continue;
                        };
                        text = text.replace(&own, &place);
                    }
                }
                // What is left of the tree's place: flags with a path joined to them, and the tree itself.
                let text = text.replace(&format!("{}/", story.tree), "${path:tree}/");
                let text = if text == story.tree { "${path:tree}".to_string() } else { text };
                words.push(if program {
                    text.rsplit_once('/').map_or(text.clone(), |(_, name)| name.to_string())
                } else {
                    text
                });
            }
            generated.stages.push(words);
        }
        for read in &reads {
            let origin = story.origin(read, u32::MAX);
            if Some(read) == stdin.as_ref() || writes.contains(&origin) {
                continue;
            }
            if let Some(part) = self.part_of(&origin) {
                uses.insert(part.to_string());
            }
            let named = generated.stages.iter().flatten().any(|word| {
                story.in_tree(&origin).is_some_and(|path| word.contains(path))
                    || word.contains(&name_of(&origin)) && !name_of(&origin).is_empty()
            });
            // What it finds in its folder must lie there.
            let below = read.strip_prefix(&format!("{folder}/"));
            if aside && let Some(below) = below.filter(|_| self.part_of(&origin).is_none() || !named) {
                laid_out.insert(below.to_string(), self.place(story, &origin));
            }
            let hidden = |path: &&str| path.starts_with('.') || path.contains("/.");
            if let Some(path) = story.in_tree(&origin).filter(|path| !story.is_made(&origin) && !hidden(path)) {
                generated.reads.push(path.to_string());
            }
        }
        // Programs of the tree that it finds in its folder.
        for at in stages.iter().flat_map(|stage| story.below(*stage)).filter(|at| !stages.contains(at)) {
            let program = &process(at).program;
            if let Some(below) = program.strip_prefix(&format!("{folder}/")).filter(|_| products.contains(program)) {
                laid_out.insert(below.to_string(), format!("${{product:{program}}}"));
            }
        }
        generated.reads = shorter(&generated.reads, &present(story));
        generated.uses = uses.into_iter().collect();
        generated.stdin = stdin.as_deref().and_then(|path| story.in_tree(path)).map(str::to_string);
        generated.stdout = stdout.as_deref().map(name_of);
        if in_place {
            generated.outputs = told.iter().map(|path| (name_of(path), None)).collect();
            generated.folder = here.clone().filter(|folder| !folder.is_empty());
            let wrote_more =
                stages.iter().flat_map(|at| story.below(*at)).any(|at| story.writes_below(at, &folder, writes));
            if here.is_none() && (wrote_more || !laid_out.is_empty()) {
                generated.scratch = Some(laid_out.into_iter().map(|(name, file)| (file, name)).collect());
            }
        } else {
            let left = |path: &&String| {
                let below = path.strip_prefix(&format!("{folder}/")).map(str::to_string);
                (name_of(path), Some(below.unwrap_or_else(|| name_of(path))))
            };
            generated.outputs = told.iter().map(left).collect();
            generated.scratch = Some(laid_out.into_iter().map(|(name, file)| (file, name)).collect());
        }
        generated
    }

    fn place(&self, story: &Story<'_>, path: &str) -> String {
        match self.part_of(path) {
            Some(part) => format!("${{part:{part}}}"),
            None => story.in_tree(path).map_or(path.to_string(), str::to_string),
        }
    }
}

fn is_below(path: &str, folder: &str) -> bool {
    path.strip_prefix(folder).is_some_and(|rest| rest.starts_with('/'))
}

/// How a word names a path, if it does: as it is, or after a sign within it.
fn names(word: &str, folder: &str, path: &str) -> Option<String> {
    let candidates = [Some(word), word.split_once('=').map(|(_, value)| value), word.strip_prefix("-o")];
    let named =
        candidates.into_iter().flatten().find(|part| !part.is_empty() && Story::absolute(folder, part) == path)?;
    Some(named.to_string())
}

/// A shell that only runs one program is that program.
fn without_shell(story: &Story<'_>, unit: usize) -> usize {
    let mut at = unit;
    loop {
        let process = &story.watched.processes[at];
        let name =
            process.words.first().map_or("", |word| word.rsplit_once('/').map_or(word.as_str(), |(_, name)| name));
        let runs_line = SHELLS.contains(&name) && process.words.get(1).is_some_and(|word| word.starts_with("-c"));
        let own: Vec<usize> = story
            .below(at)
            .into_iter()
            .filter(|below| *below != at && !story.watched.processes[*below].forked)
            .collect();
        match own.as_slice() {
            [only] if runs_line => at = *only,
            _ => return at,
        }
    }
}

/// Whether a file only passes between the parts of a compiler.
fn is_temporary(story: &Story<'_>, path: &str) -> bool {
    let name = path.rsplit_once('/').map_or(path, |(_, name)| name);
    story.in_tree(path).is_none() && name.starts_with("cc") && !story.is_left(path)
}

/// The names in `#include` lines of all texts of the tree that compiles read.
fn included_words(story: &Story<'_>) -> BTreeSet<String> {
    let texts: BTreeSet<&String> = story
        .compiles
        .iter()
        .flat_map(|compile| compile.reads.iter().chain([&compile.source]))
        .filter(|path| story.in_tree(path).is_some() || story.is_made(path))
        .collect();
    let mut words = BTreeSet::new();
    for path in texts {
        let Ok(bytes) = std::fs::read(path) else { continue };
        for line in String::from_utf8_lossy(&bytes).lines() {
            let Some(rest) = line.trim_start().strip_prefix('#').map(str::trim_start) else { continue };
            let Some(rest) = rest.strip_prefix("include").map(str::trim_start) else { continue };
            let end = match rest.chars().next() {
                Some('<') => '>',
                Some('"') => '"',
                _ => continue,
            };
            words.extend(rest[1..].split_once(end).map(|(word, _)| word.to_string()));
        }
    }
    words
}

/// How sources include a made file: the longest end of its path that one of them names, else its path below the tree.
fn reach(story: &Story<'_>, path: &str, included: &BTreeSet<String>) -> String {
    let mut ends: Vec<&str> = path.match_indices('/').map(|(at, _)| &path[at + 1..]).collect();
    ends.sort_by_key(|end| std::cmp::Reverse(end.len()));
    let named = ends.into_iter().find(|end| included.contains(*end));
    named.map_or_else(|| plain_path(story, path), str::to_string)
}

fn plain_path(story: &Story<'_>, path: &str) -> String {
    let name = path.rsplit_once('/').map_or(path, |(_, name)| name);
    story.in_tree(path).unwrap_or(name).to_string()
}

/// The files of the tree that were there before the build.
fn present(story: &Story<'_>) -> BTreeSet<String> {
    let before = story.watched.before.iter().map(|id| story.watched.path(*id).to_string_lossy().into_owned());
    before.filter_map(|path| story.in_tree(&path).map(str::to_string)).collect()
}

/// A long list of files names folders of which nearly all was read: `FOLDER/**`.
fn shorter(files: &[String], present: &BTreeSet<String>) -> Vec<String> {
    if files.len() <= MANY {
        return files.to_vec();
    }
    let read: BTreeSet<&str> = files.iter().map(String::as_str).collect();
    let mut found = Vec::new();
    let mut waiting = vec![String::new()];
    while let Some(folder) = waiting.pop() {
        let own = |path: &&str| path.starts_with(&folder);
        let (some, all) =
            (read.iter().copied().filter(own).count(), present.iter().map(String::as_str).filter(own).count());
        if some > FEW && some * 10 >= all * 9 || some * 2 > all && folder.is_empty() {
            found.push(format!("{folder}**"));
            continue;
        }
        let mut below = BTreeSet::new();
        for path in read.iter().copied().filter(own) {
            match path[folder.len()..].split_once('/') {
                Some((next, _)) => {
                    below.insert(format!("{folder}{next}/"));
                }
                None => found.push(path.to_string()),
            }
        }
        waiting.extend(below);
    }
    found.sort();
    found
}
