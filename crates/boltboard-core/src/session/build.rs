//! Building, and holding what was built against a clean build.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use tracing::debug;

use super::entry::{course_of, entry_of, millis};
use super::fault::SessionFault;
use super::hand::Finished;
use super::open::{Resolved, Session};
use super::place::{Whereabouts, first_profile};
use super::plan::Planned;
use super::shared::asked;
use crate::base::files::{write_quickly, write_whole};
use crate::board::PartId;
use crate::judge::{Sealed, Since, Sweep, Touched};
use crate::plan::Plan;
use crate::reading::TokenMemo;
use crate::record::Handed;
use crate::run::{
    AfterFailure, BuildInput, BuildReport, Jobs, Reads, Verification, Watch, Watching, available_memory, build, verify,
};
use crate::shared::{Gets, Others, OthersReport};
use crate::step::StepId;
use crate::store::StoreLimits;
use crate::work::{Ledger, LedgerEntry, Locking, StatusMemo, WorkLock, folder_bytes};
use crate::workers::{Crew, CrewConfig, CrewReport};

/// How often the store is looked through for what it need not keep.
const TRIMMED_EVERY: Duration = Duration::from_secs(24 * 60 * 60);

/// When a command started.
#[derive(Debug, Clone, Copy)]
pub struct Start {
    /// As measured.
    pub instant: Instant,
    /// By the clock.
    pub time: SystemTime,
}

impl Start {
    /// It starts now.
    pub fn now() -> Start {
        Start { instant: Instant::now(), time: SystemTime::now() }
    }
}

/// How a build is to go.
#[derive(Debug, Clone)]
pub struct BuildAsk {
    /// The parts to build, with all that they need; everything when none is named.
    pub parts: Vec<PartId>,
    /// How many steps run at once; else as many as there are processors.
    pub jobs: Option<usize>,
    /// The load of the machine above which no step is started beside others.
    pub load: Option<f64>,
    /// What to do after a failure.
    pub after_failure: AfterFailure,
    /// Whether generators may read what they do not declare; asked when a build is verified.
    pub reads: Reads,
    /// Other machines that take steps.
    pub on: Option<CrewConfig>,
}

impl Default for BuildAsk {
    /// Everything, as many jobs as there are processors, no more steps after a failure, and generators may read what they like.
    fn default() -> BuildAsk {
        BuildAsk {
            parts: Vec::new(),
            jobs: None,
            load: None,
            after_failure: AfterFailure::Stop,
            reads: Reads::Free,
            on: None,
        }
    }
}

/// A build that has begun: it is planned, and nothing was run.
pub struct Begun<'a, 's> {
    /// The values.
    pub resolved: Resolved,
    /// The plan.
    pub planned: Planned,
    touched: Option<Touched>,
    sweep: Option<&'a Sweep<'s>>,
    start: Start,
    /// Results of others, where they are shared.
    others: Option<Arc<Others>>,
}

/// What a build came to.
#[derive(Debug)]
pub struct Built {
    /// What was done.
    pub report: BuildReport,
    /// What the ledger says of it.
    pub entry: LedgerEntry,
    /// What came from others and went to them, where results are shared.
    pub shared: Option<OthersReport>,
    /// What came of the other machines, where any were asked for.
    pub crew: Option<CrewReport>,
}

/// What holding a build against a clean one came to.
#[derive(Debug)]
pub struct Verified {
    /// What was found.
    pub verification: Verification,
    /// How long it took, in milliseconds.
    pub wall_ms: u64,
}

impl Whereabouts {
    /// Notes a build of which nothing was to do: its seal stood. Returns what was done, and what the ledger says of it.
    ///
    /// # Errors
    /// The ledger cannot be written.
    pub fn note_whole(&self, sealed: &Sealed, start: Start) -> Result<(BuildReport, LedgerEntry), SessionFault> {
        let report = BuildReport { current: sealed.steps, ..BuildReport::default() };
        let wall_ms = millis(start.instant.elapsed());
        let entry = entry_of(&self.profile, None, &report, start.time, wall_ms, sealed.output_bytes);
        Ledger::append(&self.work.ledger(), &entry)?;
        Ok((report, entry))
    }
}

/// How long a build waits at its end until what it made is given to others.
const FOR_OTHERS: Duration = Duration::from_secs(20);

