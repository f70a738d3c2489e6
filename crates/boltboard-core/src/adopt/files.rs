//! Who wrote which file of a build, what is only a copy of what, and which command a person would say made it.

use std::collections::BTreeSet;

use super::paths::{absolute, base_name, below, folder_name};
use super::story::{Story, is_proper};
use super::watched::{Seen, What};

/// Programs that hand files on as they are.
const COPIERS: [&str; 4] = ["cp", "install", "ln", "mv"];

/// Shells whose words can be a line for them to run.
const SHELLS: [&str; 4] = ["sh", "dash", "bash", "ksh"];

impl Story<'_> {
    pub(super) fn note_writers(&mut self) {
        for (at, process) in self.watched.processes.iter().enumerate() {
            // Another time is no other content.
            let touches = base_name(&process.program) == "touch";
            for did in process.deeds.iter().filter(|did| matches!(did.what, What::Wrote)) {
                let path = self.watched.text(did.path).to_string();
                if touches && self.before.contains(self.in_tree(&path).unwrap_or(&path)) {
                    continue;
                }
                self.writers.entry(path).or_default().push((did.at, at));
            }
        }
        self.writers.values_mut().for_each(|list| list.sort_unstable());
    }

    /// Files that were handed on as they were: copied, linked, given another name.
    pub(super) fn note_copies(&mut self) {
        for (at, process) in self.watched.processes.iter().enumerate() {
            if process.forked || self.busy.contains(&at) || self.is_within(at) {
                continue;
            }
            let path = |id| self.watched.text(id).to_string();
            let mut pairs: Vec<(u32, String, String)> = Vec::new();
            for pair in process.deeds.windows(2).filter(|pair| pair[0].what == What::Unnamed) {
                pairs.push((pair[1].at, path(pair[1].path), path(pair[0].path)));
            }
            if COPIERS.contains(&base_name(&process.program)) {
                let of_sort = |what: What| process.deeds.iter().filter(move |did| did.what == what);
                let read: Vec<String> = of_sort(What::Read).map(|did| path(did.path)).collect();
                for did in of_sort(What::Wrote) {
                    let to = path(did.path);
                    let named = |file: &&String| base_name(file) == base_name(&to) && **file != to;
                    let of_words = || {
                        let mut words = process.words.iter().skip(1).filter(|word| !word.starts_with('-'));
                        words.next().map(|word| self.led_from(&process.folder, &to, word))
                    };
                    let in_tree = |file: &&String| self.concerns(file) && **file != to;
                    let from = read.iter().find(named).or_else(|| read.iter().rfind(in_tree)).cloned();
                    pairs.extend(from.or_else(of_words).map(|from| (did.at, to, from)));
                }
            }
            for (when, to, from) in pairs {
                self.copies.entry(to).or_default().push((when, from));
            }
        }
        self.copies.values_mut().for_each(|list| list.sort_unstable());
    }

    /// What a link's text leads to: it counts from the folder of the link.
    fn led_from(&self, folder: &str, link: &str, text: &str) -> String {
        let beside = absolute(folder_name(link), text);
        if self.concerns(&beside) { beside } else { absolute(folder, text) }
    }

    /// Where a file comes from that was handed on, as seen at a moment.
    pub fn origin(&self, path: &str, at: u32) -> String {
        let (mut path, mut at) = (path.to_string(), at);
        // A ring of names ends somewhere.
        for _ in 0..40 {
            let last = self.copies.get(&path).and_then(|list| list.iter().rfind(|(when, _)| *when <= at));
            // Who wrote it since made it anew.
            let written = self.writers.get(&path).and_then(|list| list.iter().rfind(|(when, _)| *when <= at));
            match (last, written) {
                (Some((when, from)), written) if written.is_none_or(|(later, _)| later <= when) => {
                    (path, at) = (from.clone(), *when);
                }
                _ => return path,
            }
        }
        path
    }

    /// Who wrote a file last before a moment.
    fn writer(&self, path: &str, at: u32) -> Option<usize> {
        self.writers.get(path)?.iter().rfind(|(when, _)| *when <= at).map(|(_, who)| *who)
    }

    /// The command that wrote a file last before a moment: the highest process below those that only run others. `None` where these wrote
    /// it themselves.
    pub fn unit_of(&self, path: &str, at: u32) -> Option<usize> {
        let writer = self.writer(path, at)?;
        if self.only_runs_others(writer) {
            return self.told_to_write(path);
        }
        let mut at = writer;
        while let Some(parent) = self.process(at).parent.filter(|parent| !self.only_runs_others(*parent)) {
            at = parent;
        }
        // A copy of a shell that becomes a program is that program.
        while self.process(at).forked {
            at = *self.children[at].first()?;
        }
        Some(at)
    }

    /// The command that wrote into a linked file after its link, in the same place.
    pub fn changed_after(&self, path: &str) -> Option<String> {
        let unit = self.unit_of(path, u32::MAX).filter(|unit| !self.is_busy(*unit) && !self.is_within(*unit))?;
        // The index of an archive is no other content.
        let indexes = base_name(&self.process(unit).program).ends_with("ranlib");
        (!indexes && self.origin(path, u32::MAX) == path).then(|| self.words_of(unit).join(" "))
    }

    /// Whether a process stands above compilers, is a shell that was given a line, or a copy of one that runs several commands.
    fn only_runs_others(&self, at: usize) -> bool {
        let process = self.process(at);
        let is_shell = SHELLS.contains(&base_name(process.words.first().map_or("", String::as_str)));
        let has_line = process.words.get(1).is_some_and(|word| word.starts_with('-') && word.contains('c'));
        self.above.contains(&at) || is_shell && has_line || process.forked && self.children[at].len() > 1
    }

    /// The one program whose standard output was a file: a shell can open it before it starts the program.
    fn told_to_write(&self, path: &str) -> Option<usize> {
        let writes = |process: &Seen| !process.forked && process.streams.get(1).is_some_and(|stream| stream == path);
        let is_highest = |at: &usize| {
            let parent = self.process(*at).parent;
            parent.is_none_or(|parent| self.only_runs_others(parent) || !writes(self.process(parent)))
        };
        let all =
            (0..self.watched.processes.len()).filter(|at| writes(self.process(*at)) && !self.only_runs_others(*at));
        let mut highest = all.filter(is_highest);
        highest.next().filter(|_| highest.next().is_none())
    }

    /// The programs before one that hand it their output by a pipe, first to last, and itself.
    pub fn piped(&self, last: usize) -> Vec<usize> {
        let mut stages = vec![last];
        let stream = |at: usize, number: usize| self.process(at).streams.get(number).filter(|s| s.starts_with("pipe:"));
        while let Some(input) = stream(stages[0], 0) {
            let before = |at: &usize| {
                let process = self.process(*at);
                !process.forked
                    && process.streams.get(1) == Some(input)
                    && !stages.contains(at)
                    && !self.above.contains(at)
            };
            let Some(first) = (0..self.watched.processes.len()).find(before) else { break };
            stages.insert(0, first);
        }
        stages
    }

    /// Whether a text was handed to a command that no file holds: from the build itself.
    pub fn is_told(&self, stages: &[usize]) -> bool {
        let input = |at: usize| self.process(at).streams.first().map_or("", String::as_str);
        let first = input(stages[0]);
        let of_build = input(0);
        first != of_build && first != "/dev/null" && !first.starts_with("/dev/") && !self.concerns(first)
    }

    /// Whether a process runs a script that the build itself wrote, as those do that ask about the host: what it writes is the build's own text.
    pub fn is_own_script(&self, at: usize) -> bool {
        let process = self.process(at);
        let script = process.words.iter().skip(1).find(|word| !word.starts_with('-'));
        let named = script.map(|word| absolute(&process.folder, word));
        let scripts = named.into_iter().chain([process.asked.clone()]);
        let is_shell = base_name(&process.program).ends_with("sh");
        is_shell && scripts.into_iter().any(|path| self.is_made(&path) && self.product(&path).is_none())
    }

    /// The words of a command as whoever ran it called it: a script of the host by its name.
    pub fn words_of(&self, at: usize) -> Vec<String> {
        let process = self.process(at);
        let script = process.words.iter().position(|word| *word == process.asked).filter(|at| *at > 0);
        match script {
            Some(at) if self.in_tree(&process.asked).is_none() => {
                let name = base_name(&process.asked).to_string();
                std::iter::once(name).chain(process.words[at + 1..].iter().cloned()).collect()
            }
            _ => process.words.clone(),
        }
    }

    /// The file that a product came to be in the end: where it was given another name, that.
    pub fn last_name(&self, path: &str) -> String {
        if self.is_left(path) {
            return path.to_string();
        }
        let from_it = |(_, list): &(&String, &Vec<(u32, String)>)| list.iter().any(|(_, from)| from == path);
        let mut named = self.copies.iter().filter(from_it).map(|(to, _)| to).filter(|to| self.is_left(to));
        named.next().cloned().unwrap_or_else(|| path.to_string())
    }

    /// What the commands of a unit read of the tree and of what was made.
    pub fn concerning_reads(&self, stages: &[usize]) -> BTreeSet<String> {
        // The copy of a shell that became the program opened what it reads as standard input.
        let from = |stage: usize| match self.process(stage).parent.filter(|parent| self.process(*parent).forked) {
            Some(parent) if !self.above.contains(&parent) => parent,
            _ => stage,
        };
        let all = stages.iter().flat_map(|stage| self.reads_of(from(*stage)));
        all.filter(|path| self.concerns(path)).collect()
    }

    /// All files that any process read.
    pub fn all_read(&self) -> BTreeSet<String> {
        let deeds = self.watched.processes.iter().flat_map(|process| &process.deeds);
        let read = deeds.filter(|did| did.what == What::Read);
        read.map(|did| self.watched.text(did.path).to_string()).collect()
    }

    /// Whether a process wrote anything below a folder but these files.
    pub fn writes_below(&self, at: usize, folder: &str, known: &BTreeSet<String>) -> bool {
        self.process(at).deeds.iter().filter(|did| did.what == What::Wrote).any(|did| {
            let path = self.watched.text(did.path);
            below(path, folder).is_some() && !known.contains(path)
        })
    }

    /// Whether names of a folder were read by anything but a compiler.
    pub fn is_listed(&self, folder: &str) -> bool {
        let lists = |process: &Seen| {
            let mut listed = process.deeds.iter().filter(|did| did.what == What::Listed);
            listed.any(|did| self.watched.text(did.path) == folder)
        };
        self.watched.processes.iter().any(|process| !is_proper(process) && lists(process))
    }
}
