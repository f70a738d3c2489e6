//! Consequences, found aside so that no key waits for them.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use boltboard_core::board::NeedId;
use boltboard_core::checks::Package;
use boltboard_core::profile::{Choices, ProfileName};
use boltboard_core::remedy;
use boltboard_core::session::{Resolved, Session as Core};
use boltboard_core::slate::{Change, Effects, Item, Outcome, Price, facts_of};
use boltboard_core::survey::Facts;

use super::cards::{Card, Found};
use crate::render::text::{bytes, count};
use crate::session::Session;

/// What is asked: what would come of each of some changes.
pub struct Question {
    /// Tells questions apart.
    pub number: u64,
    /// The profile that changes go to, and what its file would hold.
    pub profile: ProfileName,
    pub text: String,
    /// How things stand with the slate.
    pub now: Arc<Resolved>,
    /// What is on the slate.
    pub slate: Vec<Item>,
    pub tries: Vec<Change>,
}

/// What was found of one of them.
pub struct Answer {
    pub number: u64,
    /// Which of them; none where it is told of the whole slate.
    pub at: Option<usize>,
    pub found: Found,
}

/// Keys that follow each other faster than this are on their way elsewhere.
const PASSING: Duration = Duration::from_millis(20);

/// What is told of packages and what installing them takes, as far as it was asked.
type Prices = Arc<Mutex<BTreeMap<Vec<Package>, String>>>;

/// Finds consequences. A newer question ends the one before, and does not wait for its end.
pub struct Worker {
    session: Arc<Session>,
    answering: Sender<Answer>,
    answers: Receiver<Answer>,
    latest: Arc<AtomicU64>,
    prices: Prices,
}

impl Worker {
    /// Starts it with a session that it shares. What a search looks up is made ready before anybody searches.
    pub fn start(session: Arc<Session>) -> Worker {
        let (answering, answers) = channel();
        let reads = session.clone();
        std::thread::spawn(move || {
            reads.search.of(&reads.board);
        });
        Worker { session, answering, answers, latest: Arc::default(), prices: Prices::default() }
    }

    /// Whether it shares this session.
    pub fn is_for(&self, session: &Arc<Session>) -> bool {
        Arc::ptr_eq(&self.session, session)
    }

    /// Asks; what was asked before is no longer wanted.
    pub fn ask(&self, question: Question) {
        self.latest.store(question.number, Ordering::Relaxed);
        let (session, newest, answering) = (self.session.clone(), self.latest.clone(), self.answering.clone());
        let prices = self.prices.clone();
        std::thread::spawn(move || {
            let is_over = || newest.load(Ordering::Relaxed) != question.number;
            // Whoever only passes by asks for nothing.
            std::thread::sleep(PASSING);
            if is_over() {
                return;
            }
            // Whoever asked may be gone.
            let tell = |answer| drop(answering.send(answer));
            for (at, packages) in find(&session, &question, &is_over, &tell) {
                if is_over() {
                    return;
                }
                let found = Found::Install(with_cost(&session, &packages, &prices));
                tell(Answer { number: question.number, at: Some(at), found });
            }
        });
    }

    /// What was found since.
    pub fn answer(&self) -> Option<Answer> {
        self.answers.try_recv().ok()
    }
}

