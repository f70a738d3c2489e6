//! Second names of outputs, as shared libraries with a version have.

use std::path::Path;

use super::kind::{Acts, Made, MakeFault, Makes, Sees, Step};
use crate::base::Digest;
use crate::base::files::put_link;
use crate::work::Folders;

/// Makes a link by name.
#[derive(Debug, Clone)]
pub struct Symlink {
    /// What the name leads to.
    pub target: String,
}

impl Acts for Symlink {
    fn tag(&self) -> &'static str {
        "symlink 4"
    }

    fn verb(&self) -> &'static str {
        "symlink"
    }

    fn command(&self, _: &Step) -> Vec<String> {
        vec!["link to".into(), self.target.clone()]
    }

    fn decides(&self) -> Vec<String> {
        vec![self.target.clone()]
    }

    fn sees(&self) -> Sees {
        Sees::Declared
    }
}

impl Makes for Symlink {
    fn make(&self, step: &Step, folders: &Folders) -> Result<Made, MakeFault> {
        let path = step.writes[0].path(folders);
        put_link(&folders.aside(), &path, Path::new(&self.target))?;
        Ok(Made { digest: Digest::of(self.target.as_bytes()), mode: 0o777, looked: vec![] })
    }
}
