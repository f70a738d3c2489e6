//! The board on the screen: options, and beside them what each value of the one under the cursor would bring.
//!
//! `model` is what is known and what a key does, `changes` the slate, both without a terminal; `draw` puts it on the screen; `worker` finds consequences aside;
//! `render::terminal` takes the terminal and gives it back. Data flows `keys → model → draw`, and `worker → model`.

mod afresh;
mod cards;
mod changes;
mod draw;
mod keys;
mod model;
mod other;
mod views;
mod walk;
mod worker;
mod write;

#[cfg(test)]
mod tests;

use std::time::{Duration, Instant};

use crossterm::event::{self, Event};

use self::afresh::lost_words;
use self::model::{Model, Run, Wish};
use self::worker::Worker;
use crate::args::Global;
use crate::commands;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::render::terminal::{self, Terminal};
use crate::session::Session;

/// How long is waited for a key before the consequences that were found are drawn.
const WAIT: Duration = Duration::from_millis(15);

/// How often is looked whether files changed beside the board.
const BESIDE: Duration = Duration::from_millis(700);

/// Runs the board until the person leaves it. `words` are what it opens at.
pub fn run(global: &Global, screen: &Screen, words: &[String]) -> Result<Exit, Stop> {
    terminal::check()?;
    let mut model = Model::open(Session::open(global, screen)?, words)?;
    let mut worker = Worker::start(model.session.clone());
    let mut terminal = Terminal::take()?;
    let mut looked = Instant::now();
    loop {
        if looked.elapsed() > BESIDE {
            looked = Instant::now();
            model.look_beside(global, screen);
        }
        // Where the definitions were read anew, consequences are found with them.
        if !worker.is_for(&model.session) {
            worker = Worker::start(model.session.clone());
        }
        if let Some(question) = model.question() {
            worker.ask(question);
        }
        while let Some(answer) = worker.answer() {
            model.learn(answer);
        }
        if terminal.changed_its_size() {
            terminal.begin_anew()?;
            model.is_stale = true;
        }
        if model.is_stale {
            model.is_stale = false;
            terminal.draw(|frame| draw::draw(frame, &mut model))?;
        }
        if terminal::is_ended() {
            return Ok(Exit::Interrupted);
        }
        if !event::poll(WAIT).map_err(terminal::fault)? {
            continue;
        }
        let wish = match event::read().map_err(terminal::fault)? {
            Event::Key(key) => keys::key(&mut model, key),
            Event::Mouse(mouse) => keys::mouse(&mut model, mouse),
            Event::Resize(..) => {
                terminal.begin_anew()?;
                model.is_stale = true;
                None
            }
            Event::FocusGained | Event::FocusLost | Event::Paste(_) => None,
        };
        match wish {
            None => {}
            Some(Wish::Leave) => break,
            Some(Wish::Stop) => terminal.stop()?,
            Some(Wish::Keep) => {
                drop(terminal);
                let kept = model.keep(global, screen);
                terminal = Terminal::take()?;
                model.told(kept);
            }
            Some(Wish::Run(what)) => {
                drop(terminal);
                let ended = run_aside(&model.global_aside(), screen, what);
                if let Err(stop) = &ended {
                    screen.stop(stop, false);
                }
                if terminal::is_ended() {
                    return Ok(Exit::Interrupted);
                }
                screen.out("\nPress Enter to go back to the board. ");
                let mut line = String::new();
                let _ = std::io::stdin().read_line(&mut line);
                terminal = Terminal::take()?;
                let known = model.reopen(global, screen).map(|lost| lost_words(&lost));
                model.told(ended.and(known));
            }
            Some(Wish::Copy(text)) => terminal::copy(&text)?,
            Some(Wish::Edit(file, line)) => {
                drop(terminal);
                let edited = terminal::edit(&file, line);
                terminal = Terminal::take()?;
                // What was changed there is seen as any change beside the board is.
                looked = Instant::now().checked_sub(BESIDE).unwrap_or(looked);
                model.told(edited.map(|()| String::new()));
            }
        }
    }
    drop(terminal);
    let left = model.command_lines();
    if !left.is_empty() {
        screen.out(&format!("Left without keeping. The same by hand:\n{}\n", left.join("\n")));
    }
    Ok(Exit::Done)
}

/// Runs what is done outside of the board, as its command does.
fn run_aside(global: &Global, screen: &Screen, what: Run) -> Result<Exit, Stop> {
    match what {
        Run::Build => commands::build::run(global, screen, &commands::build::BuildArgs::default()),
        Run::Preview => commands::preview::run(global, screen, &commands::preview::usual()),
        Run::Test => commands::test::run(global, screen, &commands::test::TestArgs::default()),
        Run::Survey => commands::survey::run(global, screen, &commands::survey::SurveyArgs::default()),
    }
}
