//! What others made, for the builds of a session.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::Arc;

use super::fault::SessionFault;
use super::open::{Resolved, Session};
use super::plan::Planned;
use crate::base::Digest;
use crate::judge::{Preview, PreviewStep, Verdict};
use crate::plan::Plan;
use crate::shared::{Asked, Asker, Gets, Others, SharedConfig};
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
        Ok(config.map(|config| Arc::new(self.others_at(config, &planned.plan, gets, None))))
    }

    /// The same for a store that lies there. What is given to it counts as the newest of `tree`, of [`Session::tree_and_values`].
    pub fn others_at(&self, config: SharedConfig, plan: &Plan, gets: Gets, tree: Option<Digest>) -> Others {
        let others = Others::new(config, self.asker(tree));
        others.asks(asked(plan, gets));
        others
    }

    /// What others may have made of what is about to be planned; the server is reached meanwhile.
    ///
    /// # Errors
    /// As for [`Session::others`].
    pub(super) fn others_of(&self, resolved: &Resolved) -> Result<Option<Arc<Others>>, SessionFault> {
        let config = self.around.sharing.config(resolved.choices.store.as_ref())?;
        let others =
            config.map(|config| Arc::new(Others::new(config, self.asker(Some(self.tree_and_values(resolved))))));
        others.iter().for_each(|others| others.reach());
        Ok(others)
    }

    /// What stands for the tree with these values, in whatever state its sources are.
    pub fn tree_and_values(&self, resolved: &Resolved) -> Digest {
        let values = resolved.resolution.iter();
        let values = values.map(|(option, found)| format!("{}={}", self.board.options[option].name, found.value));
        let texts: Vec<String> = std::iter::once(self.board.tree.name.to_string()).chain(values).collect();
        Digest::of_parts(texts.iter().map(String::as_str))
    }

    fn asker(&self, tree: Option<Digest>) -> Asker {
        let first = !self.work.built().contains(&self.profile.to_string());
        let roots = &self.board.tree;
        let mut own = vec![roots.board_root.clone(), roots.source_root.clone(), self.work.root().to_path_buf()];
        own.extend(Some(self.around.variable(HOME)).filter(|home| !home.is_empty()).map(PathBuf::from));
        let whole_paths: Vec<PathBuf> = own.iter().filter_map(|path| path.canonicalize().ok()).collect();
        own.extend(whole_paths);
        Asker { local: self.store(), own, tree, first }
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

/// What is asked for with a plan.
pub(super) fn asked(plan: &Plan, gets: Gets) -> Asked {
    let steps = plan.steps.iter().map(|(_, step)| step).filter(|step| step.has_process());
    let keys: Vec<Digest> = steps.map(|step| step.base_key()).collect();
    let sorted: BTreeSet<String> = keys.iter().map(Digest::to_string).collect();
    // What a plan leaves out is not known, so that nothing stands for all of it.
    let whole = (plan.rest == 0).then(|| Digest::of_parts(sorted.iter().map(String::as_str)));
    Asked { keys, whole, gets }
}
