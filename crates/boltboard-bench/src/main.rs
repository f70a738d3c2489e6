//! Measures the built program, and makes the trees that it is measured on.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench RUN [WORDS…]`

mod runs;

use std::error::Error;
use std::process::ExitCode;

/// As the program itself has it.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Run = fn(&[String]) -> Result<(), Box<dyn Error>>;

const RUNS: [(&str, &str, Run); 15] = [
    ("asks", "a first survey against a compiler run for each check", runs::asks::measured),
    (
        "carried",
        "carry a profile over to a later version of a board of 20,000 options: [FOLDER]",
        runs::carried::measured,
    ),
    ("boards", "make a board of many options: FOLDER [OPTIONS] [SEED]", runs::boards::measured),
    ("flips", "flip every option, and hold what is compiled against what must be: [TREE]", runs::flips::measured),
    ("floors", "builds against the bare commands: [FILES] [COMPILES] [FOLDER]", runs::floors::measured),
    (
        "lists",
        "a tree described by lists, against reading its files: [FOLDERS OPTIONS SOURCES [FOLDER]]",
        runs::lists::measured,
    ),
    ("memory", "what a large build takes: [FILES]", runs::memory::measured),
    ("scale", "reading, resolving and explaining many options: [OPTIONS…]", runs::scale::measured),
    ("screen", "the board on the screen, through a pseudo-terminal: [FOLDER]", runs::screen::measured),
    ("seen", "what a text can see against what the compiler looked at: [FOLDER [FLAGS…]]", runs::seen::measured),
    ("sharing", "a whole build from a shared store over loopback: [FILES [FOLDER]]", runs::sharing::measured),
    (
        "simulated",
        "many workers and files, by what few were measured to take: [FILES [TIMES]]",
        runs::simulated::measured,
    ),
    ("trees", "make a tree of many files: FOLDER [FILES]", runs::trees::measured),
    (
        "verdicts",
        "libraries and tools that are said to be there against this host's packages",
        runs::verdicts::measured,
    ),
    ("workers", "a whole build with two workers on this machine: [FILES [FOLDER]]", runs::workers::measured),
];

fn main() -> ExitCode {
    let words: Vec<String> = std::env::args().collect();
    let called = words.first().map_or("", String::as_str);
    let result = if called == "cc" || called.ends_with("/cc") {
        runs::memory::stand_in(&words[1..])
    } else if let Some((.., run)) = RUNS.iter().find(|(name, ..)| words.get(1).is_some_and(|word| word == name)) {
        run(&words[2..])
    } else {
        eprintln!("usage: boltboard-bench RUN [WORDS…]");
        RUNS.iter().for_each(|(name, about, _)| eprintln!("  {name:<9} {about}"));
        return ExitCode::from(2);
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(fault) => {
            eprintln!("error: {fault}");
            ExitCode::FAILURE
        }
    }
}