impl Session {
    /// Begins a build of the profile in use: plans it and makes the work folder ready. Where it is known what has changed since the last
    /// build, only what that touches is looked at.
    ///
    /// # Errors
    /// The answers are about something that is only supposed, there is no plan, or the work folder cannot be written.
    pub fn begin<'a, 's>(
        &self,
        resolved: Resolved,
        sweep: Option<&'a Sweep<'s>>,
        start: Start,
    ) -> Result<Begun<'a, 's>, SessionFault> {
        self.only_real()?;
        let others = self.others_of(&resolved)?;
        let (planned, touched) = match sweep {
            Some(_) if self.scope.tried.is_empty() => self.plan_since(&resolved, sweep)?,
            Some(_) | None => (self.plan_to_build(&resolved)?, None),
        };
        debug!(steps = planned.plan.steps.iter().count(), rest = planned.plan.rest, "planned");
        self.prepare_work()?;
        self.drop_mirror(&planned.folders)?;
        if self.work.active()?.is_none() {
            // From now on, a work folder that names none has lost it.
            self.work.set_active(&first_profile()?)?;
        }
        self.keep_probes();
        self.accept_host(&resolved.choices, &resolved.facts)?;
        self.remember_options()?;
        Ok(Begun { resolved, planned, touched, sweep, start, others })
    }

    /// Asks for the work folder's lock, which one build at a time has.
    ///
    /// # Errors
    /// The lock file cannot be used.
    pub fn lock(&self) -> Result<Locking, SessionFault> {
        Ok(WorkLock::ask(&self.work)?)
    }

    /// Makes sure that a build which waited for the lock goes by how things stand now.
    ///
    /// # Errors
    /// As for [`Session::plan`].
    pub fn settle<'a, 's>(&self, begun: Begun<'a, 's>) -> Result<Begun<'a, 's>, SessionFault> {
        let stale = begun.touched.is_some() && begun.sweep.is_some_and(|sweep| !sweep.is_fresh());
        if !stale {
            return Ok(begun);
        }
        // Another build has ended since.
        Ok(Begun { planned: self.plan_to_build(&begun.resolved)?, touched: None, ..begun })
    }

    /// Builds. The lock is held until the end.
    ///
    /// # Errors
    /// The work folder cannot be read or written, or this program is wrong. Steps that fail are in the report instead.
    pub fn build(
        &self,
        begun: &Begun<'_, '_>,
        _lock: &WorkLock,
        ask: &BuildAsk,
        watch: &mut dyn Watch,
    ) -> Result<Built, SessionFault> {
        let Begun { resolved, planned, touched, sweep, start, others } = begun;
        let of_all = if touched.is_none() { StatusMemo::load(&self.work.status()) } else { StatusMemo::default() };
        let status = touched.as_ref().map_or(&of_all, |touched| &touched.status);
        self.watch_and_guard();
        let since = touched.as_ref().zip(*sweep).map(|(touched, sweep)| Since {
            journal: &touched.journal,
            parts: &touched.parts,
            sweep,
        });
        let only = only_of(&planned.plan, &ask.parts);
        let crew = self.crew(ask);
        if let Some(others) = others {
            others.asks(asked(&planned.plan, Gets::Worth));
        }
        let input = BuildInput {
            plan: &planned.plan,
            store: &self.store_with(others.as_ref()),
            status,
            tokens: &TokenMemo::default(),
            launch: &self.launch,
            tools: &planned.tools,
            logs: self.work.logs(),
            jobs: self.jobs(ask),
            crew: crew.as_ref(),
            // A build of some parts leaves the others as they are, and says nothing of them.
            seal: self.seal_wanted(resolved, planned, touched.as_ref()).filter(|_| ask.parts.is_empty()),
            since,
            reads: Reads::Free,
            only: only.clone(),
            watching: watching(start.time),
            after_failure: ask.after_failure,
            stopped: &|| self.launch.is_stopped(),
        };
        debug!("begins");
        Handed::open(&planned.folders)?;
        let built = build(&input, watch);
        let crew = crew.map(Crew::end);
        let mut report = built?;
        debug!("built");
        let finished = match &only {
            _ if report.interrupted || !report.failures.is_empty() => Finished::Done(&report),
            Some(steps) => Finished::Of(steps),
            None => Finished::All,
        };
        let handed = self.hand_over(resolved, planned, &finished, !report.removed.is_empty())?;
        report.set_aside.extend(handed.set_aside);
        report.mended = handed.mended;
        debug!("handed over");
        if touched.is_none() {
            status.save(&self.work.status())?;
        }
        let wall_ms = millis(start.instant.elapsed());
        let size = folder_bytes(&planned.folders.parts());
        let mut entry = entry_of(&self.profile, Some(&planned.plan), &report, start.time, wall_ms, size);
        if !self.scope.tried.is_empty() {
            entry.profile.push_str(" --try");
        }
        entry.reasons = self.main_reasons(&planned.plan, &report);
        entry.disk = self.disk(&planned.folders, &report, entry.steps)?;
        entry.shared = others.as_ref().map_or(0, |others| others.taken());
        Ledger::append(&self.work.ledger(), &entry)?;
        // Before the store forgets anything.
        let shared = others.as_ref().map(|others| others.finish(FOR_OTHERS));
        self.trim_store()?;
        if !report.spans.is_empty() {
            course_of(&planned.plan, &report, entry.started_s).save(&planned.folders.build)?;
        }
        debug!("noted");
        Ok(Built { report, entry, shared, crew })
    }

