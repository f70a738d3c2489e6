//! Several lists of lines or words, laid side by side.

use similar::{Algorithm, DiffOp, capture_diff_slices};

/// A run of lines or words, in their order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Run<'a> {
    /// All lists have it.
    Same(Vec<&'a str>),
    /// What each list has here; not all of them the same.
    Differs(Vec<Vec<&'a str>>),
}

/// Lays lists beside the first of them; what is found in all of them, in one order, is the same.
pub(super) fn align<'a>(lists: &[Vec<&'a str>]) -> Vec<Run<'a>> {
    let Some(first) = lists.first() else { return Vec::new() };
    // Where each entry of the first list stands in the others.
    let places: Vec<Vec<Option<usize>>> = lists.iter().map(|list| places_in(first, list)).collect();
    let mut runs: Vec<Run<'a>> = Vec::new();
    let mut reached = vec![0; lists.len()];
    for (at, entry) in first.iter().enumerate() {
        let found: Option<Vec<usize>> = places.iter().map(|places| places[at]).collect();
        let Some(found) = found else { continue };
        differing(&mut runs, lists, &reached, &found);
        match runs.last_mut() {
            Some(Run::Same(run)) => run.push(entry),
            _ => runs.push(Run::Same(vec![entry])),
        }
        reached = found.iter().map(|at| at + 1).collect();
    }
    let ends: Vec<usize> = lists.iter().map(Vec::len).collect();
    differing(&mut runs, lists, &reached, &ends);
    runs
}

fn differing<'a>(runs: &mut Vec<Run<'a>>, lists: &[Vec<&'a str>], from: &[usize], to: &[usize]) {
    let between = || lists.iter().zip(from.iter().zip(to)).map(|(list, (from, to))| &list[*from..*to]);
    if between().any(|part| !part.is_empty()) {
        runs.push(Run::Differs(between().map(<[&str]>::to_vec).collect()));
    }
}

/// Where each entry of one list stands in another one.
pub(super) fn places_in(first: &[&str], other: &[&str]) -> Vec<Option<usize>> {
    let mut places = vec![None; first.len()];
    for op in capture_diff_slices(Algorithm::Myers, first, other) {
        if let DiffOp::Equal { old_index, new_index, len } = op {
            (0..len).for_each(|step| places[old_index + step] = Some(new_index + step));
        }
    }
    places
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_all_have_in_one_order_is_the_same() {
        let lists = [vec!["a", "b", "c"], vec!["a", "x", "c"], vec!["a", "c", "d"]];
        let wanted = [
            Run::Same(vec!["a"]),
            Run::Differs(vec![vec!["b"], vec!["x"], vec![]]),
            Run::Same(vec!["c"]),
            Run::Differs(vec![vec![], vec![], vec!["d"]]),
        ];
        assert_eq!(align(&lists), wanted);
        assert_eq!(align(&[vec!["a"], vec!["a"]]), [Run::Same(vec!["a"])]);
        assert_eq!(align(&[vec![], vec![]]), []);
    }

    proptest! {
        #[test]
        fn each_list_can_be_read_off_the_runs(lists in prop::collection::vec(prop::collection::vec("[a-d]", 0..12), 1..4)) {
            let lists: Vec<Vec<&str>> = lists.iter().map(|list| list.iter().map(String::as_str).collect()).collect();
            let runs = align(&lists);
            for (at, list) in lists.iter().enumerate() {
                let read: Vec<&str> = runs.iter().flat_map(|run| match run {
                    Run::Same(words) => words.clone(),
                    Run::Differs(each) => each[at].clone(),
                }).collect();
                prop_assert_eq!(&read, list);
            }
            let differ_somewhere = |run: &Run<'_>| match run {
                Run::Same(words) => !words.is_empty(),
                Run::Differs(each) => each.iter().any(|words| *words != each[0]) || each.len() > 1,
            };
            prop_assert!(lists.len() == 1 || runs.iter().all(differ_somewhere));
        }
    }
}
