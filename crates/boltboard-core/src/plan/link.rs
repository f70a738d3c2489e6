//! Links and archives.

use std::collections::BTreeSet;

use super::fill::main_output;
use super::lower::{Lower, PlanInput, source_path};
use crate::base::RelPath;
use crate::board::{Ending, Generator, LinkWay, Linkage, ListItem, Machine, Making, PartDef, PartId, PartKind};
use crate::step::{Archive, Fragment, Kind, Link, Location, StepId, Symlink, Tool, ToolPlace, Word};
use crate::survey::{Fact, Language};

/// What a link is made of, in the order of the command line.
#[derive(Default)]
struct LinkInputs {
    objects: Vec<Location>,
    archives: Vec<(PartId, Location)>,
    shared: Vec<Location>,
    flags: Vec<Word>,
    languages: BTreeSet<Language>,
}

impl Lower<'_> {
    /// Plans the archive or link of a part; returns its outputs.
    pub(super) fn link(&mut self, id: PartId, part: &PartDef, ending: Ending) -> Vec<Location> {
        let output = main_output(part);
        if ending == Ending::Archive {
            return self.archive(id, part, output);
        }
        let inputs = self.link_inputs(id, part);
        let chain = self.input.board.toolchains.of(part.machine);
        let mut words = self.input.sysroot_words(part.machine);
        words.extend(self.input.chain_words(self.input.held(&chain.link_flags)));
        words.extend(ending.words().iter().map(|word| Word::text(*word)));
        let modules = self.input.modules_of(part);
        words.extend(
            modules.into_iter().flat_map(|modules| self.input.plain_words(part, self.input.held(&modules.link_flags))),
        );
        if part.kind.is_shared_library() {
            words.push(Word::text(format!("-Wl,-soname,{}", source_path(&output).name())));
        }
        words.extend(self.input.plain_words(part, self.input.held(&part.link_flags)));
        words.extend([Word::text("-o"), Word::result(0)]);
        words.extend(inputs.objects.iter().cloned().map(Word::place));
        words.extend(archive_words(&inputs.archives, part));
        words.extend(inputs.shared.iter().cloned().map(Word::place));
        words.extend(self.run_paths(&output, &inputs.shared));
        if ending != Ending::Partial {
            words.extend(inputs.flags);
        }
        let fortran = inputs.languages.iter().any(|language| language.is_fortran());
        let cxx = inputs.languages.contains(&Language::Cxx);
        let driver = match (fortran, cxx) {
            (true, _) => Language::Fortran,
            (false, true) => Language::Cxx,
            (false, false) => Language::C,
        };
        // The compiler of the one language brings its own libraries, and not those of the other.
        words.extend((fortran && cxx && ending != Ending::Partial).then(|| Word::text("-lstdc++")));
        let interfaces = inputs.shared.clone();
        let mut reads: Vec<Location> =
            [inputs.objects, inputs.archives.into_iter().map(|(_, at)| at).collect(), inputs.shared].concat();
        let more = modules.into_iter().flat_map(|modules| &modules.link_reads);
        reads.extend(part.link_reads.iter().chain(more).cloned().map(Location::Tree));
        reads.extend(words.iter().filter_map(Word::made_file).filter(|file| self.made_by.contains_key(file)));
        let tool = self.compiler_for(part.machine, driver, &words);
        let kind = Kind::Link(Box::new(Link::new(tool, words, interfaces)));
        let linked = self.add(Some(id), part.place, kind, reads, vec![output.clone()], None);
        let outputs = linked_files(part);
        self.further_names(id, part, &outputs, linked);
        outputs
    }

    /// Plans the further names of a part's file, the first of its outputs, which `made` makes.
    pub(super) fn further_names(&mut self, id: PartId, part: &PartDef, outputs: &[Location], made: Option<StepId>) {
        let Some((file, names)) = outputs.split_first() else { return };
        for name in names {
            let kind = Kind::Symlink(Symlink { target: source_path(file).name().to_string() });
            let named = self.add(Some(id), part.place, kind, vec![], vec![name.clone()], None);
            if let (Some(named), Some(made)) = (named, made) {
                self.plan.steps[named].after = [made].into();
            }
        }
    }

    fn archive(&mut self, id: PartId, part: &PartDef, output: Location) -> Vec<Location> {
        let mut objects = self.objects.get(&id).map_or(vec![], |objects| objects.files.clone());
        for used in self.used.direct(id) {
            let other = &self.input.board.parts[*used];
            match other.kind.ending() {
                Some(Ending::Loose) => objects.extend(self.objects.get(used).map_or(vec![], |all| all.files.clone())),
                Some(Ending::Partial) if other.kind.is_taken_in() => objects.push(main_output(other)),
                _ => {}
            }
        }
        let tool = self.archiver(part.machine);
        // `q` keeps members of equal names from different folders apart; `D` leaves out times and owners.
        let mut words = vec![Word::text("qcDs"), Word::result(0)];
        words.extend(objects.iter().cloned().map(Word::place));
        let kind = Kind::Archive(Box::new(Archive::new(tool, words)));
        self.add(Some(id), part.place, kind, objects, vec![output.clone()], None);
        vec![output]
    }

    /// The archiver that goes with the compiler: that of its target for a cross compiler (`aarch64-linux-gnu-ar`).
    fn archiver(&mut self, machine: Machine) -> Tool {
        let compiler = self.compiler(machine, Language::C).name;
        let prefix =
            ["-gcc", "-cc", "-clang"].iter().find_map(|part| compiler.split_once(part)).map(|(prefix, _)| prefix);
        let own = prefix.map(|prefix| self.host_tool(&format!("{prefix}-ar")));
        let there = own.filter(|tool| !matches!(tool.place, ToolPlace::Absent(_)));
        there.unwrap_or_else(|| self.host_tool("ar"))
    }

    pub(super) fn host_tool(&mut self, name: &str) -> Tool {
        if let Some(known) = self.tools.get(name) {
            return known.clone();
        }
        let place = match self.input.tools.program(name) {
            Some((path, identity)) => ToolPlace::Host { path, identity },
            None => ToolPlace::Absent(format!("there is no `{name}` in the search path")),
        };
        let tool = Tool { name: name.to_string(), place };
        self.tools.insert(name.to_string(), tool.clone());
        tool
    }

    fn link_inputs(&self, id: PartId, part: &PartDef) -> LinkInputs {
        let mut inputs = LinkInputs::default();
        self.take_objects(id, &mut inputs);
        let lists = self.input.held(&part.lists);
        lists.into_iter().for_each(|list| self.take_list(*list, &mut inputs));
        self.take_flags(part, &mut inputs);
        let mut roots = vec![id];
        if part.kind.ending() == Some(Ending::Program) {
            roots.extend(self.input.builtin_modules(id));
        }
        for module in &roots[1..] {
            self.take_objects(*module, &mut inputs);
            self.take_flags(&self.input.board.parts[*module], &mut inputs);
        }
        for used in self.used.linked(self.input, &roots) {
            let other = &self.input.board.parts[used];
            match other.kind.ending() {
                // A module is nobody's library, and a list is what its owner is made of.
                _ if other.kind.module().is_some() || other.kind.list().is_some() => {}
                Some(Ending::Loose) => {
                    self.take_objects(used, &mut inputs);
                    self.take_flags(other, &mut inputs);
                }
                Some(Ending::Archive) => {
                    inputs.archives.push((used, main_output(other)));
                    inputs.languages.extend(self.languages_of(used));
                    self.take_flags(other, &mut inputs);
                }
                Some(Ending::Partial) => {
                    inputs.objects.push(main_output(other));
                    inputs.languages.extend(self.languages_of(used));
                    self.take_flags(other, &mut inputs);
                }
                Some(Ending::Shared) => inputs.shared.push(main_output(other)),
                Some(Ending::Program) | None => {}
            }
        }
        inputs
    }

    pub(super) fn languages_of(&self, part: PartId) -> BTreeSet<Language> {
        self.objects.get(&part).map_or_else(BTreeSet::new, |objects| objects.languages.clone())
    }

    fn take_objects(&self, part: PartId, inputs: &mut LinkInputs) {
        if let Some(objects) = self.objects.get(&part) {
            inputs.objects.extend(objects.files.clone());
            inputs.languages.extend(objects.languages.iter().copied());
        }
    }

    /// Takes what a list gives, in its order.
    fn take_list(&self, id: PartId, inputs: &mut LinkInputs) {
        let part = &self.input.board.parts[id];
        if !self.input.is_made(part) {
            return;
        }
        match &part.kind {
            PartKind::List(list) => {
                for item in &list.items {
                    match item {
                        ListItem::Part(part) => self.take_list(*part, inputs),
                        ListItem::Sources(rule) => self.take_objects_of(id, *rule, inputs),
                    }
                }
            }
            _ if self.input.linkage(part) == Linkage::Builtin => self.take_objects(id, inputs),
            _ => return,
        }
        self.take_flags(part, inputs);
    }

    /// Takes the objects that one rule of a part brought.
    fn take_objects_of(&self, part: PartId, rule: usize, inputs: &mut LinkInputs) {
        if let Some(objects) = self.objects.get(&part) {
            let files = objects.files.iter().zip(&objects.rules).filter(|(_, brought)| **brought == rule);
            inputs.objects.extend(files.map(|(file, _)| file.clone()));
            inputs.languages.extend(objects.languages.iter().copied());
        }
    }

    fn take_flags(&self, part: &PartDef, inputs: &mut LinkInputs) {
        for need in self.input.held(&part.needs) {
            for found in self.input.facts.meeting(*need).into_iter().filter_map(Fact::found) {
                inputs.flags.extend(found.link_flags.iter().map(Word::text));
            }
        }
        let libraries = self.input.plain_words(part, self.input.held(&part.libraries));
        inputs.flags.extend(libraries.into_iter().map(|word| Word::text(format!("-l{}", word.neutral(&[])))));
    }

    /// Lets a program find the tree's shared libraries relative to itself.
    fn run_paths(&self, output: &Location, shared: &[Location]) -> Vec<Word> {
        let from = source_path(output).parent();
        let mut paths: Vec<String> = Vec::new();
        for library in shared {
            let path = format!("$ORIGIN/{}", relative(&from, &source_path(library).parent()));
            if !paths.contains(&path) {
                paths.push(path);
            }
        }
        paths.into_iter().map(|path| Word::text(format!("-Wl,-rpath,{path}"))).collect()
    }
}

