//! Modules in lists: what the owner of the lists says of them, and the source that each loadable one is linked with.

use std::sync::Arc;

use super::compile::{SourceFlags, object_of};
use super::lower::{Lower, PlanInput};
use crate::base::RelPath;
use crate::board::{
    Exports, Interp, Linkage, ListedModules, ModuleForm, ModulePlace, ModuleRole, PartDef, PartId, When,
};
use crate::step::{Check, Compile, Form, Kind, Location, Usable, Write};
use crate::survey::Language;

impl<'a> PlanInput<'a> {
    /// What the owner of its list says of a module.
    pub(super) fn modules_of(&self, part: &PartDef) -> Option<&'a ListedModules> {
        match part.kind.module() {
            Some(ModuleRole { program, place: ModulePlace::Listed { .. }, .. }) => {
                self.board.parts[*program].modules.as_deref()
            }
            _ => None,
        }
    }

    /// The flags that the compiles of a module in a list have as it is made now.
    pub(super) fn module_flags(&self, part: &PartDef) -> Option<&'a Vec<When<Interp>>> {
        let modules = self.modules_of(part)?;
        match self.linkage(part) {
            Linkage::Loadable => Some(&modules.flags),
            Linkage::Builtin => Some(&modules.builtin_flags),
            Linkage::Off => None,
        }
    }
}

impl Lower<'_> {
    /// Plans the checks of the loadable modules of programs, and of what becomes one by further links.
    pub(super) fn checks(&mut self) {
        let owners: Vec<PartId> = self.plan.parts.keys().copied().filter(|id| self.is_planned(*id)).collect();
        let alone: Vec<PartId> = self.input.board.modules.clone();
        for id in owners {
            let program = &self.input.board.parts[id];
            if !program.kind.is_linked() || program.exports == Some(Exports::Unchecked) {
                continue;
            }
            let of_program =
                |module: &PartId| self.input.board.parts[*module].kind.module().is_some_and(|role| role.program == id);
            let mut modules: Vec<PartId> = alone.iter().copied().filter(of_program).collect();
            modules.retain(|module| {
                let part = &self.input.board.parts[*module];
                self.input.is_made(part) && self.input.linkage(part) == Linkage::Loadable
            });
            modules.extend(self.input.listed_modules(id, Linkage::Loadable));
            if !modules.is_empty() {
                self.check(id, program, &modules);
            }
        }
    }

    fn check(&mut self, id: PartId, program: &PartDef, modules: &[PartId]) {
        let files: Vec<Location> = modules.iter().map(|module| self.input.main_output(*module)).collect();
        let form = |module: &PartId| {
            self.input.board.parts[*module].kind.module().map_or(ModuleForm::Shared, |role| role.form)
        };
        let usable = match &program.exports {
            None | Some(Exports::Unchecked) if modules.iter().map(form).all(|form| form == ModuleForm::Partial) => {
                Usable::Defined
            }
            None | Some(Exports::Dynamic | Exports::Unchecked) => Usable::Dynamic,
            Some(Exports::Marked(mark)) => Usable::Marked(mark.clone()),
            Some(Exports::Named(file)) => Usable::Listed(self.at(program, file)),
        };
        let output = self.input.main_output(id);
        let compiler = self.input.tools.compiler_for(program.machine, Language::C);
        let own = compiler.map_or(&[][..], |compiler| &compiler.library_folders);
        let parts = self.plan.parts.keys().map(|part| &self.input.board.parts[*part]);
        let shared = parts.filter(|part| part.kind.is_shared_library());
        let mut library_folders: Vec<Location> = shared.map(|part| Location::Output(part.output.parent())).collect();
        library_folders.extend(own.iter().map(|folder| Location::of(folder, self.input.folders)));
        library_folders.dedup();
        let mut reads: Vec<Location> = std::iter::once(output.clone()).chain(files.iter().cloned()).collect();
        if let Usable::Listed(file) = &usable {
            reads.push(file.clone());
        }
        let check = Check { program: output, modules: files, usable, library_folders };
        let record = Location::Object(RelPath::root().child(&program.name).child("modules.names"));
        self.add(Some(id), program.place, Kind::Check(Box::new(check)), reads, vec![record], None);
    }

    /// Of a loadable module, the template of the source that it is linked with, that source and its object.
    pub(super) fn stub_places(&self, part: &PartDef) -> Option<(RelPath, Location, Location)> {
        let template = self.input.modules_of(part)?.stub.clone()?;
        if self.input.linkage(part) != Linkage::Loadable {
            return None;
        }
        let name = part.name.trim_start_matches("./");
        let source = Location::Made(RelPath::parse(&format!("lists/{name}.stub.c")).ok()?);
        let object = object_of(part, &source);
        Some((template, source, object))
    }

    /// Plans the source that a loadable module is linked with, and its compile.
    pub(super) fn stub(&mut self, id: PartId, part: &PartDef) {
        let Some((template, source, object)) = self.stub_places(part) else { return };
        let content = match self.input.stub(part, &template) {
            Ok(content) => content,
            Err(fault) => return self.problem(Some(part.place), fault),
        };
        self.add(Some(id), part.place, Kind::Write(Write { content }), vec![], vec![source.clone()], None);
        let common = self.common_of_compiles(id, part);
        let setting = self.setting(part, &common, Language::C, &source, &SourceFlags::default());
        let kind = Kind::Compile(Compile { language: Language::C, form: Form::Object, machine: part.machine, setting });
        let step = self.add(Some(id), part.place, kind, vec![source], vec![object.clone()], None);
        if let Some(step) = step {
            self.plan.steps[step].after = Arc::clone(&common.after);
        }
        let rule = part.sources.len();
        self.objects.entry(id).or_default().add(object, rule);
    }
}
