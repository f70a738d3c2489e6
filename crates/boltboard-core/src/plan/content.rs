//! The texts of files that follow from the resolution: filled-in templates and tables of built-in modules.

use super::fault::PlanFault;
use super::lower::PlanInput;
use crate::base::{RelPath, near_matches};
use crate::board::{Linkage, ModulePlace, ModuleRole, ModuleTable, PartDef, PartId, SourceFile, Value};
use crate::expr::is_name;

impl PlanInput<'_> {
    /// Fills in a template: `@NAME@` becomes the option's value, `@tree:name@` and `@tree:version@` the tree's own.
    pub(super) fn template(&self, part: &PartDef, from: &SourceFile, mark: char) -> Result<String, PlanFault> {
        let (path, shown) = match from {
            SourceFile::Tree(path) => (path.below(&self.folders.tree), path.to_string()),
            SourceFile::Beside(path) => (self.board.tree.definition(path), path.to_string()),
            // What a part makes is not there yet.
            SourceFile::Part(made) => {
                let (part, made) = (part.name.clone(), self.board.parts[*made].name.clone());
                return Err(PlanFault::TemplateOfPart { part, made });
            }
        };
        let text = std::fs::read_to_string(&path).map_err(|e| PlanFault::Template {
            file: shown.clone(),
            line: 0,
            reason: e.to_string(),
            near: vec![],
        })?;
        let mut out = String::new();
        for (index, line) in text.split_inclusive('\n').enumerate() {
            self.template_line(part, line, mark, &mut out).map_err(|(name, near)| PlanFault::Template {
                file: shown.clone(),
                line: index + 1,
                reason: format!("there is no option `{name}`"),
                near,
            })?;
        }
        Ok(out)
    }

    /// Fills in the source that a loadable module is linked with: as a template, where `@module:name@`, `@module:symbol@` and
    /// `@module:folder@` are the module's.
    pub(super) fn stub(&self, part: &PartDef, from: &RelPath) -> Result<String, PlanFault> {
        let text = self.template(part, &SourceFile::Tree(from.clone()), '@')?;
        let Some(ModuleRole { symbol, place: ModulePlace::Listed { name, folder }, .. }) = part.kind.module() else {
            return Ok(text);
        };
        let filled = text.replace("@module:name@", name).replace("@module:symbol@", symbol);
        Ok(filled.replace("@module:folder@", folder.as_str()))
    }

    fn template_line(
        &self,
        part: &PartDef,
        line: &str,
        mark: char,
        out: &mut String,
    ) -> Result<(), (String, Vec<String>)> {
        let mut rest = line;
        while let Some(start) = rest.find(mark) {
            out.push_str(&rest[..start]);
            let after = &rest[start + mark.len_utf8()..];
            let name = after.find(mark).map(|end| &after[..end]);
            let value = match name {
                Some("tree:name") => Some(self.board.tree.name.clone()),
                Some("tree:version") => Some(self.board.tree.version.clone()),
                Some(name) if part.values.iter().any(|value| value.name == name) => {
                    Some(self.value_of(part, name).map_or(String::new(), |text| self.text(text)))
                }
                Some(name) if is_name(name) => {
                    let option = self
                        .board
                        .option(name)
                        .ok_or_else(|| (name.to_string(), near_matches(name, self.board.option_names.iter())))?;
                    Some(self.resolution.value(option).to_string())
                }
                _ => None,
            };
            match (value, name) {
                (Some(value), Some(name)) => {
                    out.push_str(&value);
                    rest = &after[name.len() + mark.len_utf8()..];
                }
                // A mark that encloses no name is text.
                _ => {
                    out.push(mark);
                    rest = after;
                }
            }
        }
        out.push_str(rest);
        Ok(())
    }

    /// Returns the modules with tables of their own that are built into a program, in the order of the board.
    pub(super) fn builtin_modules(&self, program: PartId) -> Vec<PartId> {
        let builtin = |role: &ModuleRole| {
            role.program == program && *self.resolution.value(role.option) == Value::Module(Linkage::Builtin)
        };
        let taken = |id: &PartId| {
            let part = &self.board.parts[*id];
            part.kind.module().is_some_and(builtin) && self.is_made(part)
        };
        self.board.modules.iter().copied().filter(taken).collect()
    }

    /// Returns the modules in the lists of a part that are made so, in the order of the lists.
    pub(super) fn listed_modules(&self, owner: PartId, linkage: Linkage) -> Vec<PartId> {
        let mut modules = Vec::new();
        // Last first, so that they come off in order.
        let mut open: Vec<PartId> = self.held(&self.board.parts[owner].lists).into_iter().rev().copied().collect();
        while let Some(id) = open.pop() {
            let part = &self.board.parts[id];
            match part.kind.list() {
                _ if !self.is_made(part) => {}
                Some(list) => open.extend(list.parts().collect::<Vec<_>>().into_iter().rev()),
                None if self.linkage(part) == linkage => modules.push(id),
                None => {}
            }
        }
        modules
    }

    /// Writes the table of the modules built into a program.
    pub(super) fn module_table(&self, table: &ModuleTable) -> String {
        let modules: Vec<(String, String)> = self
            .builtin_modules(table.program)
            .into_iter()
            .chain(self.listed_modules(table.program, Linkage::Builtin))
            .filter_map(|id| {
                let part = &self.board.parts[id];
                Some((part.name.clone(), part.kind.module()?.symbol.clone()))
            })
            .collect();
        let each = |line: &str| -> String {
            let filled =
                modules.iter().map(|(module, symbol)| line.replace("{module}", module).replace("{symbol}", symbol));
            filled.map(|line| line + "\n").collect()
        };
        let one = |text: &str| if text.is_empty() { String::new() } else { format!("{}\n", text.trim_end()) };
        [one(&table.head), each(&table.declare), one(&table.open), each(&table.entry), one(&table.close)].concat()
    }
}