/// The words for archives: those that need each other are searched again and again, and of some all objects are taken.
fn archive_words(archives: &[(PartId, Location)], part: &PartDef) -> Vec<Word> {
    let way = |id: PartId| part.link_ways.iter().find(|(of, _)| *of == id).map(|(_, way)| *way);
    let mut words = Vec::new();
    let mut done: Vec<usize> = Vec::new();
    for (id, archive) in archives {
        match way(*id) {
            None => words.push(Word::place(archive.clone())),
            Some(LinkWay::Whole) => {
                words.push(Word::text("-Wl,--whole-archive"));
                words.push(Word::place(archive.clone()));
                words.push(Word::text("-Wl,--no-whole-archive"));
            }
            Some(LinkWay::Together(group)) if !done.contains(&group) => {
                done.push(group);
                words.push(Word::text("-Wl,--start-group"));
                let others = archives.iter().filter(|(id, _)| way(*id) == Some(LinkWay::Together(group)));
                words.extend(others.map(|(_, archive)| Word::place(archive.clone())));
                words.push(Word::text("-Wl,--end-group"));
            }
            // It came with the first of them.
            Some(LinkWay::Together(_)) => {}
        }
    }
    words
}

/// Returns what a link or archive makes: the file, a second name for a shared library with a version, and its further names.
pub(super) fn linked_files(part: &PartDef) -> Vec<Location> {
    let (file, name) = (main_output(part), Location::Output(part.output.clone()));
    let mut files = if file == name { vec![file] } else { vec![file, name] };
    let folder = part.output.parent();
    files.extend(part.further_names.iter().map(|name| Location::Output(folder.child(name))));
    files
}

