//! Whether this host is one that layers of a profile are for.

use super::fault::SessionFault;
use super::open::Session;
use crate::profile::{Choices, OnlyWith, Unfit};
use crate::survey::{Facts, HostRecord};

impl Session {
    /// Returns the layers that are for other hosts than this one, each with what does not fit.
    ///
    /// # Errors
    /// The facts of another host, which a person named, cannot be read.
    pub fn unfit_layers(&self, choices: &Choices, facts: &Facts) -> Result<Vec<(OnlyWith, Unfit)>, SessionFault> {
        if choices.only_with.is_empty() {
            return Ok(Vec::new());
        }
        let (compiler, target) = if choices.only_with.iter().any(OnlyWith::asks_for_compiler) {
            self.compiler_and_target(choices)?
        } else {
            Default::default()
        };
        let unfit = |only: &OnlyWith| {
            let unfit = only.unfit(&compiler, &target, &|need| facts.has(need));
            unfit.into_iter().map(|unfit| (only.clone(), unfit)).collect::<Vec<_>>()
        };
        Ok(choices.only_with.iter().flat_map(unfit).collect())
    }

    /// The C compiler's name and version, and what it compiles for; nothing where there is none.
    fn compiler_and_target(&self, choices: &Choices) -> Result<(String, String), SessionFault> {
        if let Some(file) = &self.scope.facts {
            let host = HostRecord::load(file, &self.board.tree.name)?.host;
            return Ok((host.compiler, host.target));
        }
        let compiler = self.tools_before(choices).target.c.ok();
        Ok(compiler.map_or_else(Default::default, |compiler| (compiler.in_words(), compiler.target)))
    }
}
