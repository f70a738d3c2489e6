//! The text of a drawn description, as a person would have written it.

mod chain;
mod delivered;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::Path;

use self::chain::Chain;
use super::command::with_parts;
use super::made::Generated;
use super::model::{DrawnPart, DrawnSource, Model, PartForm};
use super::needs::DrawnNeed;
use super::paths::{base_name, below, relative_to};
use super::patterns::Files;
use super::questions::{Answers, FlagOption, FlagsAnswer, option_for};
use super::shared::{Alike, Own, alike, sets};
use super::toml::{comment, folded, key, list, literal, quoted, texts};
use super::ways::common;

/// What texts are made with.
pub(super) struct Writer<'m> {
    model: &'m Model,
    /// Where the tree lies, from the description.
    pub sources: String,
    /// The root of the watched tree.
    pub tree: String,
    pub files: &'m Files,
    pub listed: &'m dyn Fn(&str) -> bool,
    chain: Chain,
    /// The part that each file of the watched build is, for commands that run or read it.
    products: BTreeMap<String, String>,
}

impl<'m> Writer<'m> {
    pub fn new(
        model: &'m Model,
        sources: String,
        tree: String,
        files: &'m Files,
        listed: &'m dyn Fn(&str) -> bool,
    ) -> Self {
        let mut products = BTreeMap::new();
        for part in &model.parts {
            let paths = part.file.iter().map(|file| &file.path).chain(&part.linked);
            products.extend(paths.map(|path| (path.clone(), part.name.clone())));
        }
        Writer { chain: Chain::of(model), model, sources, tree, files, listed, products }
    }

    /// One that writes each source's words where they are, and shares none between parts.
    pub fn unshared(model: &'m Model, tree: String, files: &'m Files) -> Self {
        Writer { chain: Chain::default(), ..Writer::new(model, String::new(), tree, files, &|_| false) }
    }

