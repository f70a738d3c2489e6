use super::*;

#[test]
fn the_middle_and_the_ends_are_told() {
    assert_eq!(Spread::of(&[]), None);
    assert_eq!(Spread::of(&[3.0, 1.0, 2.0]), Some(Spread { least: 1.0, median: 2.0, most: 3.0 }));
    assert_eq!(Spread::of(&[4.0, 1.0]), Some(Spread { least: 1.0, median: 2.5, most: 4.0 }));
}

#[test]
fn chances_are_those_of_the_tables() {
    let near = |one: f64, other: f64| (one - other).abs() < 0.0006;
    // Wholly apart: of 252 orders of 5 and 5 numbers, one on each side.
    let apart = chance(&[1.0, 2.0, 3.0, 4.0, 5.0], &[6.0, 7.0, 8.0, 9.0, 10.0]);
    assert!(near(apart, 2.0 / 252.0), "{apart}");
    let turned = chance(&[6.0, 7.0, 8.0, 9.0, 10.0], &[1.0, 2.0, 3.0, 4.0, 5.0]);
    assert!(near(turned, apart), "either side may be the greater: {turned}");
    // Published: U of 2 for 5 and 5 is 0.0159 on one side.
    let two = chance(&[1.0, 2.0, 3.0, 4.0, 7.5], &[5.0, 7.0, 8.0, 9.0, 10.0]);
    assert!(near(two, 2.0 * 4.0 / 252.0), "{two}");
    let mixed = chance(&[1.0, 4.0, 5.0, 8.0], &[2.0, 3.0, 6.0, 7.0]);
    assert!(near(mixed, 1.0), "{mixed}");
    assert!(near(chance(&[1.0], &[2.0]), 1.0), "single runs say nothing");
    assert!(near(chance(&[], &[2.0]), 1.0));
    // Long lists go over to the normal distribution without a jump.
    let list = |from: f64, count: usize| (0..count).map(|at| from + at as f64).collect::<Vec<f64>>();
    let (counted, normal) = (chance(&list(0.0, 20), &list(5.5, 20)), chance(&list(0.0, 21), &list(5.5, 20)));
    assert!((counted - normal).abs() < 0.02, "{counted} {normal}");
    assert!(chance(&list(0.0, 40), &list(100.0, 40)) < 1e-6);
}

#[test]
fn the_best_is_told_only_beyond_the_noise() {
    let fast = vec![10.0, 10.1, 10.2, 10.1, 10.3];
    let slow = vec![20.0, 20.3, 20.1, 20.2, 20.4];
    let noisy = vec![9.0, 30.0, 10.2, 25.0, 12.0];
    assert_eq!(best(&[slow.clone(), fast.clone()]), Some(1));
    assert_eq!(best(&[slow.clone(), fast.clone(), noisy]), None, "one of the others may be as fast");
    assert_eq!(best(&[fast.clone(), fast.clone()]), None);
    assert_eq!(best(&[vec![], fast.clone()]), None, "nothing to hold it against");
    assert_eq!(best(&[vec![1.0, 1.0], vec![2.0, 2.0]]), None, "two runs are too few");
    assert_eq!(best(&[]), None);
}