    /// Compares what was built with a clean build by a plan of everything; the clean build is removed afterwards. The lock is held until
    /// the end.
    ///
    /// # Errors
    /// As for [`Session::build`].
    pub fn verify(
        &self,
        (resolved, planned): (&Resolved, &Planned),
        _lock: &WorkLock,
        ask: &BuildAsk,
        watch: &mut dyn Watch,
    ) -> Result<Verified, SessionFault> {
        let started = Instant::now();
        let side = self.work.scratch()?;
        self.watch_and_guard();
        let clean = BuildInput {
            plan: &planned.plan,
            store: &self.store(),
            status: &StatusMemo::load(&self.work.status()),
            tokens: &TokenMemo::default(),
            launch: &self.launch,
            tools: &planned.tools,
            logs: self.work.logs(),
            jobs: self.jobs(ask),
            crew: None,
            seal: None,
            since: None,
            only: None,
            watching: Watching::All,
            reads: ask.reads,
            after_failure: ask.after_failure,
            stopped: &|| self.launch.is_stopped(),
        };
        let mut verification = verify(&clean, side.path(), watch)?;
        if verification.files > 0 {
            verification.differences.extend(self.verify_handed(resolved, planned)?);
        }
        Ok(Verified { verification, wall_ms: millis(started.elapsed()) })
    }

    /// How many jobs: as told, else as there are processors; in either case as the memory that can be had now allows.
    pub fn jobs(&self, ask: &BuildAsk) -> Jobs {
        let count = ask.jobs.unwrap_or(self.around.cores);
        Jobs { memory: available_memory(), load: ask.load, ..Jobs::of(count) }
    }

    /// Begins to reach the other machines that are asked for.
    fn crew(&self, ask: &BuildAsk) -> Option<Crew> {
        let (own, config) = (self.around.own.as_ref()?, ask.on.as_ref()?);
        let crew = Crew::start(config, own.on_others());
        crew.wait(config.wait, &|| self.launch.is_stopped());
        Some(crew)
    }

    /// Sees to it that what is to be watched is.
    pub(super) fn watch(&self) {
        if let Some(own) = &self.around.own {
            self.launch.watch_with(own.gate());
        }
    }

    /// Sees to it that steps are watched, and end with this process.
    fn watch_and_guard(&self) {
        let Some(own) = &self.around.own else { return };
        self.watch();
        // Without one, steps outlive a tool that is killed; that is no reason not to build.
        if let Ok(guard) = own.guard() {
            self.launch.guard_with(guard);
        }
    }

    /// Takes down which options there are, so that later ones can be told as new.
    fn remember_options(&self) -> Result<(), SessionFault> {
        let names: Vec<&str> = self.board.option_names.iter().collect();
        let (file, text) = (self.work.known_options(), format!("{}\n", names.join("\n")));
        if std::fs::read(&file).is_ok_and(|before| before == text.as_bytes()) {
            return Ok(());
        }
        Ok(write_whole(&file, text.as_bytes())?)
    }

    /// Keeps the store within its limits; a look a day is enough.
    fn trim_store(&self) -> Result<(), SessionFault> {
        let mark = self.work.store_trimmed();
        let last = std::fs::metadata(&mark).and_then(|status| status.modified()).ok();
        let now = SystemTime::now();
        if last.is_none_or(|last| now.duration_since(last).is_ok_and(|age| age > TRIMMED_EVERY)) {
            if last.is_some() {
                self.store().trim(StoreLimits::load(&self.work.store_limits()), now)?;
            }
            write_quickly(&mark, b"")?;
        }
        Ok(())
    }
}

impl Begun<'_, '_> {
    /// Tells whether only what was touched since the last build is planned.
    pub fn is_partial(&self) -> bool {
        self.touched.is_some()
    }
}

/// The steps that some parts need; all when none is named.
fn only_of(plan: &Plan, parts: &[PartId]) -> Option<BTreeSet<StepId>> {
    (!parts.is_empty()).then(|| plan.needed_for(parts))
}

/// Which compiles are watched beside those that must be: others each time.
fn watching(now: SystemTime) -> Watching {
    Watching::Some { seed: now.duration_since(UNIX_EPOCH).map_or(0, |since| u64::from(since.subsec_nanos())) }
}