/// Finds what would come of each change: first what moves, then what a build would do, which takes longer. Returns the packages that bring
/// what the host lacks for them.
pub fn find(
    session: &Core,
    question: &Question,
    is_over: &dyn Fn() -> bool,
    tell: &dyn Fn(Answer),
) -> Vec<(usize, Vec<Package>)> {
    let number = question.number;
    let tell_slate = |found: Found| tell(Answer { number, at: None, found });
    let tell = |at: usize, found: Found| tell(Answer { number, at: Some(at), found });
    let mut lacking: Vec<(usize, Vec<NeedId>)> = Vec::new();
    let Ok(choices) = session.choices_as(&question.profile, &question.text) else { return Vec::new() };
    let mut priced = Vec::new();
    for (at, change) in question.tries.iter().enumerate() {
        if is_over() {
            return Vec::new();
        }
        if is_so(&question.now, change) {
            tell(at, Found::Same);
            if let Item::Need(need) = change.item() {
                lacking.push((at, vec![need]));
            }
            continue;
        }
        let Some((choices, facts)) = tried(session, &question.now, choices.clone(), change) else { continue };
        match Effects::of(session, &question.now, choices, facts) {
            Outcome::Clash(tried, clashes) => {
                lacking.push((at, clashes.iter().flat_map(|clash| clash.lacking.iter().copied()).collect()));
                tell(at, Card::clash(session, &question.now, &tried, &question.slate, change, &clashes));
            }
            Outcome::Holds(effects) => {
                tell(at, Card::moves(&session.board, change.item(), &effects));
                priced.push((at, effects));
            }
        }
    }
    for (at, effects) in priced {
        if is_over() {
            return Vec::new();
        }
        tell(at, Found::Price(Price::of(session, &question.profile, &effects.resolved)));
    }
    if !question.slate.is_empty() && !is_over() {
        tell_slate(Found::Price(Price::of(session, &question.profile, &question.now)));
    }
    if lacking.is_empty() {
        return Vec::new();
    }
    let here = session.around.distribution();
    let facts = &question.now.facts;
    let packages = |needs: Vec<NeedId>| -> BTreeSet<Package> {
        needs.iter().flat_map(|need| remedy::helpful_packages(&session.board, facts, *need, &here)).collect()
    };
    let brought = lacking.into_iter().map(|(at, needs)| (at, packages(needs).into_iter().collect::<Vec<_>>()));
    let brought: Vec<_> = brought.filter(|(_, packages)| !packages.is_empty()).collect();
    brought.iter().for_each(|(at, packages)| tell(*at, Found::Install(brings(packages))));
    brought
}

fn brings(packages: &[Package]) -> String {
    format!("packages that bring it: {}", Package::joined(packages))
}

/// Whether things stand as a change would have them.
fn is_so(now: &Resolved, change: &Change) -> bool {
    match change {
        Change::Choose(option, value) => now.resolution.value(*option) == value,
        Change::Provide(need, provider) => {
            now.choices.providers.get(need).is_some_and(|chosen| chosen.provider == *provider)
        }
        Change::TakeBack(Item::Need(need)) => !now.choices.providers.contains_key(need),
        Change::TakeBack(Item::Option(option)) => now.choices.get(*option).is_none(),
    }
}

/// Choices with a change, and the facts that hold then.
fn tried(session: &Core, now: &Resolved, choices: Choices, change: &Change) -> Option<(Choices, Facts)> {
    let board = &session.board;
    let choices = match change {
        Change::Choose(option, value) => choices.with(board, *option, value.clone()),
        Change::Provide(_, provider) => {
            let words = format!("{}={}", change.item().name(board), provider.text(board));
            choices.with_tried(board, &[words]).ok()?
        }
        Change::TakeBack(Item::Need(need)) => {
            let mut choices = choices;
            choices.providers.remove(need);
            choices
        }
        // What its default would be is one of its values, and told there.
        Change::TakeBack(Item::Option(_)) => return None,
    };
    let facts = facts_of(session, now, &choices).ok()?;
    Some((choices, facts))
}

/// Packages with what installing them takes, asked of the package manager once.
fn with_cost(session: &Core, packages: &[Package], prices: &Prices) -> String {
    if let Some(known) = prices.lock().unwrap_or_else(PoisonError::into_inner).get(packages) {
        return known.clone();
    }
    let family = session.around.distribution().family;
    let cost =
        family.and_then(|family| remedy::cost(family, packages, session.around.search_path(), &session.launch).ok());
    let told = cost.map_or(String::new(), |cost| {
        let size = cost.disk_bytes.map_or(String::new(), |size| format!(", {} on disk", bytes(size)));
        format!(" ({}{size})", count(cost.packages.len(), "package", "packages"))
    });
    let words = brings(packages) + &told;
    prices.lock().unwrap_or_else(PoisonError::into_inner).insert(packages.to_vec(), words.clone());
    words
}
