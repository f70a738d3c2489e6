//! Needs become facts with evidence. The one folder that probes the host; it runs the compiler and the host's programs, never
//! code of the tree.
//!
//! [`survey`] goes over all needs at once. What can be looked up is looked up; what only a compiler can tell becomes a list of
//! questions, which `join` asks in few runs; then each need is judged. Answers are kept in a [`ProbeMemo`] with the files that
//! they depend on.

mod asking;
mod behind;
mod blame;
mod compiler;
mod environment;
mod fact;
mod inclusions;
mod join;
mod judge;
mod memo;
mod metadata;
mod need;
mod passed_on;
mod program;
mod question;
mod saved;
mod search;
mod toolchains;
mod wrapper;

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Mutex;

use crate::base::{Digest, packed_bytes};
use crate::board::{Board, Machine, NeedCheck, NeedDef, NeedId, Provider};
use crate::checks::LibraryLinkage;
use crate::launch::Launch;

pub use compiler::{
    Compiler, CompilerFault, CompilerSearch, Compilers, EPOCH_VARIABLE, Family, Language, LibrarySearch, Tools,
    identify,
};
pub use environment::{EnvironmentFault, EnvironmentFrom, ToolEnvironment};
pub use fact::{Copy, CopyRank, Evidence, Fact, FactSource, FactState, Facts, Found, Missing, Presence};
pub use memo::ProbeMemo;
pub use metadata::{Metadata, MetadataFault, MetadataSearch};
pub use saved::{
    Differing, HostDifference, HostRecord, HostTraits, NeedRecord, RecordFault, RecordedState, changes, differences,
};
pub use toolchains::{Toolchain, toolchains};
pub use wrapper::Wrapper;

use join::Answer;
use need::{Draft, Look};
use question::{Body, Question, Setting};

#[cfg(test)]
mod tests;

/// What the host offers for the search; handed in, so that tests can hand in another one.
#[derive(Debug, Clone)]
pub struct Host {
    /// The search path for programs, as in `PATH`.
    pub search_path: String,
    /// Folders searched for installed metadata files, first to last.
    pub metadata_folders: Vec<PathBuf>,
    /// The folder that stands for `/` of the target, when it is not this host's own.
    pub sysroot: Option<PathBuf>,
    /// The folder below which copies may lie that nobody searches by default (`/opt`).
    pub aside: PathBuf,
    /// Folders whose programs are not run when they are named by path: those of the tree.
    pub never_below: Vec<PathBuf>,
    /// What the toolchain's environment sets.
    pub environment: BTreeMap<String, String>,
    /// A folder for check programs; removed by its owner.
    pub scratch: PathBuf,
    /// How many processes run at a time.
    pub jobs: usize,
}

impl Host {
    fn sysroot_flag(&self) -> Option<String> {
        self.sysroot.as_ref().map(|folder| format!("--sysroot={}", folder.display()))
    }
}

/// The environment of everything that the survey runs.
fn environment(host: &Host) -> BTreeMap<String, String> {
    let own = [
        ("PATH".to_string(), host.search_path.clone()),
        ("LC_ALL".into(), "C".into()),
        ("TMPDIR".into(), host.scratch.display().to_string()),
    ];
    host.environment.clone().into_iter().chain(own).collect()
}

/// What a person wants of the survey.
#[derive(Debug, Clone, Default)]
pub struct Wishes {
    /// Who is to meet a need.
    pub providers: BTreeMap<NeedId, Provider>,
    /// What is to be taken as told, without looking.
    pub assumed: BTreeMap<NeedId, Assumption>,
}

/// What is to be taken as told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Assumption {
    /// It is there, in this version if one is given.
    There(Option<String>),
    /// It is not there.
    NotThere,
}

/// Whether questions share runs of the compiler.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Joining {
    /// As many in a run as can be.
    Together,
    /// Each in a run of its own, so that the words are about it alone.
    Alone,
}

/// Everything that checks are made with.
#[derive(Clone, Copy)]
pub struct Prober<'a> {
    /// What the machine that is asked about offers.
    pub host: &'a Host,
    /// What the machine that builds offers.
    pub own_host: &'a Host,
    /// The machine that is asked about.
    pub machine: Machine,
    /// The compilers.
    pub tools: &'a Tools,
    /// Starts processes.
    pub launch: &'a dyn Launch,
    /// What was answered before.
    pub memo: &'a ProbeMemo,
    /// Whether questions share runs.
    pub joining: Joining,
}

