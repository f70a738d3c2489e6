//! How installed files and tests are written.

use std::collections::BTreeSet;
use std::fmt::Write as _;
use std::path::Path;

use super::Writer;
use crate::adopt::delivered::Place;
use crate::adopt::model::{DrawnPart, PartForm};
use crate::adopt::names::free_name;
use crate::adopt::needs::plain_name;
use crate::adopt::paths::{base_name, relative_to};
use crate::adopt::shared::Installed;
use crate::adopt::toml::{comment, key, quoted, texts};

impl Writer<'_> {
    /// The places where a part's file is installed.
    fn places(&self, part: &DrawnPart) -> Option<&[Place]> {
        let results = &self.model.delivered.results;
        let mut paths = part.linked.iter().chain(part.file.iter().map(|file| &file.path));
        paths.find_map(|path| results.get(path)).map(Vec::as_slice)
    }

    /// How a part is installed, as far as it could be one of many.
    pub(super) fn installed(&self, part: &DrawnPart) -> Installed {
        let own = |place: &Place| part.file.as_ref().is_some_and(|file| place.name == base_name(&file.path));
        match self.places(part) {
            None => Installed::Not,
            Some([only]) if own(only) => Installed::In(only.folder.clone()),
            Some(_) => Installed::Otherwise,
        }
    }

    /// Where a part's file is installed.
    pub(super) fn install(&self, out: &mut String, part: &DrawnPart) {
        let Some([first, others @ ..]) = self.places(part) else { return };
        let own_name = part.file.as_ref().map_or("", |file| base_name(&file.path));
        let others: Vec<String> = others.iter().map(|place| place.name.clone()).collect();
        key(out, "install", &quoted(&format!("${{prefix}}/{}", first.folder)));
        match part.form {
            // Its links follow from the version of its interface.
            PartForm::Shared => {}
            _ if first.name != own_name => key(out, "install-as", &quoted(&first.name)),
            _ => texts(out, "names", &others),
        }
    }

    /// What is installed beside what is made, and tests.
    pub(super) fn delivered(&self, out: &mut String) {
        let delivered = &self.model.delivered;
        for data in &delivered.data {
            let name = plain_name(&format!("install {} {}", data.folder, data.renamed.as_deref().unwrap_or_default()));
            let name = if data.executable { format!("{name}-run") } else { name };
            let _ = writeln!(out, "\n[part.{name}]\nkind = \"data\"");
            texts(out, "sources", &self.files.patterns_only(&data.sources.iter().cloned().collect()));
            key(out, "install", &quoted(&format!("${{prefix}}/{}", data.folder)));
            if let Some(renamed) = &data.renamed {
                key(out, "install-as", &quoted(renamed));
            }
            if data.executable {
                key(out, "mode", "\"755\"");
            }
        }
        let mut taken = BTreeSet::new();
        for trial in &delivered.trials {
            let Some(part) = self.products.get(&trial.product) else { continue };
            let _ = writeln!(out, "\n[test.{}]", free_name(part.clone(), &mut taken));
            let words: Vec<String> =
                std::iter::once(format!("${{part:{part}}}")).chain(trial.words.iter().cloned()).collect();
            texts(out, "command", &words);
            if let Some(file) = &trial.stdin {
                key(out, "stdin", &quoted(file));
            }
            if trial.exit != 0 {
                key(out, "success", &format!("[{}]", trial.exit));
            }
        }
        if let Some(prefix) = &delivered.prefix {
            out.push('\n');
            comment(
                out,
                &format!("seen: it was installed below {}", relative_to(Path::new(&self.tree), Path::new(prefix))),
            );
            out.push_str("[option.prefix]\nkind = \"path\"\nsummary = \"Where it is installed\"\n");
            out.push_str("default = \"/usr/local\"\nmacro = []\n");
        }
    }
}
