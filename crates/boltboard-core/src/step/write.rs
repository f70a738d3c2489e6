//! Texts that follow from the resolution: option headers, filled-in templates, tables of modules.

use super::kind::{Acts, Made, MakeFault, Makes, Sees, Step};
use crate::base::Digest;
use crate::base::files::write_from;
use crate::work::Folders;

/// Writes a text.
#[derive(Debug, Clone)]
pub struct Write {
    /// The text.
    pub content: String,
}

impl Acts for Write {
    fn tag(&self) -> &'static str {
        "write 4"
    }

    fn verb(&self) -> &'static str {
        "write"
    }

    fn command(&self, _: &Step) -> Vec<String> {
        Vec::new()
    }

    fn decides(&self) -> Vec<String> {
        vec![Digest::of(self.content.as_bytes()).to_string()]
    }

    fn sees(&self) -> Sees {
        Sees::Declared
    }
}

impl Makes for Write {
    fn make(&self, step: &Step, folders: &Folders) -> Result<Made, MakeFault> {
        write_from(&folders.aside(), &step.writes[0].path(folders), &[self.content.as_bytes()], 0o644)?;
        Ok(Made { digest: Digest::of(self.content.as_bytes()), mode: 0o644, looked: vec![] })
    }
}
