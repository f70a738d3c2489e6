//! The terminal, taken for a while and given back whole: also after an error, a panic or a signal.

use std::io::{IsTerminal, Stdout, stdout};
use std::path::Path;
use std::sync::Once;
use std::sync::atomic::{AtomicBool, Ordering};

use crossterm::clipboard::CopyToClipboard;
use crossterm::event::{DisableMouseCapture, EnableMouseCapture};
use crossterm::terminal::{
    BeginSynchronizedUpdate, Clear, ClearType, EndSynchronizedUpdate, EnterAlternateScreen, LeaveAlternateScreen,
    disable_raw_mode, enable_raw_mode,
};
use crossterm::{execute, queue};
use ratatui::Frame;

use super::economy::Economical;
use crate::ending::on_end;
use crate::fault::{Diagnostic, Exit, Stop};

/// Whether a signal asked us to end.
static ENDED: AtomicBool = AtomicBool::new(false);
static HANDLED: Once = Once::new();

/// What is told when the terminal does not do as it should.
pub fn fault(error: std::io::Error) -> Stop {
    Stop::new(Exit::Machine, Diagnostic::new(format!("the terminal cannot be used: {error}")))
}

/// Whether a signal asked us to end.
pub fn is_ended() -> bool {
    ENDED.load(Ordering::Relaxed)
}

/// Makes sure that there is a terminal.
pub fn check() -> Result<(), Stop> {
    if std::io::stdin().is_terminal() && stdout().is_terminal() {
        return Ok(());
    }
    let diagnostic = Diagnostic::new("the board needs a terminal to be drawn on")
        .next("boltboard options", "list options with their values")
        .next("boltboard set --help", "choose values")
        .next("boltboard preview", "what a build would do");
    Err(Stop::new(Exit::WrongUse, diagnostic))
}

/// Puts a text into the clipboard, by the sequence that terminals have for that; those that do not know it, or are told not to, do nothing.
pub fn copy(text: &str) -> Result<(), Stop> {
    execute!(stdout(), CopyToClipboard::to_clipboard_from(text)).map_err(fault)
}

/// Opens a file in the person's editor, at a line, and waits for its end.
pub fn edit(file: &Path, line: usize) -> Result<(), Stop> {
    let named = ["VISUAL", "EDITOR"].into_iter().filter_map(|name| std::env::var(name).ok());
    let editor = named.into_iter().find(|editor| !editor.trim().is_empty()).unwrap_or_else(|| "vi".into());
    let mut words = editor.split_whitespace();
    let program = words.next().unwrap_or("vi");
    let mut command = std::process::Command::new(program);
    // `+LINE` is what POSIX editors take as the place to begin at.
    let status = command.args(words).arg(format!("+{line}")).arg(file).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(Stop::usage(format!("`{program}` ended with {status}"))),
        Err(error) => Err(Stop::usage(format!("`{program}` cannot be started: {error}; set VISUAL or EDITOR"))),
    }
}

/// The terminal while it is ours.
pub struct Terminal {
    inner: ratatui::Terminal<Economical<Stdout>>,
}

impl Terminal {
    /// Takes it.
    pub fn take() -> Result<Terminal, Stop> {
        HANDLED.call_once(|| {
            on_end(|| ENDED.store(true, Ordering::Relaxed));
            let usual = std::panic::take_hook();
            std::panic::set_hook(Box::new(move |panic| {
                give_back();
                // Whichever thread it was: the board is left, and the message stays in sight.
                ENDED.store(true, Ordering::Relaxed);
                usual(panic);
            }));
        });
        enable_raw_mode().map_err(fault)?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture).map_err(fault)?;
        let inner = ratatui::Terminal::new(Economical::new(stdout())).map_err(fault)?;
        Ok(Terminal { inner })
    }

    /// Draws a frame.
    pub fn draw(&mut self, draw: impl FnOnce(&mut Frame<'_>)) -> Result<(), Stop> {
        // A terminal that knows of it shows the frame at once, and not line by line.
        queue!(stdout(), BeginSynchronizedUpdate).map_err(fault)?;
        self.inner.draw(draw).map_err(fault)?;
        execute!(stdout(), EndSynchronizedUpdate).map_err(fault)
    }

    /// Stops as the shell stops other programs, and goes on when it is called back.
    pub fn stop(&mut self) -> Result<(), Stop> {
        give_back();
        let own = rustix::process::getpid();
        let _ = rustix::process::kill_process(own, rustix::process::Signal::TSTP);
        enable_raw_mode().map_err(fault)?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture).map_err(fault)?;
        self.begin_anew()
    }

    /// Whether it has another size than what is shown. It tells of a change only once, and that is lost where a key comes in the same moment.
    pub fn changed_its_size(&mut self) -> bool {
        let shown = self.inner.get_frame().area().as_size();
        crossterm::terminal::size().is_ok_and(|(width, height)| (width, height) != (shown.width, shown.height))
    }

    /// Forgets what is shown, and shows nothing: a terminal that changed its size may have lost some of it, even where it has the same size
    /// again. It is not asked where its cursor stands, which could go unanswered.
    pub fn begin_anew(&mut self) -> Result<(), Stop> {
        execute!(stdout(), Clear(ClearType::All)).map_err(fault)?;
        self.inner = ratatui::Terminal::new(Economical::new(stdout())).map_err(fault)?;
        Ok(())
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        give_back();
        let _ = self.inner.show_cursor();
    }
}

fn give_back() {
    let _ = execute!(stdout(), DisableMouseCapture, LeaveAlternateScreen, crossterm::cursor::Show);
    let _ = disable_raw_mode();
}