impl PlanInput<'_> {
    /// Returns the files that a part ends in whenever it is made; none for data, which follow from its sources.
    pub(crate) fn files_of(&self, part: &PartDef) -> Vec<Location> {
        match part.kind.making() {
            Making::Generated => self.generated_files(part),
            Making::OfObjects(ending) if ending.is_file() => linked_files(part),
            Making::OfObjects(_) | Making::Copied => vec![],
        }
    }

    /// Returns what a generated part makes.
    pub(super) fn generated_files(&self, part: &PartDef) -> Vec<Location> {
        match part.kind.generator() {
            Some(Generator::Kit(kit)) => self.kit_places(part, kit),
            Some(generator) => generator.makes().into_iter().cloned().map(Location::Made).collect(),
            None => vec![main_output(part)],
        }
    }
}

/// Files (not folders) that a word names.
pub(super) fn files_of(word: &Word) -> impl Iterator<Item = Location> {
    word.fragments.iter().filter_map(|fragment| match fragment {
        Fragment::At(at) if !source_path(at).as_str().is_empty() => Some(at.clone()),
        Fragment::At(_) | Fragment::Text(_) | Fragment::Result(_) => None,
    })
}

fn relative(from: &RelPath, to: &RelPath) -> String {
    let parts = |path: &RelPath| -> Vec<String> {
        path.as_str().split('/').filter(|p| !p.is_empty()).map(str::to_string).collect()
    };
    let (from, to) = (parts(from), parts(to));
    let shared = from.iter().zip(&to).take_while(|(a, b)| a == b).count();
    let up = std::iter::repeat_n("..".to_string(), from.len() - shared);
    let path: Vec<String> = up.chain(to[shared..].iter().cloned()).collect();
    if path.is_empty() { ".".into() } else { path.join("/") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn run_paths_lead_from_program_to_library() {
        for (from, to, want) in
            [("bin", "lib", "../lib"), ("bin", "bin", "."), ("lib/skerry", "lib", ".."), ("", "lib", "lib")]
        {
            let (from, to) = (RelPath::parse(from).unwrap(), RelPath::parse(to).unwrap());
            assert_eq!(relative(&from, &to), want);
        }
    }
}
