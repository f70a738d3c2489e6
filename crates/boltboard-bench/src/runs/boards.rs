//! Writes a board in the likeness of a kernel's: `boards FOLDER [OPTIONS] [SEED]`.

use std::path::Path;

use boltboard_bench::boards::write_board;

pub fn measured(words: &[String]) -> Result<(), Box<dyn std::error::Error>> {
    let arguments = words;
    let number = |at: usize, otherwise: u64| arguments.get(at).and_then(|text| text.parse().ok()).unwrap_or(otherwise);
    let Some(folder) = arguments.first() else {
        eprintln!("usage: boards FOLDER [OPTIONS] [SEED]");
        std::process::exit(2);
    };
    let count = usize::try_from(number(1, 20_000)).unwrap_or(20_000);
    let files = write_board(Path::new(folder), count, number(2, 1))?;
    println!("{} files, {count} options", files.len());
    Ok(())
}
