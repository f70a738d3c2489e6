//! What most commands start from: the core's session, with what was typed and where answers go. Its faults are told here.

use std::collections::BTreeMap;
use std::ops::{Deref, DerefMut};
use std::path::{Path, PathBuf};

use boltboard_core::base::shell_word;
use boltboard_core::board::{Asked, NEED_PREFIX, NeedId, OptionId, TryFault};
use boltboard_core::definitions::TreeFault;
use boltboard_core::judge::{Preview, Standing, Sweep, Touched};
use boltboard_core::launch::SmallHelper;
use boltboard_core::profile::{Choices, ProfileName, ProfileSource};
use boltboard_core::session::{
    Begun, Memory, OwnProgram, Planned, Resolved, Scope, Session as Core, SessionFault, Surroundings, WORK, Whereabouts,
};
use boltboard_core::shared::{ObjectAccess, Secret, Sharing, SharingEnvironment};
use boltboard_core::survey::Facts;
use boltboard_core::work::{Stamp, WorkLock};

use crate::args::Global;
use crate::fault::{Diagnostic, Exit, Next, Stop};
use crate::helper;
use crate::render::survey::changed_host;
use crate::render::{Screen, names};

/// A tree that was read, what was typed for every command, and where answers go.
pub struct Session {
    core: Core,
    /// What was typed for every command.
    pub global: Global,
    /// Where remarks go.
    pub screen: Screen,
}

impl Deref for Session {
    type Target = Core;
    fn deref(&self) -> &Core {
        &self.core
    }
}

impl DerefMut for Session {
    fn deref_mut(&mut self) -> &mut Core {
        &mut self.core
    }
}

impl Session {
    /// Reads the tree that the arguments name.
    pub fn open(global: &Global, screen: &Screen) -> Result<Session, Stop> {
        let core = Core::open(scope(global), around(global)?)?;
        Ok(Session { core, global: global.clone(), screen: *screen })
    }

    /// The same, where there is a tree: without one that is named, there may be none.
    pub fn open_if_any(global: &Global, screen: &Screen) -> Result<Option<Session>, Stop> {
        match Core::open(scope(global), around(global)?) {
            Ok(core) => Ok(Some(Session { core, global: global.clone(), screen: *screen })),
            Err(SessionFault::Tree(TreeFault::NoTree(_))) if global.tree.is_none() => Ok(None),
            Err(fault) => Err(fault.into()),
        }
    }

    /// The core's session, whose faults are not told yet.
    pub fn core(&self) -> &Core {
        &self.core
    }

    fn told<T>(&self, result: Result<T, SessionFault>) -> Result<T, Stop> {
        result.map_err(|fault| Stop::of(fault, Some(&self.core)))
    }

    /// Looks an option up as a person names it. A name of another kind leads to what knows about it.
    pub fn find_option(&self, name: &str) -> Result<OptionId, Stop> {
        self.core.board.find_option(name).map_err(|fault| self.led_on(fault, name))
    }

    /// Looks a need up as a person names it, likewise.
    pub fn find_need(&self, name: &str) -> Result<NeedId, Stop> {
        let plain = name.strip_prefix(NEED_PREFIX).unwrap_or(name);
        self.core.board.find_need(plain).map_err(|fault| self.led_on(fault, name))
    }

    /// Reads a choice as a person gives it, likewise.
    pub fn read_asked(&self, text: &str) -> Result<Asked, Stop> {
        let name = text.split('=').next().unwrap_or_default().trim();
        self.core.board.read_asked(text).map_err(|fault| {
            let fits = || format!("boltboard set {}", shell_word(&format!("{NEED_PREFIX}{text}")));
            let as_need = self.core.board.read_asked(&format!("{NEED_PREFIX}{text}")).is_ok();
            let mut stop = self.led_on(fault, name);
            if let Some(first) = stop.diagnostics.first_mut().filter(|_| as_need) {
                first.next.insert(0, Next::new(fits(), "say what meets this need"));
            }
            stop
        })
    }

    fn led_on(&self, fault: TryFault, name: &str) -> Stop {
        let unknown = matches!(fault, TryFault::Unknown { .. } | TryFault::UnknownNeed { .. });
        let mut stop = Stop::from(fault);
        if unknown {
            stop.diagnostics = stop
                .diagnostics
                .into_iter()
                .map(|diagnostic| {
                    // What the name is comes before a search for it.
                    let search = diagnostic.next.clone();
                    let mut led = names::lead_on(Diagnostic { next: vec![], ..diagnostic }, self, name);
                    led.next.extend(search);
                    led
                })
                .collect();
        }
        stop
    }

    /// Makes the plan of a build that is to be made.
    pub fn plan_to_build(&self, resolved: &Resolved) -> Result<Planned, Stop> {
        self.told(self.core.plan_to_build(resolved))
    }

    /// Returns whether a profile exists, and where it comes from.
    pub fn source_of(&self, profile: &ProfileName) -> Result<Option<ProfileSource>, Stop> {
        self.told(self.core.source_of(profile))
    }

