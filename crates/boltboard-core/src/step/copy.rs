//! Files of the tree that are parts as they are.

use super::kind::{Acts, Made, MakeFault, Makes, Sees, Step};
use crate::base::files::{read_regular, write_quickly};
use crate::base::{Digest, FileError};
use crate::work::Folders;

/// Puts the file that the step reads among the outputs.
#[derive(Debug, Clone, Copy)]
pub struct Copy;

impl Acts for Copy {
    fn tag(&self) -> &'static str {
        "copy 4"
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
        write_quickly(&step.writes[0].path(folders), &content)?;
        Ok(Made { digest: Digest::of(&content), mode: 0o644, looked: vec![] })
    }
}
