//! A command that made files, as a generated part: its words with our names for places, what must lie in its folder, what it leaves.

use std::collections::{BTreeMap, BTreeSet};

use super::made::{Generated, Made};
use super::paths::{absolute, base_name, below};
use super::story::Story;
use super::watched::Seen;

/// With more files of the tree than this, folders are named, of which more than a few were read.
const MANY: usize = 12;
const FEW: usize = 4;

/// Where a command ran, what it read and what it made.
struct Command<'a> {
    story: &'a Story<'a>,
    made: &'a Made,
    /// Its programs, joined by pipes.
    stages: Vec<usize>,
    folder: &'a str,
    /// Its folder below the tree, if it lies there.
    here: Option<&'a str>,
    reads: BTreeSet<String>,
    /// What it was told to write, or wrote of its own accord: all but its standard output.
    told: Vec<&'a str>,
    stdin: Option<&'a str>,
    stdout: Option<&'a str>,
    writes: &'a BTreeSet<String>,
}

/// Draws the command of a unit, which made these files.
pub(super) fn generated(story: &Story<'_>, made: &Made, unit: usize, writes: &BTreeSet<String>) -> Generated {
    let stages = story.piped(unit);
    let (first, last) = (story.process(stages[0]), story.process(unit));
    let stdout = last.streams.get(1).map(String::as_str).filter(|stream| writes.contains(*stream));
    let command = Command {
        story,
        made,
        folder: &last.folder,
        here: if last.folder == story.tree { Some("") } else { story.in_tree(&last.folder) },
        reads: story.concerning_reads(&stages),
        told: writes.iter().map(String::as_str).filter(|path| Some(*path) != stdout).collect(),
        stdin: first.streams.first().map(String::as_str).filter(|stream| story.in_tree(stream).is_some()),
        stdout,
        writes,
        stages,
    };
    Generated {
        name: writes.first().and_then(|path| made.part_of(path)).unwrap_or_default().to_string(),
        success: last.exit.filter(|exit| *exit > 0),
        seen: last.words.first().map_or(String::new(), |word| format!("made by {word}")),
        ..command.drawn()
    }
}