    /// Reads a profile's choices, with those of `--try` on top.
    pub fn choices_of(&self, profile: &ProfileName) -> Result<Choices, Stop> {
        self.told(self.core.choices_of(profile))
    }

    /// Reads a profile's choices as if its file held `text`.
    pub fn choices_as(&self, name: &ProfileName, text: &str) -> Result<Choices, Stop> {
        self.told(self.core.choices_as(name, text))
    }

    /// Resolves the profile in use as if its file held `text`.
    pub fn resolve_as(&self, text: &str) -> Result<Resolved, Stop> {
        self.resolve_told(&self.profile, self.choices_as(&self.profile, text)?)
    }

    /// Resolves the profile in use with these choices on top.
    pub fn resolve_with(&self, asked: &[String]) -> Result<Resolved, Stop> {
        self.resolve_told(&self.profile, self.choices_of(&self.profile)?.with_tried(&self.board, asked)?)
    }

    /// Looks for the tree's needs and resolves the profile in use.
    pub fn resolve(&self) -> Result<Resolved, Stop> {
        self.resolve_profile(&self.profile)
    }

    /// The same for a named profile.
    pub fn resolve_profile(&self, profile: &ProfileName) -> Result<Resolved, Stop> {
        self.resolve_told(profile, self.choices_of(profile)?)
    }

    fn resolve_told(&self, profile: &ProfileName, choices: Choices) -> Result<Resolved, Stop> {
        let facts = self.facts_for(profile, &choices)?;
        self.told(self.core.resolve(choices, facts))
    }

    /// Resolves choices that are no profile's yet.
    pub fn resolve_these(&self, choices: Choices, facts: Facts) -> Result<Resolved, Stop> {
        self.told(self.core.resolve(choices, facts))
    }

    /// Looks for everything that the tree needs, and names what changed on the host since the profile was built.
    pub fn facts(&self, choices: &Choices) -> Result<Facts, Stop> {
        self.facts_for(&self.profile, choices)
    }

    fn facts_for(&self, profile: &ProfileName, choices: &Choices) -> Result<Facts, Stop> {
        let facts = self.told(self.core.facts(choices))?;
        let changes = self.changes_since_built(profile, choices, &facts);
        if !changes.is_empty() {
            // Nothing is swapped without a word.
            self.screen.remark(changed_host(&changes, profile).trim_end());
        }
        Ok(facts)
    }

    /// Makes the plan of the profile's build.
    pub fn plan(&self, resolved: &Resolved) -> Result<Planned, Stop> {
        self.told(self.core.plan(resolved))
    }

    /// The same for a named profile.
    pub fn plan_of(&self, profile: &ProfileName, resolved: &Resolved) -> Result<Planned, Stop> {
        self.told(self.core.plan_of(profile, resolved))
    }

    /// Makes the plan of what was touched since a sealed build, with what it is judged by, or else that of everything.
    pub fn plan_since(
        &self,
        resolved: &Resolved,
        sweep: Option<&Sweep<'_>>,
    ) -> Result<(Planned, Option<Touched>), Stop> {
        self.told(self.core.plan_since(resolved, sweep))
    }

    /// Tells what a build by a plan would do; the plan may be one of what was touched.
    pub fn preview(&self, planned: &Planned, touched: Option<&Touched>) -> Result<Preview, Stop> {
        self.told(self.core.preview(planned, touched))
    }

    /// Returns what a plan is judged by.
    pub fn memory_of(&self, planned: &Planned) -> Result<Memory, Stop> {
        self.told(self.core.memory(planned))
    }

    /// Waits for other builds in the work folder to end, and tells of it.
    pub fn lock(&self) -> Result<WorkLock, Stop> {
        use boltboard_core::work::Locking;
        match self.told(self.core.lock())? {
            Locking::Taken(lock) => Ok(lock),
            Locking::Held(waiting) => {
                let who = waiting.holder.map_or(String::new(), |pid| format!(" (process {pid})"));
                let place = self.work.root().display();
                self.screen.remark(&format!("Another build is at work in {place}{who}; waiting for it to end."));
                Ok(waiting.wait()?)
            }
        }
    }

    /// Begins a build of the profile in use.
    pub fn begin<'a, 's>(
        &self,
        resolved: Resolved,
        sweep: Option<&'a Sweep<'s>>,
        start: boltboard_core::session::Start,
    ) -> Result<Begun<'a, 's>, Stop> {
        self.told(self.core.begin(resolved, sweep, start))
    }

    /// Makes sure that a build which waited goes by how things stand now.
    pub fn settle<'a, 's>(&self, begun: Begun<'a, 's>) -> Result<Begun<'a, 's>, Stop> {
        self.told(self.core.settle(begun))
    }
}