impl<'a> Prober<'a> {
    /// Returns the compiler for a language, for the machine that is asked about.
    fn compiler(&self, language: Language) -> Result<&'a Compiler, &'a CompilerFault> {
        self.tools.compiler_for(self.machine, language)
    }

    /// Returns what asks about a machine.
    fn about(self, machine: Machine) -> Prober<'a> {
        match machine {
            Machine::Target => self,
            Machine::Host => Prober { host: self.own_host, machine, ..self },
        }
    }
}

/// Returns the facts as they were found last, when nothing that they depend on has changed. Nothing is run, and the folder for
/// check programs need not be there.
pub fn kept_facts(board: &Board, wishes: &Wishes, prober: Prober<'_>) -> Option<Facts> {
    prober.memo.look_again();
    let bytes = prober.memo.recall(&whole_question(board, wishes, prober))?;
    postcard::from_bytes::<Facts>(&bytes).ok().filter(|facts| facts.fit(board))
}

/// Looks for every need of a board, all at once.
pub fn survey(board: &Board, wishes: &Wishes, prober: Prober<'_>) -> Facts {
    kept_facts(board, wishes, prober).unwrap_or_else(|| {
        let facts = survey_some(board, &board.needs.ids().collect(), wishes, prober);
        let bytes = packed_bytes(&facts);
        prober.memo.keep_whole(whole_question(board, wishes, prober), &bytes);
        facts
    })
}

/// All that the facts follow from, but for the files of the host.
fn whole_question(board: &Board, wishes: &Wishes, prober: Prober<'_>) -> Digest {
    let Prober { host, tools, joining, .. } = prober;
    let identity = |compiler: &Result<Compiler, CompilerFault>| match compiler {
        Ok(compiler) => compiler.identity.to_string(),
        Err(fault) => fault.to_string(),
    };
    let needs: Vec<_> =
        board.needs.iter().map(|(_, need)| (need.machine, &need.check, &need.version, need.bundled)).collect();
    let needs = packed_bytes(&needs);
    let shown = [
        Digest::of(&needs).to_string(),
        format!("{wishes:?} {joining:?}"),
        format!("{:?} {:?} {:?} {:?}", host.metadata_folders, host.sysroot, host.aside, host.never_below),
        host.search_path.clone(),
    ];
    let compilers = std::iter::once(&tools.target)
        .chain(&tools.host)
        .flat_map(|all| [&all.c, &all.cxx, &all.fortran])
        .map(identity);
    let own = format!("{:?} {:?} {:?}", host.environment, prober.own_host.metadata_folders, prober.own_host.sysroot);
    let shown: Vec<String> = shown.into_iter().chain(compilers).chain([own]).collect();
    Digest::of_parts(std::iter::once("what are the facts?").chain(shown.iter().map(String::as_str)))
}

/// The same for some needs (and those that they are made of); the others count as not asked.
pub fn survey_some(board: &Board, wanted: &BTreeSet<NeedId>, wishes: &Wishes, prober: Prober<'_>) -> Facts {
    prober.memo.look_again();
    let wanted = with_members(board, wanted);
    let mut facts: BTreeMap<NeedId, Fact> = BTreeMap::new();
    let mut compiler_fault = None;
    for machine in Machine::ALL {
        let of_machine: BTreeSet<NeedId> =
            wanted.iter().filter(|id| board.needs[**id].machine == machine).copied().collect();
        let fault = survey_machine(board, &of_machine, wishes, prober.about(machine), &mut facts);
        compiler_fault = compiler_fault.or(fault);
    }
    for (id, assumption) in &wishes.assumed {
        facts.insert(*id, assumed(*id, &board.needs[*id], assumption));
    }
    for id in &wanted {
        compose(board, *id, wishes, &mut facts);
    }
    let not_asked = |id| Fact::plain(id, FactState::Missing(Missing::NotAsked), FactSource::Looked);
    let mut all = Facts::new(board.needs.ids().map(|id| facts.remove(&id).unwrap_or_else(|| not_asked(id))).collect());
    all.compiler_fault = compiler_fault;
    all
}

