//! Sessions of test trees, and builds without a front end.

use super::TestTree;
use crate::run::{Failure, Ran, Watch};
use crate::session::{BuildAsk, Built, Resolved, Scope, Session, Start, Surroundings};
use crate::step::{Step, StepId};
use crate::work::Locking;

/// Is told, and says nothing.
pub struct Silent;

impl Watch for Silent {
    fn begins(&mut self, _: usize) {}
    fn starts(&mut self, _: StepId, _: &Step) {}
    fn ends(&mut self, _: StepId, _: &Step, _: &Ran, _: u64) {}
    fn fails(&mut self, _: &Failure, _: &Step) {}
}

/// What a process in the tree's folder would find around itself.
pub fn around(tree: &TestTree) -> Surroundings {
    let path = "/usr/local/bin:/usr/bin:/bin".to_string();
    Surroundings {
        sharing: crate::shared::Sharing::default(),
        folder: tree.root().to_path_buf(),
        variables: [("PATH".to_string(), path)].into(),
        program: "a test".into(),
        own: None,
        cores: 2,
    }
}

/// Opens the tree.
pub fn open(tree: &TestTree, scope: &Scope) -> Session {
    Session::open(scope.clone(), around(tree)).expect("a tree")
}

/// Resolves the profile in use.
pub fn resolved(session: &Session) -> Resolved {
    let choices = session.choices_of(&session.profile).expect("choices");
    let facts = session.facts(&choices).expect("facts");
    session.resolve(choices, facts).expect("nothing clashes")
}

/// Builds it.
pub fn built(session: &Session) -> Built {
    let begun = session.begin(resolved(session), None, Start::now()).expect("begun");
    let Locking::Taken(lock) = session.lock().expect("asked") else { panic!("nobody has it") };
    let begun = session.settle(begun).expect("as it was");
    session.build(&begun, &lock, &BuildAsk::default(), &mut Silent).expect("built")
}
