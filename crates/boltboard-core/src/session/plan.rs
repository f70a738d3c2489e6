//! Plans, and what they are judged by.

use super::fault::SessionFault;
use super::open::{Resolved, Session};
use crate::base::web::Address;
use crate::definitions::{Listing, check_sources};
use crate::journal::Journal;
use crate::judge::{Judge, Preview, Sweep, Touched, Touching, preview};
use crate::plan::{Plan, PlanInput, Wanted, lower, lower_some};
use crate::profile::ProfileName;
use crate::reading::TokenMemo;
use crate::shared::Gets;
use crate::step::{Tool, ToolPlace};
use crate::store::Store;
use crate::survey::Tools;
use crate::work::{Folders, StatusMemo, WorkFolder};

/// A plan with what it was made of.
#[derive(Debug)]
pub struct Planned {
    /// The tree's files.
    pub listing: Listing,
    /// The compilers and other tools.
    pub tools: Tools,
    /// Where everything lies.
    pub folders: Folders,
    /// The plan.
    pub plan: Plan,
    /// Where the profile has results shared.
    pub store: Option<Address>,
}

/// What the steps of a profile last did, with all else that a plan of everything is judged by.
pub struct Memory {
    /// What its steps last did.
    pub journal: Journal,
    /// Results of any profile and day.
    pub store: Store,
    /// Contents of files.
    pub status: StatusMemo,
    /// Names in files.
    pub tokens: TokenMemo,
}

impl Memory {
    /// Returns what judges the steps of a plan.
    pub fn judge<'a>(&'a self, plan: &'a Plan) -> Judge<'a> {
        Judge::new(plan, &self.journal, &self.store, &self.status, &self.tokens)
    }
}

impl Session {
    /// Makes the plan of the profile's build.
    ///
    /// # Errors
    /// The definitions do not fit the files, or what was chosen cannot be built.
    pub fn plan(&self, resolved: &Resolved) -> Result<Planned, SessionFault> {
        self.plan_of(&self.profile, resolved)
    }

    /// The same for a named profile.
    ///
    /// # Errors
    /// As for [`Session::plan`].
    pub fn plan_of(&self, profile: &ProfileName, resolved: &Resolved) -> Result<Planned, SessionFault> {
        let folders = self.work.folders(&self.board.tree.source_root, profile);
        self.plan_in(self.with_changes(folders, &resolved.choices)?, resolved)
    }

    /// Makes the plan of a build in these folders.
    fn plan_in(&self, folders: Folders, resolved: &Resolved) -> Result<Planned, SessionFault> {
        let absent = self.not_fetched(resolved);
        if !absent.is_empty() {
            return Err(SessionFault::NotFetched(absent));
        }
        let listing = Listing::of(&folders.tree);
        let problems = check_sources(&self.board, &listing);
        if !problems.is_empty() {
            return Err(SessionFault::Sources(problems));
        }
        let tools = self.tools(&listing, resolved);
        match lower(self.input_of(resolved, &listing, &tools, &folders)) {
            Ok(plan) => {
                self.keep_units();
                self.has_compiler(&plan, resolved)?;
                Ok(Planned { listing, tools, folders, plan, store: resolved.choices.store.clone() })
            }
            Err(problems) => {
                let (choices, facts) = (Box::new(resolved.choices.clone()), Box::new(resolved.facts.clone()));
                Err(SessionFault::Plan { problems, choices, facts })
            }
        }
    }

    /// Keeps what Fortran sources say; where that cannot be, they are read again.
    fn keep_units(&self) {
        if self.work.exists() {
            let _ = self.units.save();
        }
    }

    /// Checks that what compiles has a compiler.
    fn has_compiler(&self, plan: &Plan, resolved: &Resolved) -> Result<(), SessionFault> {
        let absent = |tool: &Tool| matches!(tool.place, ToolPlace::Absent(_));
        let without =
            plan.steps.iter().any(|(_, step)| step.compile().is_some_and(|compile| absent(&compile.setting.tool)));
        match without.then(|| self.compiler_gap(&resolved.choices)).flatten() {
            None => Ok(()),
            Some(gap) => {
                Err(SessionFault::Compiler { gap: Box::new(gap), choices: Box::new(resolved.choices.clone()) })
            }
        }
    }

