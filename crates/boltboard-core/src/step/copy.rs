//! Files of the tree that are parts as they are.

use super::kind::{Acts, Made, MakeFault, Makes, Sees, Step};
use crate::base::files::{read_regular, write_from};
use crate::base::{Digest, FileError};
use crate::work::Folders;

/// Puts the file that the step reads among the outputs.
#[derive(Debug, Clone, Default)]
pub struct Copy {
    /// Whether it is a program, or is loaded as one.
    pub can_run: bool,
}

impl Acts for Copy {
    fn tag(&self) -> &'static str {
        if self.can_run { "copy 4 to run" } else { "copy 4" }
    }

    fn verb(&self) -> &'static str {
        "copy"
    }

    fn command(&self, _: &Step) -> Vec<String> {
        Vec::new()
    }

    fn sees(&self) -> Sees {
        Sees::Declared
    }
}

impl Makes for Copy {
    fn make(&self, step: &Step, folders: &Folders) -> Result<Made, MakeFault> {
        let from = step.reads[0].path(folders);
        let content = read_regular(&from).map_err(FileError::on("read", &from))?;
        let mode = if self.can_run { 0o755 } else { 0o644 };
        write_from(&folders.aside(), &step.writes[0].path(folders), &[&content], mode)?;
        Ok(Made { digest: Digest::of(&content), mode, looked: vec![] })
    }
}
