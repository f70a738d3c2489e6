//! Text and JSON: the only folder that writes.

pub mod adopt;
pub mod back;
pub mod build;
pub mod carry;
pub mod clash;
pub mod compare;
pub mod course;
pub mod deliver;
mod economy;
pub mod env;
pub mod failure;
pub mod fetch;
pub mod inspect;
pub mod json;
pub mod junit;
pub mod lint;
mod lint_groups;
pub mod merge;
pub mod moved;
pub mod names;
pub mod options;
pub mod overview;
pub mod package;
pub mod pages;
pub mod preview;
pub mod proof;
pub mod ready;
pub mod shared;
pub mod survey;
pub mod tailor;
pub mod tests;
pub mod terminal;
pub mod text;
pub mod trial;
pub mod ways;
pub mod why;
pub mod workers;

use std::io::{IsTerminal, Write};

use crate::fault::{Diagnostic, Exit, Stop};
use text::{Role, next_lines, paint};

/// What the terminal can do, decided once.
#[derive(Clone, Copy)]
pub struct Screen {
    /// Columns of text; [`text::ENDLESS`] where no terminal shows it.
    pub width: usize,
    /// Whether only plain ASCII can be shown.
    pub ascii: bool,
    /// Whether progress can be drawn.
    pub live: bool,
}

impl Screen {
    /// Looks at the terminal.
    pub fn new() -> Screen {
        let width = std::env::var("COLUMNS").ok().and_then(|c| c.parse().ok());
        let size =
            width.or_else(|| std::io::stdout().is_terminal().then(|| usize::from(console::Term::stdout().size().1)));
        let width = size.map_or(text::ENDLESS, |size| size.clamp(40, 140));
        Screen { width, ascii: is_ascii_locale(), live: std::io::stderr().is_terminal() }
    }

    /// The signs of a text as the terminal can show them.
    fn signs(&self, text: &str) -> String {
        let text = &text::harmless(text);
        if !self.ascii {
            return text.clone();
        }
        let plain = |c: char| match c {
            '→' => "->".to_string(),
            '…' => "...".into(),
            '›' => ">".into(),
            '·' | '−' => "-".into(),
            c => c.to_string(),
        };
        text.chars().map(plain).collect()
    }

    /// Writes a result. A reader that has gone away is no error.
    pub fn out(&self, text: &str) {
        let mut stdout = anstream::stdout().lock();
        let written = stdout.write_all(self.signs(text).as_bytes()).and_then(|()| stdout.flush());
        if written.is_err_and(|e| e.kind() == std::io::ErrorKind::BrokenPipe) {
            std::process::exit(0);
        }
    }

    /// Writes a remark.
    pub fn remark(&self, text: &str) {
        // There is nobody left to tell when this fails.
        let _ = anstream::stderr().lock().write_all(self.signs(&format!("{text}\n")).as_bytes());
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

    /// Writes what was done, in a sentence.
    pub fn done(&self, text: &str, as_json: bool) {
        if as_json {
            self.json(&json::done(text));
        } else {
            self.out(text);
        }
    }

    /// Writes a JSON answer.
    pub fn json<T: serde::Serialize>(&self, answer: &T) {
        let mut text = text::harmless_json(&serde_json::to_string_pretty(answer).expect("answers are plain data"));
        text.push('\n');
        self.out(&text);
    }

    /// Tells what stands against a command, and returns how it ends.
    pub fn stop(&self, stop: &Stop, as_json: bool) -> Exit {
        if as_json {
            self.json(&json::errors(stop));
        } else {
            self.diagnostics(&stop.diagnostics);
        }
        stop.exit
    }

    /// Tells what is wrong.
    pub fn diagnostics(&self, diagnostics: &[Diagnostic]) {
        let texts: Vec<String> = diagnostics.iter().take(MOST_TOLD).map(diagnostic).collect();
        let mut text = texts.join("\n");
        match diagnostics.len() {
            0 | 1 => {}
            all if all > MOST_TOLD => {
                text.push_str(&format!(
                    "\n{all} problems, {MOST_TOLD} of them shown; the same command with --json tells all\n"
                ));
            }
            all => text.push_str(&format!("\n{all} problems\n")),
        }
        let _ = anstream::stderr().lock().write_all(self.signs(&text).as_bytes());
    }
}

/// How many problems are shown: one mistake may show itself in ten thousand places.
const MOST_TOLD: usize = 50;

/// Tells whether the locale is one that knows ASCII alone. One that is not set tells nothing.
fn is_ascii_locale() -> bool {
    let set = |name| std::env::var(name).ok().filter(|value| !value.is_empty());
    let locale = set("LC_ALL").or_else(|| set("LC_CTYPE")).or_else(|| set("LANG"));
    locale.is_some_and(|locale| {
        let locale = locale.to_lowercase();
        !locale.contains("utf-8") && !locale.contains("utf8")
    })
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
    if !diagnostic.near.is_empty() {
        let names: Vec<String> = diagnostic.near.iter().map(|name| format!("`{name}`")).collect();
        text.push_str(&format!("  did you mean {}?\n", names.join(" or ")));
    }
    for help in &diagnostic.help {
        text.push_str(&format!("  {} {help}\n", paint(Role::Good, "→")));
    }
    text.push_str(&next_lines(&diagnostic.next, 2));
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
