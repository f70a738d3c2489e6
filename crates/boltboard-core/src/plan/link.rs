//! Links, archives, and steps of generators.

use std::sync::Arc;

use super::fill::main_output;
use super::lower::{Lower, PlanInput, source_path};
use crate::base::RelPath;
use crate::board::{Generator, PartDef, PartId, PartKind, Variable};
use crate::step::{Archive, Fragment, Generate, Kind, Link, Location, Symlink, Tool, ToolPlace, Word, Write};
use crate::survey::{EPOCH_VARIABLE, Fact, Language};

/// The variable that says where programs are looked for.
const SEARCH_PATH: &str = "PATH";

/// What a link is made of, in the order of the command line.
#[derive(Default)]
struct LinkInputs {
    objects: Vec<Location>,
    archives: Vec<Location>,
    shared: Vec<Location>,
    flags: Vec<Word>,
    cxx: bool,
}

impl Lower<'_> {
    /// Plans the archive or link of a part; returns its outputs.
    pub(super) fn link(&mut self, id: PartId, part: &PartDef) -> Vec<Location> {
        let output = main_output(part);
        if matches!(part.kind, PartKind::StaticLibrary) {
            return self.archive(id, part, output);
        }
        let inputs = self.link_inputs(id, part);
        let chain = &self.input.board.toolchain;
        let mut words = self.input.sysroot_words();
        words.extend(self.input.plain_words(self.input.held(&chain.link_flags)));
        if let PartKind::SharedLibrary { .. } | PartKind::Module(_) = &part.kind {
            words.push(Word::text("-shared"));
        }
        if let PartKind::SharedLibrary { .. } = &part.kind {
            words.push(Word::text(format!("-Wl,-soname,{}", source_path(&output).name())));
        }
        words.extend(self.input.plain_words(self.input.held(&part.link_flags)));
        words.extend([Word::text("-o"), Word::result(0)]);
        words.extend(inputs.objects.iter().chain(&inputs.archives).chain(&inputs.shared).cloned().map(Word::place));
        words.extend(self.run_paths(&output, &inputs.shared));
        words.extend(inputs.flags);
        let interfaces = inputs.shared.clone();
        let mut reads: Vec<Location> = [inputs.objects, inputs.archives, inputs.shared].concat();
        reads.extend(part.link_reads.iter().cloned().map(Location::Tree));
        reads.extend(words.iter().filter_map(Word::made_file).filter(|file| self.made_by.contains_key(file)));
        let tool = self.compiler_for(if inputs.cxx { Language::Cxx } else { Language::C }, &words);
        let kind = Kind::Link(Box::new(Link::new(tool, words, interfaces)));
        let linked = self.add(Some(id), part.place, kind, reads, vec![output.clone()], None);
        let outputs = linked_files(part);
        if let Some(name) = outputs.get(1) {
            let target = source_path(&output).name().to_string();
            let kind = Kind::Symlink(Symlink { target });
            let named = self.add(Some(id), part.place, kind, vec![], vec![name.clone()], None);
            if let (Some(named), Some(linked)) = (named, linked) {
                self.plan.steps[named].after = [linked].into();
            }
        }
        outputs
    }

    fn archive(&mut self, id: PartId, part: &PartDef, output: Location) -> Vec<Location> {
        let mut objects = self.objects.get(&id).map_or(vec![], |(objects, _)| objects.clone());
        for used in self.used.direct(id) {
            if let PartKind::Objects = self.input.board.parts[*used].kind {
                objects.extend(self.objects.get(used).map_or(vec![], |(objects, _)| objects.clone()));
            }
        }
        let tool = self.archiver();
        // `q` keeps members of equal names from different folders apart; `D` leaves out times and owners.
        let mut words = vec![Word::text("qcDs"), Word::result(0)];
        words.extend(objects.iter().cloned().map(Word::place));
        let kind = Kind::Archive(Box::new(Archive::new(tool, words)));
        self.add(Some(id), part.place, kind, objects, vec![output.clone()], None);
        vec![output]
    }

    /// The archiver that goes with the compiler: that of its target for a cross compiler (`aarch64-linux-gnu-ar`).
    fn archiver(&mut self) -> Tool {
        let compiler = self.compiler(Language::C).name;
        let prefix =
            ["-gcc", "-cc", "-clang"].iter().find_map(|part| compiler.split_once(part)).map(|(prefix, _)| prefix);
        let own = prefix.map(|prefix| self.host_tool(&format!("{prefix}-ar")));
        let there = own.filter(|tool| !matches!(tool.place, ToolPlace::Absent(_)));
        there.unwrap_or_else(|| self.host_tool("ar"))
    }

    fn host_tool(&mut self, name: &str) -> Tool {
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
        self.take_flags(part, &mut inputs);
        let mut roots = vec![id];
        if matches!(part.kind, PartKind::Program) {
            roots.extend(self.input.builtin_modules(id));
        }
        for module in &roots[1..] {
            self.take_objects(*module, &mut inputs);
            self.take_flags(&self.input.board.parts[*module], &mut inputs);
        }
        for used in self.used.linked(self.input, &roots) {
            let other = &self.input.board.parts[used];
            match &other.kind {
                PartKind::Objects => {
                    self.take_objects(used, &mut inputs);
                    self.take_flags(other, &mut inputs);
                }
                PartKind::StaticLibrary => {
                    inputs.archives.push(main_output(other));
                    inputs.cxx |= self.objects.get(&used).is_some_and(|(_, cxx)| *cxx);
                    self.take_flags(other, &mut inputs);
                }
                PartKind::SharedLibrary { .. } => inputs.shared.push(main_output(other)),
                PartKind::Program | PartKind::Module(_) | PartKind::Generated(_) | PartKind::Data => {}
            }
        }
        inputs
    }

    fn take_objects(&self, part: PartId, inputs: &mut LinkInputs) {
        if let Some((objects, cxx)) = self.objects.get(&part) {
            inputs.objects.extend(objects.clone());
            inputs.cxx |= cxx;
        }
    }

    fn take_flags(&self, part: &PartDef, inputs: &mut LinkInputs) {
        for need in self.input.held(&part.needs) {
            for found in self.input.facts.meeting(*need).into_iter().filter_map(Fact::found) {
                inputs.flags.extend(found.link_flags.iter().map(Word::text));
            }
        }
        let libraries = self.input.plain_words(self.input.held(&part.libraries));
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

    /// Plans a generated part; returns its files.
    pub(super) fn generate(&mut self, id: PartId, part: &PartDef, generator: &Generator) -> Vec<Location> {
        match generator {
            Generator::Template { from, mark, to } => match self.input.template(from, *mark) {
                Ok(content) => self.write(id, part, content, to),
                Err(fault) => {
                    self.problem(Some(part.place), fault);
                    vec![]
                }
            },
            Generator::ModuleTable(table) => {
                let content = self.input.module_table(table);
                self.write(id, part, content, &table.to)
            }
            Generator::Command { command, work_folder, reads, writes, environment, success } => {
                let listing = self.input.listing;
                let mut files: Vec<RelPath> = reads.iter().flat_map(|glob| listing.matching(glob)).cloned().collect();
                files.sort();
                files.dedup();
                let mut reads: Vec<Location> = files.into_iter().map(Location::Tree).collect();
                let writes: Vec<Location> = writes.iter().cloned().map(Location::Made).collect();
                let mut words: Vec<Word> =
                    command.iter().flat_map(|interp| self.input.words(interp, &reads, &writes)).collect();
                if words.is_empty() {
                    return vec![];
                }
                let tool = self.generator_tool(words.remove(0));
                let outputs = |used: &PartId| self.plan.parts.get(used).cloned().unwrap_or_default();
                reads.extend(self.used.direct(id).iter().flat_map(outputs));
                for word in &words {
                    reads.extend(files_of(word).filter(|at| !reads.contains(at)).collect::<Vec<_>>());
                }
                if let ToolPlace::Made(at) = &tool.place {
                    reads.push(at.clone());
                }
                let epoch = self.input.tools.epoch;
                // What a generator makes of the time, or of where programs are looked for, cannot be told.
                let time = || (EPOCH_VARIABLE.to_string(), vec![Word::text(epoch.to_string())]);
                let mut variables: Vec<(String, Vec<Word>)> = Vec::from_iter((!epoch.is_start()).then(time));
                variables.push((SEARCH_PATH.to_string(), vec![Word::text(&self.input.tools.search_path)]));
                for (name, value) in environment {
                    let words = match value {
                        Variable::Set(value) => Some(self.input.words(value, &[], &writes)),
                        Variable::Passed => {
                            self.plan.variables.insert(name.clone());
                            self.input.tools.variables.get(name).map(|value| vec![Word::text(value)])
                        }
                    };
                    variables.extend(words.map(|words| (name.clone(), words)));
                }
                let folder = Location::Tree(work_folder.clone());
                let success = success.clone();
                let kind = Kind::Generate(Box::new(Generate { tool, words, folder, environment: variables, success }));
                let step = self.add(Some(id), part.place, kind, reads, writes.clone(), part.when.clone().map(Arc::new));
                if let Some(step) = step {
                    // It may read option headers, and they cost nothing to wait for.
                    self.plan.steps[step].after = self.header_steps.clone().into();
                }
                writes
            }
        }
    }

    fn write(&mut self, id: PartId, part: &PartDef, content: String, to: &RelPath) -> Vec<Location> {
        let file = Location::Made(to.clone());
        self.add(Some(id), part.place, Kind::Write(Write { content }), vec![], vec![file.clone()], None);
        vec![file]
    }

    fn generator_tool(&mut self, word: Word) -> Tool {
        let name = word.neutral(&[]);
        match files_of(&word).next() {
            Some(at @ (Location::Output(_) | Location::Made(_) | Location::Tree(_))) => {
                Tool { name, place: ToolPlace::Made(at) }
            }
            _ => self.host_tool(&name),
        }
    }
}

/// Returns what a link or archive makes: the file, and a second name for a shared library with a version.
pub(super) fn linked_files(part: &PartDef) -> Vec<Location> {
    let (file, name) = (main_output(part), Location::Output(part.output.clone()));
    if file == name { vec![file] } else { vec![file, name] }
}

impl PlanInput<'_> {
    /// Returns the files that a part ends in whenever it is made; none for data, which follow from its sources.
    pub(crate) fn files_of(&self, part: &PartDef) -> Vec<Location> {
        match &part.kind {
            PartKind::Generated(_) => self.generated_files(part),
            PartKind::Objects | PartKind::Data => vec![],
            PartKind::Program | PartKind::StaticLibrary | PartKind::SharedLibrary { .. } | PartKind::Module(_) => {
                linked_files(part)
            }
        }
    }

    /// Returns what a generated part makes.
    pub(super) fn generated_files(&self, part: &PartDef) -> Vec<Location> {
        match &part.kind {
            PartKind::Generated(Generator::Command { writes, .. }) => {
                writes.iter().cloned().map(Location::Made).collect()
            }
            _ => vec![main_output(part)],
        }
    }
}

/// Files (not folders) that a word names.
fn files_of(word: &Word) -> impl Iterator<Item = Location> {
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
