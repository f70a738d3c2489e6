//! The small program that `boltboard` starts beside its steps, to watch them and to end them should it be killed. Nobody else calls it.

#[path = "../helper.rs"]
mod helper;

fn main() -> std::process::ExitCode {
    let mut words = std::env::args_os().skip(1);
    let first = words.next().unwrap_or_default();
    let helped = helper::serve(&first.to_string_lossy(), words, std::io::stdin(), std::io::stdout());
    helped.unwrap_or_else(|| {
        eprintln!("boltboard starts this program itself, beside the steps of a build.\n→ boltboard --help");
        std::process::ExitCode::from(2)
    })
}
