//! `boltboard survey`

use std::path::PathBuf;

use boltboard_core::base::Severity;
use boltboard_core::checks::Package;
use boltboard_core::profile::Choices;
use boltboard_core::remedy::{CostFault, Situation, cost};
use boltboard_core::resolve::{Clash, Resolution, resolve};
use boltboard_core::survey::{Facts, HostRecord, differences, toolchains};
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop, compiler_diagnostic};
use crate::render::survey::{self, Survey, Target};
use crate::render::text::count;
use crate::render::{Screen, json};
use crate::session::Session;
use boltboard_core::session::{as_root, is_own_target};

/// Check everything that the tree needs on this host
#[derive(Debug, Default, Args)]
pub struct SurveyArgs {
    /// Show all that was tried for this need
    #[arg(value_name = "NEED", add = complete::needs())]
    need: Option<String>,
    /// List every need that is met as well
    #[arg(long)]
    all: bool,
    /// Ask the package manager what installing would cost; nothing is installed
    #[arg(long)]
    cost: bool,
    /// Save what was found, to look at it on another machine
    #[arg(long, value_name = "FILE")]
    save: Option<PathBuf>,
    /// Show how this host differs from the one that FILE was saved on
    #[arg(long, value_name = "FILE", conflicts_with_all = ["need", "cost", "toolchains"])]
    against: Option<PathBuf>,
    /// List the compilers of this host
    #[arg(long, conflicts_with_all = ["need", "cost"])]
    toolchains: bool,
}

/// Runs the command. It ends with 4 when something that is required or chosen is missing, and with 1 when hosts differ.
pub fn run(global: &Global, screen: &Screen, args: &SurveyArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let choices = session.choices_of(&session.profile)?;
    if args.toolchains {
        return list_toolchains(&session, screen, &choices);
    }
    let need = args.need.as_ref().map(|name| session.find_need(name)).transpose()?;
    let mut facts = session.facts(&choices)?;
    if let Some(path) = &args.save {
        session.only_real()?;
        session.host_record(&choices, &facts).save(path)?;
        screen.remark(&format!("Saved the facts to {}.", path.display()));
    }
    if let Some(path) = &args.against {
        return against(&session, screen, &choices, &facts, path);
    }
    if let Some(need) = need
        && !facts.any_not_looked_for()
    {
        facts = facts.with(session.facts_of_one(&choices, need)?, need);
    }
    if session.work.exists() && need.is_none() {
        // Who has seen the survey knows the host as it is now.
        // Looking must not fail because the work folder is read-only; the change is then named again.
        let _ = session.accept_host(&choices, &facts);
    }
    let (resolution, clashes) = resolved(&session, &choices, &facts);
    let tools = session.tools_before(&choices);
    let wrappers = tools.found().filter_map(|compiler| compiler.wrapper.clone()).collect();
    let host_compiler = tools.host.map(|own| own.c.map_or_else(|e| e.to_string(), |c| c.in_words()));
    let compiler = tools.target.c.ok();
    let foreign = compiler.as_ref().is_some_and(|compiler| !is_own_target(&compiler.target));
    let mut here = session.around.distribution();
    if foreign {
        // The packages of this host are for this host.
        here.family = None;
    }
    let situation = Situation {
        board: &session.board,
        facts: &facts,
        choices: &choices,
        resolution: resolution.as_ref(),
        clashes: &clashes,
        here: &here,
    };
    let gaps = situation.gaps();
    let mut shown = Survey {
        board: &session.board,
        facts: &facts,
        choices: &choices,
        gaps,
        here: here.clone(),
        compiler: compiler.as_ref().map_or(String::new(), |compiler| compiler.in_words()),
        target: compiler.map_or(String::new(), |compiler| compiler.target),
        host_compiler,
        wrappers,
        environment: session.environment_before(&choices),
        cost: None,
        costs: Vec::new(),
        as_root: as_root(),
        target_is: if foreign { Target::Another } else { Target::ThisMachine },
    };
    if args.cost {
        let ask = |packages: &[Package]| match here.family {
            Some(family) => cost(family, packages, session.around.search_path(), &session.launch),
            None => Err(CostFault::NoManager("package manager of this distribution".into())),
        };
        let all = shown.packages();
        let wanted = |gap: &boltboard_core::remedy::Gap| !gap.packages.is_empty() && need.is_none_or(|n| n == gap.need);
        if screen.live && !all.is_empty() {
            screen.remark(&format!("Asking the package manager about {} …", count(all.len(), "package", "packages")));
        }
        // Each question takes a package manager a second or so, and none waits for another.
        (shown.costs, shown.cost) = std::thread::scope(|scope| {
            let ask = &ask;
            let each: Vec<_> =
                shown.gaps.iter().map(|gap| wanted(gap).then(|| scope.spawn(|| ask(&gap.packages)))).collect();
            let whole = (!all.is_empty() && need.is_none()).then(|| scope.spawn(|| ask(&all)));
            let costs = each.into_iter().map(|asked| asked.and_then(|asked| asked.join().ok())).collect();
            (costs, whole.and_then(|asked| asked.join().ok()))
        });
    }
    if global.json {
        screen.json(&json::survey(&shown, need));
    } else if let (Some(gap), None) = (session.compiler_gap_of(&facts, &choices), need) {
        screen.out(&survey::list(&shown, args.all, screen.width));
        screen.diagnostics(&[compiler_diagnostic(&session, &choices, &gap)]);
    } else if let Some(need) = need {
        facts.get(need).iter().for_each(|fact| screen.out(&survey::evidence(&shown, fact, screen.width)));
    } else {
        screen.out(&survey::list(&shown, args.all, screen.width));
    }
    let stopped = shown.gaps.iter().any(|gap| gap.stops.severity() == Severity::Error);
    let unknown = facts.compiler_fault.is_some();
    Ok(if stopped || unknown { Exit::HostLacks } else { Exit::Done })
}