impl Command<'_> {
    fn drawn(&self) -> Generated {
        let stages: Vec<Vec<String>> = self.stages.iter().map(|stage| self.words(*stage)).collect();
        let laid_out = self.laid_out(&stages);
        let in_place = self.in_place();
        let wrote_more = || {
            let all = self.stages.iter().flat_map(|stage| self.story.with_all_below(*stage));
            all.into_iter().any(|at| self.story.writes_below(at, self.folder, self.writes))
        };
        // In the tree it runs where it ran; elsewhere, only if that matters.
        let has_own_folder = !in_place || self.here.is_none() && (!laid_out.is_empty() || wrote_more());
        let left = |path: &&str| {
            let name = self.made.name_of(path);
            let left = (!in_place).then(|| below(path, self.folder).unwrap_or(name).to_string());
            (name.to_string(), left)
        };
        Generated {
            stdin: self.stdin.and_then(|path| self.story.in_tree(path)).map(str::to_string),
            stdout: self.stdout.map(|path| self.made.name_of(path).to_string()),
            outputs: self.told.iter().map(left).collect(),
            folder: self.here.filter(|folder| in_place && !folder.is_empty()).map(str::to_string),
            scratch: has_own_folder.then(|| laid_out.into_iter().map(|(name, file)| (file, name)).collect()),
            reads: shorter(&self.sources(), &self.story.before),
            uses: self.others().filter_map(|(_, origin)| self.made.part_of(&origin).map(str::to_string)).collect(),
            stages,
            ..Generated::default()
        }
    }

    /// Whether it is told where its one file goes, so that it can run where it ran.
    fn in_place(&self) -> bool {
        let is_named = |path: &str| {
            let mut words = self.stages.iter().flat_map(|stage| {
                let process = self.story.process(*stage);
                process.words.iter().skip(1).map(move |word| (process, word))
            });
            words.any(|(process, word)| named(word, process, path).is_some())
        };
        match self.told.as_slice() {
            [] => true,
            [only] => self.stdout.is_none() && is_named(only),
            _ => false,
        }
    }

    /// Whether it does not run in a folder of the tree here.
    fn aside(&self) -> bool {
        !self.in_place() || self.here.is_none()
    }

    /// What it read beyond its standard input and its own files, with where each comes from.
    fn others(&self) -> impl Iterator<Item = (&String, String)> {
        let origins = self.reads.iter().map(|read| (read, self.story.origin(read, u32::MAX)));
        origins.filter(|(read, origin)| Some(read.as_str()) != self.stdin && !self.writes.contains(origin))
    }

    fn is_source(&self, origin: &str) -> bool {
        self.story.in_tree(origin).is_some() && !self.story.is_made(origin)
    }

    /// The words of one program.
    fn words(&self, stage: usize) -> Vec<String> {
        let process = self.story.process(stage);
        let mut words = self.story.words_of(stage).into_iter();
        let program = words.next().unwrap_or_default();
        let program = match self.story.product(&process.program) {
            Some(_) => product(&process.program),
            None => base_name(&program).to_string(),
        };
        std::iter::once(program).chain(words.map(|word| self.word(process, &word))).collect()
    }

    fn word(&self, process: &Seen, word: &str) -> String {
        let mut text = word.replace("${", "$${");
        let of_output = || self.told.iter().find_map(|path| named(word, process, path));
        if let Some(own) = self.in_place().then(of_output).flatten() {
            text = text.replace(&own, "${step:output}");
        } else {
            for read in &self.reads {
                if let Some((own, place)) = named(word, process, read).zip(self.place(read)) {
                    text = text.replace(&own, &place);
                }
            }
        }
        // What is left of the tree's place: flags with a path joined to them, and the tree itself.
        let text = text.replace(&format!("{}/", self.story.tree), "${path:tree}/");
        if text == self.story.tree { "${path:tree}".to_string() } else { text }
    }

    /// What a word says in the place of a file that was read; `None` where it stays as it is.
    fn place(&self, read: &str) -> Option<String> {
        let origin = self.story.origin(read, u32::MAX);
        let can_stay = self.aside() && self.is_source(&origin) && (!self.in_place() || origin != read);
        if can_stay && below(read, self.folder).is_some() {
            // It may write beside its input, so that lies where it runs.
            return None;
        }
        if self.made.part_of(&origin).is_some() {
            return Some(format!("${{path:made}}/{}", self.made.name_of(&origin)));
        }
        if self.story.product(&origin).is_some() {
            return Some(product(&origin));
        }
        let path = self.story.in_tree(&origin)?;
        let runs_in_root = self.in_place() && self.here == Some("");
        Some(if runs_in_root { path.to_string() } else { format!("${{path:tree}}/{path}") })
    }

    /// What it finds in its folder without being told, by the names there; `words` are those of its programs.
    fn laid_out(&self, words: &[Vec<String>]) -> BTreeMap<String, String> {
        let mut files = BTreeMap::new();
        let is_told = |origin: &str| {
            let name = self.made.name_of(origin);
            words.iter().flatten().any(|word| word.contains(name)) && !name.is_empty()
        };
        for (read, origin) in self.others().filter(|_| self.aside()) {
            let Some(name) = below(read, self.folder) else { continue };
            let file = match self.made.part_of(&origin) {
                Some(_) if is_told(&origin) => continue,
                Some(part) => format!("${{part:{part}}}"),
                None => self.story.in_tree(&origin).unwrap_or(&origin).to_string(),
            };
            files.insert(name.to_string(), file);
        }
        let below_stages = self.stages.iter().flat_map(|stage| self.story.with_all_below(*stage));
        for at in below_stages.filter(|at| !self.stages.contains(at)) {
            let program = &self.story.process(at).program;
            if let Some(name) = below(program, self.folder).filter(|_| self.story.product(program).is_some()) {
                files.insert(name.to_string(), product(program));
            }
        }
        files
    }

    /// The files of the tree that it read; patterns do not see hidden ones.
    fn sources(&self) -> Vec<String> {
        let hidden = |path: &str| path.starts_with('.') || path.contains("/.");
        let own = self.others().filter(|(_, origin)| self.is_source(origin));
        let paths = own.filter_map(|(_, origin)| self.story.in_tree(&origin).map(str::to_string));
        paths.filter(|path| !hidden(path)).collect()
    }
}

