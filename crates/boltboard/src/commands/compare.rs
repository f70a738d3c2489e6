//! `boltboard compare`

use boltboard_core::compare::{Side, plans, values};
use boltboard_core::journal::Journal;
use boltboard_core::judge::Judge;
use boltboard_core::profile::Choices;
use boltboard_core::reading::TokenMemo;

use boltboard_core::work::StatusMemo;

use boltboard_core::store::Store;
use clap::Args;

use crate::args::Global;
use crate::complete;
use crate::fault::{Exit, Stop};
use crate::render::json::{self, Compared};
use crate::render::options::origin_word;
use crate::render::text::next_line;
use crate::render::{Screen, compare};
use crate::session::{Session, profile_name};

/// Compare two profiles
#[derive(Debug, Args)]
pub struct CompareArgs {
    /// The profile on the left
    #[arg(add = complete::profiles())]
    left: String,
    /// The profile on the right [default: the one in use]
    #[arg(add = complete::profiles())]
    right: Option<String>,
}

/// Runs the command. It ends with 1 when anything differs.
pub fn run(global: &Global, screen: &Screen, args: &CompareArgs) -> Result<Exit, Stop> {
    let session = Session::open(global, screen)?;
    let left = profile_name(&args.left)?;
    let right = args.right.as_deref().map_or_else(|| Ok(session.profile.clone()), profile_name)?;
    if left == right && !global.json {
        screen.out(&format!("{left} on both sides: a profile does not differ from itself.\n"));
        screen.out(&next_line("boltboard profile list", "the profiles that there are"));
        return Ok(Exit::Done);
    }
    let (l, r) = (session.resolve_profile(&left)?, session.resolve_profile(&right)?);
    let (lp, rp) = (session.plan_of(&left, &l)?, session.plan_of(&right, &r)?);
    let (lj, rj) = (Journal::open(&lp.folders.build)?, Journal::open(&rp.folders.build)?);
    let status = StatusMemo::load(&session.work.status());
    let (store, tokens) = (Store::at(&session.work.store()), TokenMemo::default());
    let judge = |plan, journal| Judge::new(plan, journal, &store, &status, &tokens);
    let (left_judge, right_judge) = (judge(&lp.plan, &lj), judge(&rp.plan, &rj));
    let difference = plans(&session.board, &Side { judge: &left_judge }, &Side { judge: &right_judge });
    let board = &session.board;
    let values = values(&l.resolution, &r.resolution)
        .into_iter()
        .map(|difference| {
            let left = origin_word(board, &l.choices, difference.option, &difference.left);
            let right = origin_word(board, &r.choices, difference.option, &difference.right);
            (difference, left, right)
        })
        .collect();
    let names = (left.to_string(), right.to_string());
    let compared = Compared { board, names, values, plans: difference, both: (&lp.plan, &rp.plan) };
    if global.json {
        screen.json(&json::compare(&compared));
    } else {
        let never = [(&left, &lj), (&right, &rj)].into_iter().filter(|(_, journal)| journal.all().next().is_none());
        let never: Vec<String> = never.map(|(name, _)| name.to_string()).collect();
        screen.out(&compare::text(&compared, &never, screen.width));
        for (name, here, there) in [(&left, &l, &r), (&right, &r, &l)] {
            let only =
                here.choices.changes.iter().filter(|one| there.choices.changes.iter().all(|o| o.name != one.name));
            let only: Vec<&str> = only.map(|change| change.name.as_str()).collect();
            if !only.is_empty() {
                screen.out(&format!("Only {name} carries changes to the sources: {}\n", only.join(", ")));
            }
        }
    }
    let steps = &compared.plans;
    let carried = |choices: &Choices| choices.changes.iter().map(|change| change.name.clone()).collect::<Vec<_>>();
    let same = carried(&l.choices) == carried(&r.choices)
        && compared.values.is_empty()
        && steps.left_only.is_empty()
        && steps.right_only.is_empty()
        && steps.differ.is_empty();
    Ok(if same { Exit::Done } else { Exit::No })
}