/// Reads another version of a tree, with what was made of it in its own folder.
pub fn other_version(session: &Session, folder: &Path) -> Result<Core, Stop> {
    let scope = Scope { tree: Some(folder.to_path_buf()), work: Some(folder.join(WORK)), ..Scope::default() };
    let core = Core::open(scope, surroundings()?).map_err(|fault| Stop::of(fault, None))?;
    let (here, there) = (&session.board.tree.name, &core.board.tree.name);
    if here != there {
        let message = format!("{} holds the tree {there}, not {here}", folder.display());
        return Err(Stop::new(Exit::WrongUse, Diagnostic::new(message).help("name another version of this tree")));
    }
    Ok(core)
}

/// Reads the tree that the arguments name; nothing is told where that fails.
pub fn open_silently(global: &Global) -> Option<Core> {
    Core::open(scope(global), surroundings().ok()?).ok()
}

/// How the last build of the profile in use stands, told from its seal alone.
pub struct LastBuild {
    place: Whereabouts,
    scope: Scope,
    around: Surroundings,
    seal: Option<boltboard_core::judge::SealFile>,
}

impl LastBuild {
    /// Reads its seal.
    pub fn read(global: &Global) -> Result<LastBuild, Stop> {
        let (scope, around) = (scope(global), surroundings()?);
        let place = Whereabouts::find(&scope, &around)?;
        let seal = place.seal(&scope);
        Ok(LastBuild { place, scope, around, seal })
    }

    /// Looks how it stands, if it is a build of what is asked.
    pub fn standing(&self) -> Option<Standing<'_>> {
        self.place.standing(self.seal.as_ref()?, &self.scope, &self.around)
    }

    /// Where the build lies.
    pub fn place(&self) -> &Whereabouts {
        &self.place
    }
}

/// What was typed, as the core takes it.
pub fn scope(global: &Global) -> Scope {
    let Global { tree, sources, work, profile, tried, assume, forbid, facts, json: _, store_at: _ } = global.clone();
    Scope { tree, sources, work, profile, tried, assume, forbid, facts, with_add_on: None }
}

/// This process and what is said about shared results.
fn around(global: &Global) -> Result<Surroundings, Stop> {
    Ok(Surroundings { sharing: sharing(global)?, ..surroundings()? })
}

/// The name of the small program that lies beside this one and helps with steps.
const SMALL: &str = "boltboard-steps";

/// This process, as the core takes it.
pub fn surroundings() -> Result<Surroundings, Stop> {
    let folder = std::env::current_dir().map_err(|e| Stop::usage(format!("cannot find the current folder: {e}")))?;
    let own = std::env::current_exe().ok();
    // What tells it from other versions of it, also while it is being worked on.
    let stamp = own.as_deref().and_then(Stamp::of);
    Ok(Surroundings {
        folder,
        variables: variables(),
        program: format!("{} {stamp:?}", env!("CARGO_PKG_VERSION")),
        own: own.map(|file| OwnProgram {
            small: SmallHelper::beside(&file, SMALL),
            file,
            gate: helper::GATE,
            guard: helper::GUARD,
            serve: crate::SERVE,
            hold: crate::HOLD,
        }),
        cores: cores(),
        sharing: Sharing::default(),
    })
}

/// The file in which a person says where results are shared. It never lies in a tree.
pub fn shared_file() -> PathBuf {
    let variable = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty()).map(PathBuf::from);
    let folder = variable("XDG_CONFIG_HOME").or_else(|| Some(variable("HOME")?.join(".config")));
    folder.unwrap_or_else(|| PathBuf::from("/etc")).join("boltboard/store.toml")
}

/// The file in which a person says which other machines take steps of builds. It never lies in a tree.
pub fn crew_file() -> PathBuf {
    shared_file().with_file_name("workers.toml")
}

/// Where results are shared, as it was typed or the person says.
pub fn sharing(global: &Global) -> Result<Sharing, Stop> {
    let variable = |name: &str| std::env::var(name).ok().filter(|value| !value.is_empty());
    let secret = |name: &str| variable(name).map(|text| Secret::new(&text));
    // A key with its name is one thing: half of it is none.
    let access = variable("AWS_ACCESS_KEY_ID").zip(secret("AWS_SECRET_ACCESS_KEY"));
    let session = || secret("AWS_SESSION_TOKEN");
    let told = SharingEnvironment {
        token: secret("BOLTBOARD_STORE_TOKEN"),
        access: access.map(|(key, secret)| ObjectAccess { key, secret, session: session() }),
        region: variable("AWS_REGION"),
    };
    Ok(Sharing::of(global.store_at.as_deref(), told, &shared_file())?)
}

/// How many processors there are.
pub fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// The environment of this process; what is no text in it is made one.
fn variables() -> BTreeMap<String, String> {
    let text = |text: std::ffi::OsString| text.to_string_lossy().into_owned();
    std::env::vars_os().map(|(name, value)| (text(name), text(value))).collect()
}

/// Reads a profile's name as typed.
pub fn profile_name(text: &str) -> Result<ProfileName, Stop> {
    ProfileName::parse(text).ok_or_else(|| SessionFault::ProfileName(text.into()).into())
}
