//! The board on the screen: options, and beside them what each value of the one under the cursor would bring.
//!
//! `model` is what is known and what a key does, `changes` the slate, both without a terminal; `draw` puts it on the screen; `worker` finds consequences aside;
//! `render::terminal` takes the terminal and gives it back. Data flows `keys → model → draw`, and `worker → model`.

mod cards;
mod changes;
mod draw;
mod keys;
mod model;
mod worker;

#[cfg(test)]
mod tests;

use std::time::Duration;

use crossterm::event::{self, Event};

use self::model::{Model, Wish};
use self::worker::Worker;
use crate::args::Global;
use crate::commands;
use crate::fault::{Exit, Stop};
use crate::render::Screen;
use crate::render::terminal::{self, Terminal};
use crate::session::Session;

/// How long is waited for a key before the consequences that were found are drawn.
const WAIT: Duration = Duration::from_millis(15);

/// Runs the board until the person leaves it. `words` are what it opens at.
pub fn run(global: &Global, screen: &Screen, words: &[String]) -> Result<Exit, Stop> {
    terminal::check()?;
    let mut model = Model::open(Session::open(global, screen)?, words)?;
    let mut worker = Worker::start(global.clone());
    let mut terminal = Terminal::take()?;
    loop {
        if let Some(question) = model.question() {
            worker.ask(question);
        }
        while let Some(answer) = worker.answer() {
            model.learn(answer);
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
                let kept = model.keep(screen);
                terminal = Terminal::take()?;
                model.told(kept);
            }
            Some(Wish::Run(what)) => {
                drop(terminal);
                let ended = match what {
                    model::Run::Build => commands::build::run(global, screen, &commands::build::BuildArgs::default()),
                    model::Run::Preview => commands::preview::run(global, screen, &commands::preview::usual()),
                };
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
                let known = model.reopen(global, screen);
                // It reads the definitions anew as well.
                worker = Worker::start(global.clone());
                model.told(known.map(|()| String::new()));
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
