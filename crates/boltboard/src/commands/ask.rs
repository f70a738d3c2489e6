//! Questions to a person.

use std::io::{BufRead, IsTerminal};

use crate::args::Global;
use crate::render::Screen;

/// Asks a person, where one is there.
pub(super) struct Asker<'a> {
    pub screen: &'a Screen,
    /// Whether a person is there.
    pub asks: bool,
}

impl<'a> Asker<'a> {
    /// One that asks on a terminal, unless a machine reads the answer.
    pub fn new(global: &Global, screen: &'a Screen) -> Self {
        Asker { screen, asks: std::io::stdin().is_terminal() && !global.json }
    }

    /// What was told, else what a person answers, else the usual.
    pub fn text(&self, question: &str, told: Option<&str>, usual: &str) -> String {
        if let Some(told) = told {
            return told.to_string();
        }
        if !self.asks {
            self.screen.remark(&format!("{question}: {usual}"));
            return usual.to_string();
        }
        self.screen.out(&format!("{question} [{usual}]: "));
        let mut line = String::new();
        let read = std::io::stdin().lock().read_line(&mut line);
        let answer = line.trim();
        if read.is_err() || answer.is_empty() { usual.to_string() } else { answer.to_string() }
    }
}
