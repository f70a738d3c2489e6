//! Steps that other machines take, and those that come back from there in vain.

use std::cmp::Reverse;

use super::{Course, Ready};
use crate::run::away::Goes;
use crate::run::build::BuildFault;
use crate::run::ended::NotCounted;
use crate::run::execute::Executor;
use crate::step::StepId;
use crate::workers::Seat;

/// How many steps that cannot go yet are looked past for one that can.
const AHEAD: usize = 64;

impl Course<'_, '_> {
    /// Gives other machines what they can do, while they have room.
    pub(super) fn fill_away(
        &mut self,
        ready: &mut Ready,
        executor: &Executor<'_>,
        send_away: &dyn Fn(StepId, Seat),
    ) -> Result<(), BuildFault> {
        let Some(crew) = self.input.crew.filter(|_| self.alone.is_empty() && !ready.is_empty()) else { return Ok(()) };
        let mut later = Vec::new();
        let mut seat = crew.seat();
        while seat.is_some() && later.len() < AHEAD {
            if (self.input.stopped)() {
                break;
            }
            let Some((way, Reverse(id))) = ready.pop() else { break };
            let step = &self.input.plan.steps[id];
            match executor.goes(step) {
                Goes::Now if !self.came_back.contains(&id) => {}
                Goes::Later => {
                    later.push((way, Reverse(id)));
                    continue;
                }
                Goes::Now | Goes::Never => {
                    self.here.push((way, Reverse(id)));
                    continue;
                }
            }
            if self.settle(id, ready)? {
                continue;
            }
            if self.judge.alike(step).is_some() {
                // Whether it need run at all is found out here.
                self.came_back.insert(id);
                self.here.push((way, Reverse(id)));
                continue;
            }
            if let Some(taken) = seat.take() {
                self.holds(id, 0);
                if let Some(running) = self.running.get_mut(&id) {
                    running.away = true;
                }
                self.watch.starts(id, &self.input.plan.steps[id]);
                send_away(id, taken);
            }
            seat = crew.seat();
        }
        ready.extend(later);
        Ok(())
    }

    /// Has a step run here that was sent away in vain.
    pub(super) fn comes_back(&mut self, id: StepId, why: NotCounted) {
        if let Some(crew) = self.input.crew {
            match why {
                NotCounted::Unlike(why) => crew.not_counted(why),
                NotCounted::Stays(Some(why)) => crew.stays(why),
                NotCounted::Stays(None) | NotCounted::Lost => {}
            }
        }
        self.came_back.insert(id);
        self.here.push((self.graph.way_ms[id.index()], Reverse(id)));
    }
}