/// Asks a machine for needs, and returns what is wrong with its compilers, if anything is.
fn survey_machine(
    board: &Board,
    wanted: &BTreeSet<NeedId>,
    wishes: &Wishes,
    prober: Prober<'_>,
    facts: &mut BTreeMap<NeedId, Fact>,
) -> Option<String> {
    let drafts: Vec<Draft<'_>> = wanted
        .iter()
        .filter(|id| !wishes.assumed.contains_key(id))
        .filter_map(|id| Draft::of(*id, &board.needs[*id], wishes.providers.get(id), prober))
        .collect();
    let mut questions: BTreeSet<Question> =
        drafts.iter().flat_map(|draft| draft.questions.iter().map(|asked| asked.question.clone())).collect();
    let languages: BTreeSet<Language> = drafts.iter().filter_map(Draft::compiler_asked).collect();
    questions.extend(languages.iter().map(|language| nothing_to_it(*language, Body::Links(Vec::new()))));
    // Programs are asked for their versions while compilers are at work.
    let (answers, looks) = std::thread::scope(|scope| {
        let any = drafts.iter().any(|draft| !draft.programs.is_empty());
        let looking = any.then(|| scope.spawn(|| ask_programs(&drafts, prober)));
        let answers = join::answer(&questions, prober);
        let looks = looking.and_then(|looking| looking.join().ok());
        (answers, looks.unwrap_or_else(|| drafts.iter().map(|_| Look::default()).collect()))
    });
    let health: BTreeMap<Language, Health> =
        languages.iter().map(|language| (*language, health(*language, &answers, prober))).collect();
    for (draft, look) in drafts.into_iter().zip(looks) {
        let (id, definition) = (draft.id, &board.needs[draft.id]);
        let provider = wishes.providers.get(&id).cloned();
        facts.insert(id, judge::judge(draft, look, &answers, &health, definition, provider, prober));
    }
    health.values().find_map(|health| match health {
        Health::Sound => None,
        Health::CannotLink(words) | Health::Broken(words) => Some(words.clone()),
    })
}

fn with_members(board: &Board, wanted: &BTreeSet<NeedId>) -> BTreeSet<NeedId> {
    let mut all = BTreeSet::new();
    let mut open: Vec<NeedId> = wanted.iter().copied().collect();
    while let Some(id) = open.pop() {
        if !all.insert(id) {
            continue;
        }
        match &board.needs[id].check {
            NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) => open.extend(members),
            NeedCheck::Host(_) => {}
        }
    }
    all
}

fn nothing_to_it(language: Language, body: Body) -> Question {
    Question { setting: Setting { language, flags: Vec::new(), headers: Vec::new() }, body }
}

fn ask_programs(drafts: &[Draft<'_>], prober: Prober<'_>) -> Vec<Look> {
    let looks: Vec<Mutex<Look>> = drafts.iter().map(|_| Mutex::default()).collect();
    let numbered: Vec<(usize, &Draft<'_>)> =
        drafts.iter().enumerate().filter(|(_, draft)| !draft.programs.is_empty()).collect();
    join::in_parallel(&numbered, prober.host.jobs, |(number, draft)| {
        let mut look = Look::default();
        for question in &draft.programs {
            look.answers.push(program::ask(question, prober, &mut look.evidence));
        }
        *looks[*number].lock().unwrap_or_else(std::sync::PoisonError::into_inner) = look;
    });
    looks.into_iter().map(|look| look.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner)).collect()
}

/// Whether a compiler's "no" means anything.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Health {
    /// It makes programs.
    Sound,
    /// It compiles, and cannot link the plainest program.
    CannotLink(String),
    /// It fails on everything.
    Broken(String),
}

fn health(language: Language, answers: &BTreeMap<Question, Answer>, prober: Prober<'_>) -> Health {
    let compiler = match prober.compiler(language) {
        Ok(compiler) => compiler,
        Err(fault) => return Health::Broken(fault.to_string()),
    };
    let links = nothing_to_it(language, Body::Links(Vec::new()));
    let Some(answer) = answers.get(&links).filter(|answer| !answer.yes) else { return Health::Sound };
    let compiles = nothing_to_it(language, Body::Code("int bolt_plain;".into()));
    let compiled = join::answer(&[compiles.clone()].into(), prober);
    let name = compiler.path.display();
    let first = |answer: &Answer| judge::telling_line(&answer.words);
    match compiled.get(&compiles) {
        Some(answer) if !answer.yes => {
            Health::Broken(format!("`{name}` fails on the plainest program: {}", first(answer)))
        }
        _ => Health::CannotLink(format!("`{name}` cannot link the plainest program: {}", first(answer))),
    }
}

