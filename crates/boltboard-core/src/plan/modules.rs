//! Modules in lists: what the owner of the lists says of them, and the source that each loadable one is linked with.

use std::sync::Arc;

use super::compile::{SourceFlags, object_of};
use super::lower::{Lower, PlanInput};
use crate::base::RelPath;
use crate::board::{Interp, Linkage, ListedModules, ModulePlace, ModuleRole, PartDef, PartId, PartKind, When};
use crate::step::{Compile, Form, Kind, Location, Write};
use crate::survey::Language;

impl<'a> PlanInput<'a> {
    /// What the owner of its list says of a module.
    pub(super) fn modules_of(&self, part: &PartDef) -> Option<&'a ListedModules> {
        match &part.kind {
            PartKind::Module(ModuleRole { program, place: ModulePlace::Listed { .. }, .. }) => {
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
