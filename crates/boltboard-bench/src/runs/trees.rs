//! Writes a whole tree: `trees FOLDER [FILES]`.

use std::path::Path;

use boltboard_bench::trees::write_tree;

pub fn measured(words: &[String]) -> Result<(), Box<dyn std::error::Error>> {
    let arguments = words;
    let Some(folder) = arguments.first() else {
        eprintln!("usage: trees FOLDER [FILES]");
        std::process::exit(2);
    };
    let files = arguments.get(1).and_then(|text| text.parse().ok()).unwrap_or(50_000);
    println!("{} folders", write_tree(Path::new(folder), files)?);
    Ok(())
}
