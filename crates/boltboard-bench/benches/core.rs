//! Waits of a user on Skerry: reading the board, resolving it, and reading the tokens of its sources.
//!
//! `cargo bench -p boltboard-bench`

use boltboard_bench::demo_tree;
use boltboard_core::definitions::{Listing, Outside, read_tree};
use boltboard_core::logic::encode;
use boltboard_core::profile::Choices;
use boltboard_core::reading::{Dialects, Tokens};
use boltboard_core::resolve::resolve;
use boltboard_core::survey::Facts;
use criterion::{Criterion, criterion_group, criterion_main};

fn waits(criterion: &mut Criterion) {
    let tree = demo_tree();
    criterion.bench_function("read the board", |bench| bench.iter(|| read_tree(&tree, None, &Outside::default())));
    let reading = read_tree(&tree, None, &Outside::default());
    let Some(board) = reading.board else { return };
    let logic = encode(&board);
    let (choices, facts) = (Choices::default(), Facts::default());
    criterion.bench_function("resolve all options", |bench| bench.iter(|| resolve(&board, &logic, &choices, &facts)));
    let sources: Vec<Vec<u8>> =
        Listing::of(&tree).files().iter().filter_map(|file| std::fs::read(file.below(&tree)).ok()).collect();
    criterion.bench_function("read the tokens of all sources", |bench| {
        bench.iter(|| {
            sources.iter().map(|text| Tokens::of(text, &Dialects::default())).filter(|tokens| tokens.pastes).count()
        });
    });
}

criterion_group!(benches, waits);
criterion_main!(benches);
