//! From one thing to the next without recursion: definitions may chain tens of thousands of items.

/// A depth-first walk over numbered items.
#[derive(Debug)]
pub struct Walk {
    state: Vec<State>,
    stack: Vec<(usize, Vec<usize>)>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum State {
    New,
    Open,
    Done,
}

impl Walk {
    /// Begins with `count` items, none of which has been walked to.
    pub fn new(count: usize) -> Walk {
        Walk { state: vec![State::New; count], stack: Vec::new() }
    }

    /// Walks from `start`, calls `done` for each item after all that it leads to, once in the walk's life, and returns the first ring met,
    /// its start repeated at its end. `next` returns the items that one leads to, which are walked in that order.
    pub fn from(
        &mut self,
        start: usize,
        next: &dyn Fn(usize) -> Vec<usize>,
        done: &mut dyn FnMut(usize),
    ) -> Option<Vec<usize>> {
        let mut ring = None;
        self.open(start, next);
        while let Some((item, waiting)) = self.stack.last_mut() {
            let item = *item;
            match waiting.pop() {
                Some(other) if self.state[other] == State::Open => {
                    let from = self.stack.iter().position(|(at, _)| *at == other).unwrap_or(0);
                    let found = || self.stack[from..].iter().map(|(at, _)| *at).chain([other]).collect();
                    ring = ring.or_else(|| Some(found()));
                }
                Some(other) => self.open(other, next),
                None => {
                    self.state[item] = State::Done;
                    self.stack.pop();
                    done(item);
                }
            }
        }
        ring
    }

    fn open(&mut self, item: usize, next: &dyn Fn(usize) -> Vec<usize>) {
        if self.state[item] == State::New {
            self.state[item] = State::Open;
            let mut waiting = next(item);
            waiting.reverse();
            self.stack.push((item, waiting));
        }
    }
}

/// Returns for each of `count` items the number of its component: two items have the same where each leads to the other (Kosaraju).
pub fn components(count: usize, next: &dyn Fn(usize) -> Vec<usize>) -> Vec<usize> {
    let mut order = Vec::with_capacity(count);
    let mut walk = Walk::new(count);
    for start in 0..count {
        walk.from(start, next, &mut |done| order.push(done));
    }
    let mut back: Vec<Vec<usize>> = vec![Vec::new(); count];
    for item in 0..count {
        next(item).into_iter().for_each(|other| back[other].push(item));
    }
    let mut walk = Walk::new(count);
    let mut component = vec![0; count];
    for (number, start) in order.into_iter().rev().enumerate() {
        walk.from(start, &|item| back[item].clone(), &mut |done| component[done] = number);
    }
    component
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn items_come_after_what_they_lead_to_once() {
        let leads: [&[usize]; 5] = [&[1, 2], &[3], &[3], &[], &[0]];
        let mut order = Vec::new();
        let mut walk = Walk::new(leads.len());
        for start in 0..leads.len() {
            let ring = walk.from(start, &|item| leads[item].to_vec(), &mut |done| order.push(done));
            assert_eq!(ring, None);
        }
        assert_eq!(order, [3, 1, 2, 0, 4]);
    }

    #[test]
    fn items_that_lead_to_each_other_are_one_component() {
        let leads: [&[usize]; 6] = [&[1], &[2, 3], &[0], &[4], &[3, 5], &[]];
        let found = components(leads.len(), &|item| leads[item].to_vec());
        let same = |a: usize, b: usize| found[a] == found[b];
        assert!(same(0, 1) && same(1, 2) && same(3, 4));
        assert!(!same(0, 3) && !same(0, 5) && !same(3, 5));
    }

    #[test]
    fn rings_are_told_and_long_chains_are_walked() {
        let ring = Walk::new(3).from(0, &|item| vec![(item + 1) % 3], &mut |_| {});
        assert_eq!(ring, Some(vec![0, 1, 2, 0]));
        const LONG: usize = 200_000;
        let mut count = 0;
        let next = |item: usize| if item + 1 < LONG { vec![item + 1] } else { vec![] };
        assert_eq!(Walk::new(LONG).from(0, &next, &mut |_| count += 1), None);
        assert_eq!(count, LONG);
    }
}