/// Stands for a slash in the path of a finished file, so that no part of it is taken for the place of the tree.
const SLASH: &str = "\u{1}";

/// Stands for a finished file of the watched build until it is known which part makes it.
fn product(path: &str) -> String {
    format!("${{product:{}}}", path.replace('/', SLASH))
}

/// Puts parts in the places of the finished files that a word names; `part` knows which makes a file.
pub(super) fn with_parts(word: &str, part: &dyn Fn(&str) -> String) -> String {
    let Some((before, rest)) = word.split_once("${product:") else { return word.to_string() };
    let Some((file, after)) = rest.split_once('}') else { return word.to_string() };
    format!("{before}${{part:{}}}{}", part(&file.replace(SLASH, "/")), with_parts(after, part))
}

/// How a word of a process names a path, if it does: as it is, or after a sign within it.
fn named(word: &str, process: &Seen, path: &str) -> Option<String> {
    let candidates = [Some(word), word.split_once('=').map(|(_, value)| value), word.strip_prefix("-o")];
    let is_it = |part: &&str| !part.is_empty() && absolute(&process.folder, part) == path;
    candidates.into_iter().flatten().find(is_it).map(str::to_string)
}

/// A long list of files names folders of which nearly all was read: `FOLDER/**`.
fn shorter(files: &[String], present: &BTreeSet<String>) -> Vec<String> {
    if files.len() <= MANY {
        return files.to_vec();
    }
    let mut found = Vec::new();
    let mut waiting = vec![String::new()];
    while let Some(folder) = waiting.pop() {
        let own: Vec<&String> = files.iter().filter(|path| path.starts_with(&folder)).collect();
        let all = present.iter().filter(|path| path.starts_with(&folder)).count();
        if own.len() > FEW && own.len() * 10 >= all * 9 || folder.is_empty() && own.len() * 2 > all {
            found.push(format!("{folder}**"));
            continue;
        }
        let mut folders = BTreeSet::new();
        for path in own {
            match path[folder.len()..].split_once('/') {
                Some((next, _)) => drop(folders.insert(format!("{folder}{next}/"))),
                None => found.push(path.clone()),
            }
        }
        waiting.extend(folders);
    }
    found.sort();
    found.dedup();
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_list_of_what_was_read_names_folders() {
        let texts = |list: &[&str]| list.iter().map(ToString::to_string).collect::<Vec<String>>();
        let all: Vec<String> = (0..20).map(|n| format!("doc/{n:02}.txt")).collect();
        let mut present: BTreeSet<String> = all.iter().cloned().collect();
        present.extend((0..40).map(|n| format!("src/{n:02}.c")));
        let mut read = all.clone();
        read.extend(texts(&["src/01.c", "src/02.c"]));
        assert_eq!(shorter(&read, &present), texts(&["doc/**", "src/01.c", "src/02.c"]));
        // Most of a tree is all of it.
        let whole: Vec<String> = present.iter().skip(20).cloned().collect();
        assert_eq!(shorter(&whole, &present), texts(&["**"]));
        let few = texts(&["a", "b"]);
        assert_eq!(shorter(&few, &present), few);
    }
}
