//! The order of steps.

use std::collections::{BTreeSet, HashMap};

use crate::judge::{Judge, Timings};

use crate::step::{Location, StepId};

use crate::plan::Plan;

/// Which steps wait for which, and how long the longest way from each to the end is.
pub(super) struct Graph {
    /// How many steps each waits for.
    pub waits: Vec<usize>,
    /// The steps that wait for it.
    pub next: Vec<Vec<StepId>>,
    /// From its start to the end of all, in milliseconds.
    pub way_ms: Vec<u64>,
    /// Its own time.
    pub own_ms: Vec<u64>,
}

impl Graph {
    pub fn of(plan: &Plan, judge: &Judge<'_>) -> Graph {
        let count = plan.steps.len();
        let timings = Timings::of(judge);
        let mut makers: HashMap<&Location, StepId> = HashMap::new();
        for (id, step) in plan.steps.iter() {
            makers.extend(step.writes.iter().map(|write| (write, id)));
        }
        let mut graph =
            Graph { waits: vec![0; count], next: vec![vec![]; count], way_ms: vec![0; count], own_ms: vec![0; count] };
        for (id, step) in plan.steps.iter() {
            let read = step.reads.iter().filter_map(|read| makers.get(read).copied());
            let before: BTreeSet<StepId> = read.chain(step.after.iter().copied()).filter(|b| *b != id).collect();
            graph.waits[id.index()] = before.len();
            before.iter().for_each(|b| graph.next[b.index()].push(id));
            graph.own_ms[id.index()] = timings.step(step).ms();
        }
        // Steps come after those that they read from, so going backwards sees every way.
        for id in plan.steps.ids().rev() {
            let longest = graph.next[id.index()].iter().map(|n| graph.way_ms[n.index()]).max().unwrap_or(0);
            graph.way_ms[id.index()] = graph.own_ms[id.index()] + longest;
        }
        graph
    }
}