    /// Makes the plan of a build that is to be made: what is only tried is built beside the profile's own build.
    ///
    /// # Errors
    /// As for [`Session::plan`].
    pub fn plan_to_build(&self, resolved: &Resolved) -> Result<Planned, SessionFault> {
        let root = &self.board.tree.source_root;
        let tried = !self.scope.tried.is_empty();
        let folders = if tried { WorkFolder::tried_folders } else { WorkFolder::folders };
        let folders = folders(&self.work, root, &self.profile);
        self.plan_in(self.with_changes(folders, &resolved.choices)?, resolved)
    }

    /// Makes the plan of what was touched since a sealed build, with what it is judged by, or else that of everything.
    ///
    /// # Errors
    /// As for [`Session::plan`]; or what steps last did cannot be read.
    pub fn plan_since(
        &self,
        resolved: &Resolved,
        sweep: Option<&Sweep<'_>>,
    ) -> Result<(Planned, Option<Touched>), SessionFault> {
        let touched = match sweep.filter(|_| !self.is_mirrored(&resolved.choices)) {
            Some(sweep) => self.touched(resolved, sweep)?,
            None => None,
        };
        match touched {
            Some((planned, touched)) => Ok((planned, Some(touched))),
            None => Ok((self.plan(resolved)?, None)),
        }
    }

    /// Makes the plan of what was touched since a sealed build, with what it is judged by; `None` where all must be planned.
    fn touched(&self, resolved: &Resolved, sweep: &Sweep<'_>) -> Result<Option<(Planned, Touched)>, SessionFault> {
        let folders = self.work.folders(&self.board.tree.source_root, &self.profile);
        let touching = Touching {
            board: &self.board,
            resolution: &resolved.resolution,
            facts: &resolved.facts,
            folders: &folders,
            store: &self.store(),
            sweep,
        };
        let mut looked = None;
        let touched = touching.plan(&mut |parts| {
            let listing = Listing::for_patterns(&self.board.tree.source_root, parts.patterns.into_iter());
            if listing.lacks_some() {
                // Whether it is meant is looked at where all is planned.
                return None;
            }
            let tools = self.tools(&listing, resolved);
            let input = self.input_of(resolved, &listing, &tools, &folders);
            let plan = lower_some(input, parts.macros, Wanted::Only(parts.wanted)).ok()?;
            looked = Some((listing, tools));
            Some(plan)
        })?;
        Ok(touched.zip(looked).map(|((plan, touched), (listing, tools))| {
            (Planned { listing, tools, folders, plan, store: resolved.choices.store.clone() }, touched)
        }))
    }

    /// Tells what a build by a plan would do; the plan may be one of what was touched.
    ///
    /// # Errors
    /// What steps last did cannot be read.
    pub fn preview(&self, planned: &Planned, touched: Option<&Touched>) -> Result<Preview, SessionFault> {
        match touched {
            None => Ok(preview(&self.memory(planned)?.judge(&planned.plan))),
            Some(Touched { journal, status, .. }) => {
                let others = self.others(planned, Gets::Nothing)?;
                let (store, tokens) = (self.store_with(others.as_ref()), TokenMemo::default());
                Ok(preview(&Judge::new(&planned.plan, journal, &store, status, &tokens)))
            }
        }
    }

    /// Returns what a plan of everything is judged by.
    ///
    /// # Errors
    /// What steps last did cannot be read.
    pub fn memory(&self, planned: &Planned) -> Result<Memory, SessionFault> {
        Ok(Memory {
            journal: Journal::open(&planned.folders.build)?,
            store: self.store_with(self.others(planned, Gets::Nothing)?.as_ref()),
            status: StatusMemo::load(&self.work.status()),
            tokens: TokenMemo::default(),
        })
    }

    /// Returns the results of any profile and day.
    pub fn store(&self) -> Store {
        Store::at(&self.work.store())
    }

    /// Returns the input of a plan, for what looks at it again.
    pub fn plan_input<'a>(&'a self, resolved: &'a Resolved, planned: &'a Planned) -> PlanInput<'a> {
        self.input_of(resolved, &planned.listing, &planned.tools, &planned.folders)
    }

    fn input_of<'a>(
        &'a self,
        resolved: &'a Resolved,
        listing: &'a Listing,
        tools: &'a Tools,
        folders: &'a Folders,
    ) -> PlanInput<'a> {
        let Resolved { resolution, facts, choices } = resolved;
        let profile = choices.profile().unwrap_or(self.profile.as_str());
        PlanInput {
            board: &self.board,
            resolution,
            facts,
            listing,
            tools,
            folders,
            units: &self.units,
            choices,
            profile,
        }
    }
}
