//! The small program that `boltboard` starts beside its steps, to watch them and to end them should it be killed. Nobody else calls it.

#[path = "../helper.rs"]
mod helper;

fn main() -> std::process::ExitCode {
    helper::serve(std::env::args_os().skip(1), std::io::stdin(), std::io::stdout()).unwrap_or_else(|| {
        eprintln!("boltboard starts this program itself, beside the steps of a build.\n→ boltboard --help");
        std::process::ExitCode::from(2)
    })
}
