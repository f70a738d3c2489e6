//! Text and JSON: the only folder that writes.

pub mod build;
pub mod clash;
pub mod compare;
pub mod course;
pub mod deliver;
pub mod json;
pub mod junit;
pub mod lint;
pub mod options;
pub mod overview;
pub mod preview;
pub mod proof;
pub mod ways;
pub mod survey;
pub mod text;
pub mod why;

use std::io::{IsTerminal, Write};

use crate::exit::Diagnostic;
use text::{Role, paint};

/// What the terminal can do, decided once.
#[derive(Clone, Copy)]
pub struct Screen {
    /// Columns of text.
    pub width: usize,
    /// Whether progress can be drawn.
    pub live: bool,
}

impl Screen {
    /// Looks at the terminal.
    pub fn new() -> Screen {
        let width = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
        let size =
            width.or_else(|| std::io::stdout().is_terminal().then(|| usize::from(console::Term::stdout().size().1)));
        Screen { width: size.unwrap_or(100).clamp(60, 140), live: std::io::stderr().is_terminal() }
    }

    /// Writes a result. A reader that has gone away is no error.
    pub fn out(&self, text: &str) {
        let mut stdout = anstream::stdout().lock();
        let written = stdout.write_all(text.as_bytes()).and_then(|()| stdout.flush());
        if written.is_err_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe) {
            std::process::exit(0);
        }
    }

    /// Writes a remark.
    pub fn remark(&self, text: &str) {
        // There is nobody left to tell when this fails.
        let _ = anstream::stderr().lock().write_all(format!("{text}\n").as_bytes());
    }

    /// Asks a question. Where nobody sits at both ends, nobody is asked, and it counts as agreed.
    pub fn agrees(&self, question: &str) -> bool {
        if !(std::io::stdin().is_terminal() && std::io::stdout().is_terminal()) {
            return true;
        }
        self.out(&format!("{question} [y/N] "));
        let mut answer = String::new();
        let read = std::io::stdin().read_line(&mut answer);
        read.is_ok() && matches!(answer.trim(), "y" | "Y" | "yes")
    }

    /// Writes a JSON answer.
    pub fn json<T: serde::Serialize>(&self, answer: &T) {
        let mut text = serde_json::to_string_pretty(answer).unwrap_or_default();
        text.push('\n');
        self.out(&text);
    }

    /// Tells what is wrong.
    pub fn diagnostics(&self, diagnostics: &[Diagnostic]) {
        let texts: Vec<String> = diagnostics.iter().map(diagnostic).collect();
        let mut text = texts.join("\n");
        if diagnostics.len() > 1 {
            text.push_str(&format!("\n{} problems\n", diagnostics.len()));
        }
        let _ = anstream::stderr().lock().write_all(text.as_bytes());
    }
}

fn diagnostic(diagnostic: &Diagnostic) -> String {
    let mut text = format!("{} {}\n", paint(Role::Bad, "error:"), paint(Role::Title, &diagnostic.message));
    let mut show = |label: Option<&str>, excerpt: &boltboard_core::base::Excerpt| {
        let place = format!("{}:{}:{}", excerpt.file, excerpt.line, excerpt.column);
        let label = label.map_or(String::new(), |label| format!("{label}: "));
        text.push_str(&format!("  {}{}\n", paint(Role::Faint, &label), paint(Role::Faint, &place)));
        if !excerpt.text.trim().is_empty() {
            let line = excerpt.text.replace('\t', " ");
            // Very long lines are cut around the place.
            let (line, column) = cut(&line, excerpt.column - 1);
            let marks = "~".repeat(excerpt.width.min(line.chars().count().saturating_sub(column)).max(1));
            text.push_str(&format!("    {line}\n    {}{}\n", " ".repeat(column), paint(Role::Warn, &marks)));
        }
    };
    if let Some(excerpt) = &diagnostic.excerpt {
        show(None, excerpt);
    }
    if let Some((label, excerpt)) = &diagnostic.related {
        show(Some(label), excerpt);
    }
    for note in &diagnostic.notes {
        text.push_str(&format!("  {note}\n"));
    }
    for help in &diagnostic.help {
        text.push_str(&format!("  {} {help}\n", paint(Role::Good, "try:")));
    }
    text
}

fn cut(line: &str, column: usize) -> (String, usize) {
    const WIDEST: usize = 160;
    if line.chars().count() <= WIDEST {
        return (line.to_string(), column);
    }
    let start = column.saturating_sub(WIDEST / 2);
    (line.chars().skip(start).take(WIDEST).collect(), column - start)
}
