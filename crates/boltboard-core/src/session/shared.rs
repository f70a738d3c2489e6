//! What others made, for the builds of a session.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use super::fault::SessionFault;
use super::open::Session;
use super::plan::Planned;
use crate::base::Digest;
use crate::judge::{Preview, PreviewStep, Verdict};
use crate::plan::Plan;
use crate::shared::{Asked, Gets, Others, SharedConfig};
use crate::store::Store;

/// The variable that says where a person is at home.
const HOME: &str = "HOME";

impl Session {
    /// What others made of the steps of a plan, where a person says where that lies. `gets`: what is got of it.
    ///
    /// # Errors
    /// What the server is to be told cannot be read.
    pub fn others(&self, planned: &Planned, gets: Gets) -> Result<Option<Arc<Others>>, SessionFault> {
        let config = self.around.sharing.config(planned.store.as_ref())?;
        Ok(config.map(|config| Arc::new(self.others_at(config, &planned.plan, gets))))
    }

    /// The same for a store that lies there.
    pub fn others_at(&self, config: SharedConfig, plan: &Plan, gets: Gets) -> Others {
        let steps = plan.steps.iter().map(|(_, step)| step).filter(|step| step.has_process());
        let keys: Vec<Digest> = steps.map(|step| step.base_key()).collect();
        let sorted: BTreeSet<String> = keys.iter().map(Digest::to_string).collect();
        // What a plan leaves out is not known, so that nothing stands for all of it.
        let whole = (plan.rest == 0).then(|| Digest::of_parts(sorted.iter().map(String::as_str)));
        let first = !self.work.built().contains(&self.profile.to_string());
        let tree = &self.board.tree;
        let mut own = vec![tree.board_root.clone(), tree.source_root.clone(), self.work.root().to_path_buf()];
        own.extend(Some(self.around.variable(HOME)).filter(|home| !home.is_empty()).map(PathBuf::from));
        let whole_paths: Vec<PathBuf> = own.iter().filter_map(|path| path.canonicalize().ok()).collect();
        own.extend(whole_paths);
        Others::new(config, self.store(), &own, Asked { keys, whole, first, gets })
    }

    /// How many results of a preview would come from others.
    pub fn of_others(&self, plan: &Plan, preview: &Preview) -> usize {
        let store = self.store();
        let is_of_others = |step: &&PreviewStep| match &step.verdict {
            Verdict::FromStore(note) => {
                let own = store.own_notes(&plan.steps[step.step].base_key());
                own.iter().all(|own| !own.is_like(note))
            }
            Verdict::Current | Verdict::Run | Verdict::Follows => false,
        };
        preview.steps.iter().filter(is_of_others).count()
    }

    /// Returns the store of this machine, which asks others where there are some.
    pub(super) fn store_with(&self, others: Option<&Arc<Others>>) -> Store {
        match others {
            Some(others) => self.store().with(Arc::clone(others) as Arc<dyn crate::store::Elsewhere>),
            None => self.store(),
        }
    }
}