fn assumed(id: NeedId, definition: &NeedDef, assumption: &Assumption) -> Fact {
    let link = match &definition.check {
        NeedCheck::Host(check) => check.link.iter().map(|name| format!("-l{name}")).collect(),
        NeedCheck::AnyOf(_) | NeedCheck::AllOf(_) => Vec::new(),
    };
    let state = match assumption {
        Assumption::NotThere => FactState::Missing(Missing::Absent),
        Assumption::There(version) => match judge::judge_version(definition, version.as_deref()) {
            Err(missing) if version.is_some() => FactState::Missing(missing),
            _ => FactState::Found(Found { version: version.clone(), link_flags: link, ..Found::default() }),
        },
    };
    Fact::plain(id, state, FactSource::Assumed)
}

/// Makes the fact about a need that is made of others, from the facts about those.
fn compose(board: &Board, id: NeedId, wishes: &Wishes, facts: &mut BTreeMap<NeedId, Fact>) {
    if facts.contains_key(&id) {
        return;
    }
    let (members, any) = match &board.needs[id].check {
        NeedCheck::AnyOf(members) => (members, true),
        NeedCheck::AllOf(members) => (members, false),
        NeedCheck::Host(_) => return,
    };
    members.iter().for_each(|member| compose(board, *member, wishes, facts));
    let provider = wishes.providers.get(&id);
    let candidates: Vec<NeedId> = match provider {
        Some(Provider::Need(member)) => vec![*member],
        _ => members.clone(),
    };
    let (met, lacking): (Vec<NeedId>, Vec<NeedId>) =
        candidates.iter().partition(|member| facts.get(member).is_some_and(Fact::is_met));
    let met_by: Vec<NeedId> = if any { met.first().copied().into_iter().collect() } else { met };
    let is_met = if any { !met_by.is_empty() } else { lacking.is_empty() };
    let state = match (provider, board.needs[id].bundled) {
        (Some(Provider::Bundled), Some(part)) => FactState::Bundled(part),
        (Some(Provider::Off), _) => {
            let there = if is_met { Presence::There(None) } else { Presence::NotThere };
            FactState::Missing(Missing::SwitchedOff { there })
        }
        _ if is_met => match met_by.first().and_then(|first| facts.get(first)).map(|fact| &fact.state) {
            Some(FactState::Found(found)) if any => FactState::Found(Found {
                version: found.version.clone(),
                place: found.place.clone(),
                ..Found::default()
            }),
            Some(FactState::Bundled(part)) if any => FactState::Bundled(*part),
            _ => FactState::Found(Found::default()),
        },
        (Some(Provider::System), _) | (_, None) => FactState::Missing(Missing::Others { lacking }),
        (_, Some(part)) => FactState::Bundled(part),
    };
    let made_of =
        if is_met && !matches!(provider, Some(Provider::Bundled | Provider::Off)) { met_by } else { Vec::new() };
    let evidence = candidates.iter().filter_map(|member| facts.get(member)).map(|fact| Evidence {
        tried: format!("the need {}", board.needs[fact.need].name),
        found: if fact.is_met() { "met" } else { "not met" }.to_string(),
        ..Evidence::default()
    });
    let evidence = evidence.collect();
    let mut fact = Fact::plain(id, state, FactSource::Looked);
    (fact.evidence, fact.met_by, fact.provider) = (evidence, made_of, provider.cloned());
    facts.insert(id, fact);
}

/// Where metadata files of the target are looked for.
fn metadata_search(folders: Vec<PathBuf>, language: Language, prober: Prober<'_>) -> MetadataSearch {
    let compiler = prober.compiler(language).ok();
    let known =
        compiler.into_iter().flat_map(|c| c.include_folders.iter().chain(&c.library_folders)).cloned().collect();
    MetadataSearch { folders, sysroot: prober.host.sysroot.clone(), known_folders: known }
}

/// Reads a library's metadata as the survey of this host would.
fn read_metadata(
    name: &str,
    folders: Vec<PathBuf>,
    linkage: LibraryLinkage,
    language: Language,
    prober: Prober<'_>,
) -> Result<Metadata, MetadataFault> {
    let search = metadata_search(folders, language, prober);
    Metadata::read_noting(name, &search, linkage, &mut |place| prober.memo.note(place))
}