/// The values; where choices clash, those without the choices at fault.
fn resolved(session: &Session, choices: &Choices, facts: &Facts) -> (Option<Resolution>, Vec<Clash>) {
    match resolve(&session.board, &session.logic, choices, facts) {
        Ok(resolution) => (Some(resolution), Vec::new()),
        Err(clashes) => {
            let mut rest = choices.clone();
            rest.items.retain(|item| {
                !clashes.iter().flat_map(|clash| &clash.choices).any(|choice| choice.option == item.option)
            });
            (resolve(&session.board, &session.logic, &rest, facts).ok(), clashes)
        }
    }
}

fn against(
    session: &Session,
    screen: &Screen,
    choices: &Choices,
    facts: &Facts,
    path: &std::path::Path,
) -> Result<Exit, Stop> {
    let other = HostRecord::load(path, &session.board.tree.name)?;
    let list = differences(&other, &session.host_record(choices, facts));
    let name = path.file_name().map_or_else(|| path.display().to_string(), |name| name.to_string_lossy().into_owned());
    if session.global.json {
        screen.json(&json::hosts(&list));
    } else {
        screen.out(&survey::compared(&list, &name, screen.width));
    }
    Ok(if list.is_empty() { Exit::Done } else { Exit::No })
}

fn list_toolchains(session: &Session, screen: &Screen, choices: &Choices) -> Result<Exit, Stop> {
    let list = toolchains(session.compiler_search(None), session.around.cores);
    session.keep_probes();
    let in_use: Vec<PathBuf> =
        session.tools_before(choices).found().map(|compiler| compiler.real_path.clone()).collect();
    if session.global.json {
        screen.json(&json::toolchains(&list, &in_use));
    } else {
        screen.out(&survey::toolchain_list(&list, &in_use, screen.width));
    }
    Ok(if list.is_empty() { Exit::HostLacks } else { Exit::Done })
}
