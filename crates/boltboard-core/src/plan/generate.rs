//! Steps of generated parts.

use std::sync::Arc;

use super::compile::SourceFlags;
use super::fault::PlanFault;
use super::fill::Fill;
use super::link::files_of;
use super::lower::Lower;
use super::service::service_text;
use crate::base::RelPath;
use crate::board::{
    CommandDef, Generator, Interp, PartDef, PartId, Phase, SourceFile, Variable, WorkPlace, WrittenFrom,
};
use crate::definitions::made_at;
use crate::step::{Compile, Copy, Form, Generate, Kind, Location, RunFolder, Stage, Tool, ToolPlace, Word, Write};
use crate::survey::{EPOCH_VARIABLE, Language};

/// The variable that says where programs are looked for.
const SEARCH_PATH: &str = "PATH";

impl Lower<'_> {
    /// Plans a generated part; returns its files.
    pub(super) fn generate(&mut self, id: PartId, part: &PartDef, generator: &Generator) -> Vec<Location> {
        match generator {
            Generator::Template { from, mark, to } => match self.input.template(part, from, *mark) {
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
            Generator::Record(header) => {
                let content = self.input.record_header(header);
                self.write(id, part, content, &header.to)
            }
            Generator::Metadata { of, to } => match self.input.metadata(of) {
                Ok(content) => self.write(id, part, content, to),
                Err(fault) => {
                    self.problem(Some(of.place), fault);
                    vec![]
                }
            },
            Generator::Service { service, file, to } => match self.input.service(service) {
                Ok(now) => self.write(id, part, service_text(&self.input.board.tree, service, &now, *file), to),
                Err(what) => {
                    self.problem(Some(service.place), PlanFault::Service { service: service.name.clone(), what });
                    vec![]
                }
            },
            Generator::Kit(kit) => self.kit(id, part, kit),
            Generator::Given { files } => {
                for file in files {
                    let (from, to) = (Location::Tree(made_at(file)), Location::Made(file.clone()));
                    self.add(Some(id), part.place, Kind::Copy(Copy::default()), vec![from], vec![to], None);
                }
                self.input.generated_files(part)
            }
            Generator::Phase { from, until, to } => self.phase(id, part, from, *until, to),
            Generator::Command(command) => self.commands(id, part, command),
        }
    }

    fn commands(&mut self, id: PartId, part: &PartDef, command: &CommandDef) -> Vec<Location> {
        let listing = self.input.listing;
        let mut files: Vec<RelPath> = command.reads.iter().flat_map(|glob| listing.matching(glob)).cloned().collect();
        files.sort();
        files.dedup();
        let mut reads: Vec<Location> = files.into_iter().map(Location::Tree).collect();
        let input = command.input.as_ref().map(|file| self.at(part, file));
        let folder = match &command.work_place {
            WorkPlace::Folder(folder) => RunFolder::At(Location::Tree(folder.clone())),
            WorkPlace::Scratch(files) => {
                RunFolder::Scratch(files.iter().map(|(name, file)| (name.clone(), self.at(part, file))).collect())
            }
        };
        let writes: Vec<Location> = command.writes.iter().map(|written| Location::Made(written.to.clone())).collect();
        let fill = Fill { reads: &reads, writes: writes.len(), part: Some(part), source: None };
        let mut stages = Vec::new();
        for stage in &command.stages {
            let held: Vec<&Interp> = self.input.held(stage);
            let mut words: Vec<Word> = held.into_iter().flat_map(|interp| self.input.words(interp, fill)).collect();
            if words.is_empty() {
                self.problem(Some(part.place), PlanFault::NoCommand(part.name.clone()));
                return vec![];
            }
            let tool = self.generator_tool(words.remove(0));
            stages.push(Stage { tool, words });
        }
        let environment = self.environment(part, &command.environment, writes.len());
        let outputs = |used: &PartId| self.plan.parts.get(used).cloned().unwrap_or_default();
        let mut named: Vec<Location> = self.used.direct(id).iter().flat_map(outputs).collect();
        named.extend(stages.iter().flat_map(|stage| stage.words.iter().flat_map(files_of)));
        named.extend(input.clone());
        if let RunFolder::Scratch(files) = &folder {
            named.extend(files.iter().map(|(_, file)| file.clone()));
        }
        named.extend(stages.iter().filter_map(|stage| match &stage.tool.place {
            ToolPlace::Made(at) => Some(at.clone()),
            ToolPlace::Host { .. } | ToolPlace::Absent(_) => None,
        }));
        for at in named {
            if !reads.contains(&at) {
                reads.push(at);
            }
        }
        let output = command.writes.iter().position(|written| written.from == WrittenFrom::Output);
        let left = command.writes.iter().zip(&writes).filter_map(|(written, at)| match &written.from {
            WrittenFrom::Left(name) => Some((at.clone(), name.clone())),
            WrittenFrom::Told | WrittenFrom::Output => None,
        });
        let generate = Generate {
            stages,
            folder,
            environment,
            success: command.success.clone(),
            input,
            output,
            left: left.collect(),
            reads: command.reads.clone(),
        };
        let kind = Kind::Generate(Box::new(generate));
        let step = self.add(Some(id), part.place, kind, reads, writes.clone(), part.when.clone().map(Arc::new));
        if let Some(step) = step {
            // It may read option headers, and they cost nothing to wait for.
            self.plan.steps[step].after = self.header_steps.clone().into();
        }
        writes
    }

    /// The variables of a generator's commands. What they make of the time, or of where programs are looked for, cannot be told.
    fn environment(
        &mut self,
        part: &PartDef,
        defined: &[(String, Variable)],
        writes: usize,
    ) -> Vec<(String, Vec<Word>)> {
        let epoch = self.input.tools.epoch;
        let time = || (EPOCH_VARIABLE.to_string(), vec![Word::text(epoch.to_string())]);
        let mut variables: Vec<(String, Vec<Word>)> = Vec::from_iter((!epoch.is_start()).then(time));
        variables.push((SEARCH_PATH.to_string(), vec![Word::text(&self.input.tools.search_path)]));
        for (name, value) in defined {
            let words = match value {
                Variable::Set(value) => {
                    Some(self.input.words(value, Fill { writes, part: Some(part), ..Fill::default() }))
                }
                Variable::Passed => {
                    self.plan.variables.insert(name.clone());
                    self.input.tools.variables.get(name).map(|value| vec![Word::text(value)])
                }
            };
            variables.extend(words.map(|words| (name.clone(), words)));
        }
        variables
    }

    /// Plans a compile that does not go to its end.
    fn phase(&mut self, id: PartId, part: &PartDef, from: &SourceFile, until: Phase, to: &RelPath) -> Vec<Location> {
        let source = self.at(part, from);
        let path = super::lower::source_path(&source);
        let (form, language, named) = match (until, Language::of(path)) {
            (Phase::Assembly, language) => (Form::Assembly, language.unwrap_or(Language::C), language.is_none()),
            (Phase::Preprocessed, Some(language @ (Language::C | Language::Cxx))) => (Form::Text, language, false),
            (Phase::Preprocessed, Some(Language::AsmWithCpp)) => (Form::Text, Language::AsmWithCpp, false),
            // Whatever it is, the compiler is told that it goes through the preprocessor.
            (Phase::Preprocessed, _) => (Form::Text, Language::AsmWithCpp, true),
        };
        let mut own = Vec::new();
        if named {
            let name = if language == Language::C { "c" } else { "assembler-with-cpp" };
            own.extend(["-x", name].map(Word::text));
        }
        let flags = SourceFlags { added: own, without: vec![] };
        let common = self.common_of_compiles(id, part);
        let setting = self.setting(part, &common, language, &source, &flags);
        let kind = Kind::Compile(Compile { language, form, machine: part.machine, setting });
        let file = Location::Made(to.clone());
        let when = part.when.clone().map(Arc::new);
        if let Some(step) = self.add(Some(id), part.place, kind, vec![source], vec![file.clone()], when) {
            self.plan.steps[step].after = Arc::clone(&common.after);
        }
        vec![file]
    }

    /// Where a file lies that a step reads.
    pub(super) fn at(&self, part: &PartDef, file: &SourceFile) -> Location {
        match file {
            SourceFile::Tree(path) => Location::Tree(path.clone()),
            SourceFile::Part(made) => self.input.main_output(*made),
            SourceFile::Beside(path) => self.input.beside(Some(part), path),
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