    /// What was drawn.
    pub fn model(&self) -> &'m Model {
        self.model
    }

    /// What a source is compiled with beyond what all are, as it is written; words of flags that belong together in one list.
    pub fn of_source(&self, source: &DrawnSource) -> Own {
        Own {
            include: self.includes(source),
            flags: self.flags(source).iter().map(|words| self.words(std::slice::from_ref(words))).collect(),
            defines: self.defines(source).iter().map(|text| literal(text)).collect(),
        }
    }

    /// Words of a part's link, as they are written.
    pub fn link_flags(&self, part: &DrawnPart) -> Vec<String> {
        part.link_flags.iter().map(|word| self.below_tree(word)).collect()
    }

    /// The commands of a generated file, as they are written.
    pub fn stages(&self, part: &Generated) -> Vec<Vec<String>> {
        part.stages.iter().map(|words| words.iter().map(|word| self.place(word)).collect()).collect()
    }

    /// The whole text.
    pub fn text(&self, seen: &str, questions: &[String], answers: &Answers, hinted: &[String]) -> String {
        let model = self.model;
        let mut out = String::new();
        comment(&mut out, seen);
        questions.iter().for_each(|question| comment(&mut out, &format!("to decide: {question}")));
        let left_out: BTreeSet<&String> =
            model.parts.iter().flat_map(|part| &part.sources).flat_map(|source| &source.ways.left_out).collect();
        if !left_out.is_empty() {
            let words: Vec<&str> = left_out.into_iter().map(String::as_str).collect();
            let why = "they change no result, or the builder gives its own";
            comment(&mut out, &format!("left out of compiles: {} ({why})", words.join(" ")));
        }
        out.push_str("format = 1\n\n[tree]\n");
        key(&mut out, "name", &quoted(&model.name));
        match &model.version {
            Some(version) => key(&mut out, "version", &quoted(version)),
            None => out.push_str("version = \"0\"   # to decide: no macro told it\n"),
        }
        key(&mut out, "sources", &quoted(&self.sources));
        out.push_str("\n[toolchain]\n");
        let (c, cxx) = &model.compilers;
        if c != "cc" {
            key(&mut out, "c-compiler", &quoted(c));
        }
        if cxx != "c++" {
            key(&mut out, "cxx-compiler", &quoted(cxx));
        }
        let of_options = if answers.flags == Some(FlagsAnswer::Options) { self.flag_options() } else { vec![] };
        let mut flags: Vec<String> = Vec::new();
        for flag in self.words(&self.chain.flags) {
            match of_options.iter().find(|(own, _)| *own == flag) {
                None => flags.push(quoted(&flag)),
                Some((_, option)) => flags.extend(
                    option
                        .rules
                        .iter()
                        .map(|(when, flag)| format!("{{ when = {}, add = [{}] }}", quoted(when), quoted(flag))),
                ),
            }
        }
        let folders = self.include_words(&self.chain.includes).into_iter().map(|folder| format!("-I{folder}"));
        let defines = self.chain.defines.iter().map(|text| format!("-D{}", literal(text)));
        flags.extend(folders.chain(defines).map(|flag| quoted(&flag)));
        if !flags.is_empty() {
            key(&mut out, "flags", &folded(&flags));
        }
        texts(&mut out, "c-flags", &self.words(&self.chain.c_flags));
        texts(&mut out, "cxx-flags", &self.words(&self.chain.cxx_flags));
        for need in &model.needs {
            self.need(&mut out, need);
        }
        for part in &model.made.generated {
            self.generated(&mut out, part);
        }
        self.parts(&mut out);
        for (_, option) in &of_options {
            let _ = write!(out, "\n[option.{}]\n{}", option.name, option.text);
        }
        for option in hinted {
            out.push('\n');
            out.push_str(option);
        }
        self.delivered(&mut out);
        out
    }

    /// Flags of all compiles for which options stand, each option once.
    fn flag_options(&self) -> Vec<(String, FlagOption)> {
        let mut found: Vec<(String, FlagOption)> = Vec::new();
        for flag in self.words(&self.chain.flags) {
            if let Some(option) =
                option_for(&flag).filter(|option| found.iter().all(|(_, own)| own.name != option.name))
            {
                found.push((flag, option));
            }
        }
        found
    }

    fn parts(&self, out: &mut String) {
        let parts = &self.model.parts;
        let own: Vec<Own> = parts.iter().map(|part| self.own(part)).collect();
        let sets = sets(parts, &own);
        for (own, name) in &sets {
            let _ = writeln!(out, "\n[set.{name}]");
            self.own_keys(out, own);
        }
        let groups = self.alike(&own);
        let grouped: BTreeSet<usize> = groups.iter().flat_map(|group| group.parts.iter().copied()).collect();
        for (at, part) in parts.iter().enumerate() {
            let set = sets.get(&own[at]).map(String::as_str);
            if let Some(group) = groups.iter().find(|group| group.parts[0] == at) {
                self.each(out, group, &own[at], set);
            } else if !grouped.contains(&at) {
                self.part(out, part, &own[at], set);
            }
        }
    }

    fn alike(&self, own: &[Own]) -> Vec<Alike> {
        let generated = self.model.made.generated.iter().map(|part| part.name.as_str()).collect();
        alike(&self.model.parts, own, &generated, &|part| self.installed(part))
    }

    /// Parts that are written as one definition for each file of a pattern: its name, and their sources.
    pub fn members(&self) -> BTreeMap<String, (String, String)> {
        let own: Vec<Own> = self.model.parts.iter().map(|part| self.own(part)).collect();
        let mut members = BTreeMap::new();
        for group in self.alike(&own) {
            for part in group.parts.iter().map(|at| &self.model.parts[*at]) {
                members.insert(part.name.clone(), (group.name.clone(), part.sources[0].path.clone()));
            }
        }
        members
    }

    /// One definition for each file of a pattern.
    fn each(&self, out: &mut String, group: &Alike, own: &Own, set: Option<&str>) {
        let sources =
            group.parts.iter().flat_map(|at| &self.model.parts[*at].sources).map(|source| source.path.clone());
        let patterns = self.files.patterns(&sources.collect(), self.listed);
        let _ = writeln!(out, "\n# seen: {} programs\n[each.{}]", group.parts.len(), group.name);
        texts(out, "files", &patterns.add);
        texts(out, "except", &patterns.except);
        let _ = writeln!(out, "[each.{}.part]\nkind = \"program\"", group.name);
        let first = &self.model.parts[group.parts[0]];
        let output = (group.named_as_source && first.output.is_some()).then(|| "bin/{stem}".to_string());
        let one = DrawnPart { uses: group.uses.clone(), output, ..first.clone() };
        self.rest(out, &one, own, set);
    }

    fn own_keys(&self, out: &mut String, own: &Own) {
        texts(out, "include", &own.include);
        texts(out, "flags", &self.words(&own.flags));
        texts(out, "defines", &own.defines.iter().map(|text| literal(text)).collect::<Vec<_>>());
    }

    fn need(&self, out: &mut String, need: &DrawnNeed) {
        let _ = writeln!(out, "\n[need.{}]", need.name);
        key(out, "summary", &quoted(&format!("the library {}", need.link)));
        key(out, "required", "true");
        if let Some(library) = &need.library {
            key(out, "library", &quoted(library));
        }
        if let Some(header) = &need.header {
            key(out, "header", &quoted(header));
        }
        key(out, "link", &quoted(&need.link));
        if need.is_cxx {
            key(out, "language", "\"c++\"");
        }
        if let Some(package) = &need.package {
            key(out, "packages", &format!("{{ {} = {} }}", self.model.family, quoted(package.as_str())));
        }
    }

    fn generated(&self, out: &mut String, part: &Generated) {
        let _ = writeln!(out, "\n# seen: {}\n[part.{}]\nkind = \"generated\"", part.seen, part.name);
        if part.kept.is_some() {
            let name = part.outputs.first().map_or("", |(name, _)| name.as_str());
            texts(out, "command", &["cp".into(), format!("${{beside:{}}}", kept_place(name)), "${step:output}".into()]);
            key(out, "output", &quoted(name));
            return;
        }
        let mut stages = self.stages(part).into_iter();
        texts(out, "command", &stages.next().unwrap_or_default());
        let more: Vec<String> = stages.map(|words| list(&words)).collect();
        if !more.is_empty() {
            key(out, "pipe", &format!("[{}]", more.join(", ")));
        }
        if let Some(folder) = &part.folder {
            key(out, "folder", &quoted(folder));
        }
        if let Some(files) = &part.scratch {
            let file = |(file, name): &(String, String)| {
                let file = self.place(file);
                if file == *name {
                    quoted(name)
                } else {
                    format!("{{ file = {}, as = {} }}", quoted(&file), quoted(name))
                }
            };
            let files: Vec<String> = files.iter().map(file).collect();
            key(out, "scratch", &folded(&files));
        }
        if let Some(file) = &part.stdin {
            key(out, "stdin", &quoted(file));
        }
        if let Some(file) = &part.stdout {
            key(out, "stdout", &quoted(file));
        }
        texts(out, "reads", &part.reads);
        let outputs: Vec<String> = part
            .outputs
            .iter()
            .map(|(name, left)| match left {
                None => quoted(name),
                Some(left) => format!("{{ file = {}, left = {} }}", quoted(name), quoted(left)),
            })
            .collect();
        if !outputs.is_empty() {
            key(out, "output", &folded(&outputs));
        }
        texts(out, "uses", &part.uses);
        let is_its = |path: &&String| self.model.made.part_of(path) == Some(part.name.as_str());
        let results = &self.model.delivered.results;
        if let Some((path, places)) = results.iter().find(|(path, _)| is_its(path)) {
            key(out, "install", &quoted(&format!("${{prefix}}/{}", places[0].folder)));
            if places[0].name != base_name(self.model.made.name_of(path)) {
                key(out, "install-as", &quoted(&places[0].name));
            }
            if places[0].executable {
                key(out, "mode", "\"755\"");
            }
        }
        if let Some(code) = part.success {
            key(out, "success", &format!("[0, {code}]"));
        }
    }

    /// A word in which files of the watched build are named by the parts that make them.
    fn place(&self, word: &str) -> String {
        with_parts(word, &|file| self.products.get(file).cloned().unwrap_or_default())
    }

    fn part(&self, out: &mut String, part: &DrawnPart, own: &Own, set: Option<&str>) {
        out.push('\n');
        if let Some(file) = &part.file {
            let from_tree = relative_to(Path::new(&self.tree), Path::new(&file.path));
            comment(out, &format!("seen: {from_tree}"));
        }
        let _ = writeln!(out, "[part.{}]\nkind = {}", part.name, quoted(part.form.word()));
        self.sources(out, part, own);
        self.rest(out, part, own, set);
    }

    /// All that a part says beyond what it is and its sources.
    fn rest(&self, out: &mut String, part: &DrawnPart, own: &Own, set: Option<&str>) {
        match set {
            Some(set) => texts(out, "sets", &[set.to_string()]),
            None => self.own_keys(out, own),
        }
        self.anywhere(out, part);
        texts(out, "uses", &part.uses);
        texts(out, "link-flags", &self.link_flags(part));
        texts(out, "libraries", &part.libraries);
        texts(out, "needs", &part.needs);
        if let Some(output) = &part.output {
            key(out, "output", &quoted(output));
        }
        if let Some(abi) = &part.abi {
            key(out, "abi", &quoted(abi));
        }
        self.install(out, part);
    }

    fn anywhere(&self, out: &mut String, part: &DrawnPart) {
        let some = part.sources.iter().any(|source| source.ways.anywhere);
        let usual = part.into_shared;
        if !part.sources.is_empty() && some != usual && part.form != PartForm::Partial {
            key(out, "position-independent", if some { "true" } else { "false" });
        }
    }

    /// What all sources of a part have in common, beyond what all of the tree have.
    fn own(&self, part: &DrawnPart) -> Own {
        let sources = || part.sources.iter();
        let includes: Vec<Vec<String>> = sources().map(|source| self.includes(source)).collect();
        let flags: Vec<Vec<Vec<String>>> = sources().map(|source| self.flags(source)).collect();
        let defines: Vec<Vec<String>> = sources().map(|source| self.defines(source)).collect();
        let same = includes.windows(2).all(|pair| pair[0] == pair[1]);
        Own {
            include: if same { includes.first().cloned().unwrap_or_default() } else { common(includes.iter()) },
            flags: common(flags.iter()),
            defines: common(defines.iter()),
        }
    }

    /// Folders for headers as `include` names them: those of the tree.
    fn includes(&self, source: &DrawnSource) -> Vec<String> {
        if self.chain.includes.is_empty() { self.include_words(&source.ways.includes) } else { vec![] }
    }

    fn include_words(&self, places: &[(String, String)]) -> Vec<String> {
        let mut folders: Vec<String> = Vec::new();
        for (_, folder) in places.iter().filter(|(flag, _)| flag == "-I") {
            let found = match self.model.made.copied_from(folder) {
                Some(from) => from.iter().cloned().collect(),
                None if self.model.made.is_made_folder(folder) && !self.holds_sources(folder) => vec![],
                None => self.in_tree(folder).into_iter().collect(),
            };
            folders.extend(found.into_iter().map(|folder| if folder.is_empty() { ".".into() } else { folder }));
        }
        let mut seen = BTreeSet::new();
        folders.retain(|folder| seen.insert(folder.clone()));
        folders
    }

    fn in_tree(&self, folder: &str) -> Option<String> {
        if folder == self.tree {
            return Some(String::new());
        }
        below(folder, &self.tree).map(str::to_string)
    }

    fn holds_sources(&self, folder: &str) -> bool {
        self.in_tree(folder).is_some_and(|folder| self.files.has_folder(&folder))
    }

    /// Flags beyond those that all have, with folders for headers that are no part of the tree.
    fn flags(&self, source: &DrawnSource) -> Vec<Vec<String>> {
        let of_language = if source.is_cxx { &self.chain.cxx_flags } else { &self.chain.c_flags };
        let shared = |words: &&Vec<String>| self.chain.flags.contains(words) || of_language.contains(words);
        let mut flags: Vec<Vec<String>> = source.ways.flags.iter().filter(|words| !shared(words)).cloned().collect();
        for (flag, folder) in &source.ways.includes {
            let elsewhere = self.in_tree(folder).is_none() && !self.model.made.is_made_folder(folder);
            if self.model.made.copied_from(folder).is_none() && (flag != "-I" || elsewhere) {
                let folder = self.in_tree(folder).map_or(folder.clone(), |f| if f.is_empty() { ".".into() } else { f });
                flags.push(if flag == "-I" { vec![format!("-I{folder}")] } else { vec![flag.clone(), folder] });
            }
        }
        flags.extend(source.ways.undefined.iter().map(|name| vec![format!("-U{name}")]));
        flags
    }

    fn defines(&self, source: &DrawnSource) -> Vec<String> {
        let own = |text: &&String| !self.chain.defines.contains(text);
        source.ways.defines.values().filter(own).cloned().collect()
    }

    fn sources(&self, out: &mut String, part: &DrawnPart, own: &Own) {
        let mut groups: BTreeMap<Vec<String>, (BTreeSet<String>, Vec<String>)> = BTreeMap::new();
        for source in &part.sources {
            let mut rest: Vec<String> =
                self.flags(source).into_iter().filter(|words| !own.flags.contains(words)).flatten().collect();
            let defines = self.defines(source).into_iter().filter(|text| !own.defines.contains(text));
            rest.extend(defines.map(|text| format!("-D{}", literal(&text))));
            let folders = self.includes(source).into_iter().filter(|folder| !own.include.contains(folder));
            rest.extend(folders.map(|folder| format!("-I{folder}")));
            let rest: Vec<String> = rest.iter().map(|word| self.below_tree(word)).collect();
            let (files, made) = groups.entry(rest).or_default();
            if source.generated {
                made.push(source.path.clone());
            } else {
                files.insert(source.path.clone());
            }
        }
        let mut rules: Vec<String> = Vec::new();
        let mut except: Vec<String> = Vec::new();
        let alone = groups.len() == 1;
        for (flags, (files, made)) in &groups {
            let patterns = self.files.patterns(files, self.listed);
            let (add, left_out) = if alone || patterns.except.is_empty() {
                (patterns.add, patterns.except)
            } else {
                (files.iter().cloned().collect(), vec![])
            };
            except.extend(left_out);
            let with_flags = if flags.is_empty() { String::new() } else { format!(", flags = {}", list(flags)) };
            match flags.is_empty() {
                true => rules.extend(add.iter().map(|pattern| quoted(pattern))),
                false if !add.is_empty() => rules.push(format!("{{ add = {}{with_flags} }}", list(&add))),
                false => {}
            }
            if !made.is_empty() {
                rules.push(format!("{{ made = {}{with_flags} }}", list(made)));
            }
        }
        if !rules.is_empty() {
            key(out, "sources", &folded(&rules));
        }
        texts(out, "except", &except);
    }

    fn words(&self, flags: &[Vec<String>]) -> Vec<String> {
        flags.iter().flatten().map(|word| self.below_tree(&literal(word))).collect()
    }

    /// A word in which the place of the tree is left out: commands run there.
    fn below_tree(&self, word: &str) -> String {
        word.replace(&format!("{}/", self.tree), "")
    }
}

/// Where a text that is kept lies, beside the description.
pub(super) fn kept_place(name: &str) -> String {
    format!("kept/{name}")
}
