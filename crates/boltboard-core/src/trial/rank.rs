//! How likely it is that two lists of numbers differ by chance only: the rank sum test of Mann and Whitney ("On a test of whether one of two
//! random variables is stochastically larger than the other", 1947). It asks nothing of how the numbers are spread, as run times are not spread
//! as the textbooks' are.

/// The chance below which a difference is taken for real.
pub const MOST_CHANCE: f64 = 0.05;

/// The longest lists for which every order is counted; beyond, the normal distribution is near enough.
const MOST_COUNTED: usize = 20;

/// Returns how likely two lists from the same source lie as far apart as these, or farther, on either side.
pub fn chance(one: &[f64], other: &[f64]) -> f64 {
    let (n, m) = (one.len(), other.len());
    if n == 0 || m == 0 {
        return 1.0;
    }
    // Twice the number of pairs in which the first is greater; a tie counts half.
    let twice: usize = one
        .iter()
        .flat_map(|a| other.iter().map(move |b| if a > b { 2 } else { usize::from(a.total_cmp(b).is_eq()) }))
        .sum();
    let twice = twice.min(2 * n * m - twice);
    if n <= MOST_COUNTED && m <= MOST_COUNTED {
        return (2.0 * at_most(n, m, twice / 2)).min(1.0);
    }
    let (n, m) = (n as f64, m as f64);
    let spread = (n * m * (n + m + 1.0) / 12.0).sqrt();
    let distance = (n * m / 2.0 - twice as f64 / 2.0 - 0.5).max(0.0) / spread;
    2.0 * tail(distance)
}

/// The share of all orders of `n` and `m` numbers in which at most `most` pairs have the first one greater.
fn at_most(n: usize, m: usize, most: usize) -> f64 {
    // counts[j][u]: orders of i and j numbers with u such pairs, i growing.
    let mut counts: Vec<Vec<f64>> = vec![vec![1.0]; m + 1];
    for i in 1..=n {
        let mut next: Vec<Vec<f64>> = vec![vec![1.0]];
        for j in 1..=m {
            let mut now = vec![0.0; i * j + 1];
            // The greatest of all is of the first list, with all j below it, or of the second.
            for (u, count) in counts[j].iter().enumerate() {
                now[u + j] += count;
            }
            for (u, count) in next[j - 1].iter().enumerate() {
                now[u] += count;
            }
            next.push(now);
        }
        counts = next;
    }
    let all: f64 = counts[m].iter().sum();
    counts[m].iter().take(most + 1).sum::<f64>() / all
}

/// The part of the normal distribution beyond a distance (Abramowitz and Stegun, 26.2.17; wrong by less than 1e-7).
fn tail(distance: f64) -> f64 {
    let t = 1.0 / (1.0 + 0.231_641_9 * distance);
    let powers = [0.319_381_530, -0.356_563_782, 1.781_477_937, -1.821_255_978, 1.330_274_429];
    let sum = powers.iter().rev().fold(0.0, |sum, power| (sum + power) * t);
    (-distance * distance / 2.0).exp() / (2.0 * std::f64::consts::PI).sqrt() * sum
}
