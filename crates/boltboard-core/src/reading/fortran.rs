//! What a Fortran text says of modules: which it holds, which it uses. By the forms of source text of the standard (ISO/IEC 1539-1,
//! free and fixed), as far as that takes.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

/// How the lines of a text are read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub enum SourceForm {
    /// Statements anywhere on a line; `&` goes on.
    Free,
    /// Statements in columns 7 to 72; a sign in column 6 goes on.
    Fixed,
}

/// What a text says of modules, all names in small letters.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Units {
    /// The modules that it holds.
    pub modules: BTreeSet<Module>,
    /// The submodules that it holds.
    pub submodules: BTreeSet<Submodule>,
    /// The modules that it uses, but for those of the language itself.
    pub uses: BTreeSet<String>,
    /// The files that it takes in, as it names them.
    pub includes: BTreeSet<String>,
}

/// A module.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Module {
    /// Its name.
    pub name: String,
    /// Whether submodules hold some of its procedures.
    pub parted: bool,
}

/// A submodule.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Submodule {
    /// The module that it belongs to.
    pub ancestor: String,
    /// The submodule that it hangs on, if it does not hang on the module.
    pub parent: Option<String>,
    /// Its name.
    pub name: String,
}

impl Units {
    /// Reads a text.
    pub fn of(text: &str, form: SourceForm) -> Units {
        let mut units = Units::default();
        let mut within: Option<Module> = None;
        let mut interfaces = 0;
        for statement in statements(text, form) {
            let words = words_of(&statement);
            let word = |at: usize| words.get(at).map_or("", String::as_str);
            match (word(0), word(1)) {
                ("end", "interface") | ("endinterface", _) => interfaces = 0,
                ("interface", _) | ("abstract", "interface") => interfaces = 1,
                ("end", "module") | ("endmodule", _) => units.modules.extend(within.take()),
                ("module", name) if words.len() == 2 && is_name(name) && name != "procedure" => {
                    units.modules.extend(within.take());
                    within = Some(Module { name: name.to_string(), parted: false });
                    interfaces = 0;
                }
                ("submodule", "(") => units.submodules.extend(submodule(&words)),
                ("use", _) => units.uses.extend(used(&words)),
                _ => {}
            }
            let head = words.iter().position(|word| is_separate(word)).map_or(&[][..], |at| &words[..at]);
            let parted = head.iter().any(|word| word == "module") && head.iter().all(|word| word != "end");
            if parted
                && interfaces > 0
                && let Some(module) = &mut within
            {
                module.parted = true;
            }
        }
        units.modules.extend(within);
        units.includes = text.lines().filter_map(|line| included(line, form)).collect();
        units.without_own();
        units
    }

    /// Adds what a file says that the text takes in.
    pub fn take_in(&mut self, other: Units) {
        self.modules.extend(other.modules);
        self.submodules.extend(other.submodules);
        self.uses.extend(other.uses);
        self.without_own();
    }

    /// What a text holds itself it need not get from elsewhere.
    fn without_own(&mut self) {
        let own: BTreeSet<&String> = self.modules.iter().map(|module| &module.name).collect();
        self.uses.retain(|name| !own.contains(name));
    }

    /// Tells whether it says nothing.
    pub fn is_empty(&self) -> bool {
        *self == Units::default()
    }
}

/// `include 'name'`, alone on its line, and `#include "name"`.
fn included(line: &str, form: SourceForm) -> Option<String> {
    if form == SourceForm::Fixed && line.starts_with(['c', 'C', '*', 'd', 'D']) {
        return None;
    }
    let line = line.trim_start();
    let line = line.strip_prefix('#').map_or(line, str::trim_start);
    let parts = line.split_at_checked("include".len());
    let (_, rest) = parts.filter(|(word, _)| word.eq_ignore_ascii_case("include"))?;
    let rest = rest.trim_start();
    let open = rest.chars().next().filter(|c| matches!(c, '\'' | '"' | '<'))?;
    let close = if open == '<' { '>' } else { open };
    let (name, _) = rest[1..].split_once(close)?;
    Some(name.to_string()).filter(|name| !name.is_empty())
}

fn is_separate(word: &str) -> bool {
    matches!(word, "subroutine" | "function")
}

fn is_name(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_alphabetic())
}

/// `submodule ( ancestor [ : parent ] ) name`
fn submodule(words: &[String]) -> Option<Submodule> {
    let word = |at: usize| words.get(at).cloned();
    let (parent, name) = if word(3)? == ":" { (Some(word(4)?), word(6)?) } else { (None, word(4)?) };
    Some(Submodule { ancestor: word(2)?, parent, name })
}

/// `use [ [ , nature ] :: ] name …`
fn used(words: &[String]) -> Option<String> {
    let mut at = 1;
    if words.get(at)? == "," {
        if words.get(at + 1)? == "intrinsic" {
            return None;
        }
        at += 2;
    }
    if words.get(at)? == ":" {
        at += 2;
    }
    words.get(at).filter(|name| is_name(name)).cloned()
}

fn words_of(statement: &str) -> Vec<String> {
    let mut words: Vec<String> = Vec::new();
    let mut open = false;
    for c in statement.chars() {
        match c {
            c if c.is_ascii_alphanumeric() || c == '_' => {
                match (open, words.last_mut()) {
                    (true, Some(last)) => last.push(c.to_ascii_lowercase()),
                    _ => words.push(c.to_ascii_lowercase().to_string()),
                }
                open = true;
            }
            c if c.is_whitespace() => open = false,
            c => {
                words.push(c.to_string());
                open = false;
            }
        }
    }
    words
}

/// The statements of a text, without comments, texts in quotes and lines of the preprocessor.
fn statements(text: &str, form: SourceForm) -> Vec<String> {
    let mut statements = Vec::new();
    let mut current = String::new();
    let mut goes_on = false;
    let mut quote: Option<char> = None;
    for line in text.lines().filter(|line| !line.starts_with('#')) {
        let body = match form {
            SourceForm::Free => line.to_string(),
            SourceForm::Fixed => {
                if line.starts_with(['c', 'C', '*', '!', 'd', 'D']) {
                    continue;
                }
                // A tab in the label field leads to the statement, a digit behind it goes on.
                let mut chars = line.chars();
                let label: String = chars.by_ref().take(5).collect();
                let (more, body) = match line.split_once('\t').filter(|(label, _)| label.len() < 6) {
                    Some((_, rest)) => (rest.starts_with(|c: char| ('1'..='9').contains(&c)), rest.to_string()),
                    None => {
                        let sign = chars.next().unwrap_or(' ');
                        (!label.contains('!') && !matches!(sign, ' ' | '0'), chars.take(66).collect())
                    }
                };
                goes_on = more;
                if label.contains('!') { String::new() } else { body }
            }
        };
        let trimmed = body.trim_start();
        if form == SourceForm::Free && goes_on && (trimmed.is_empty() || trimmed.starts_with('!')) {
            // A comment between lines that go on.
            continue;
        }
        if !goes_on {
            statements.push(std::mem::take(&mut current));
            quote = None;
        }
        let body =
            if goes_on && form == SourceForm::Free { trimmed.strip_prefix('&').unwrap_or(trimmed) } else { &body };
        goes_on = false;
        for c in body.chars() {
            match (quote, c) {
                (Some(open), c) if c == open => quote = None,
                (Some(_), '&') if form == SourceForm::Free => goes_on = true,
                (Some(_), _) => {}
                (None, '\'' | '"') => {
                    quote = Some(c);
                    current.push(' ');
                }
                (None, '!') => break,
                (None, ';') => statements.push(std::mem::take(&mut current)),
                (None, '&') if form == SourceForm::Free => goes_on = true,
                (None, c) => {
                    if !c.is_whitespace() {
                        goes_on = false;
                    }
                    current.push(c);
                }
            }
        }
        if !goes_on {
            quote = None;
        }
    }
    statements.push(current);
    statements.retain(|statement| !statement.trim().is_empty());
    statements
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(units: &Units) -> String {
        let modules = units.modules.iter().map(|m| format!("module {}{}", m.name, if m.parted { "+" } else { "" }));
        let submodules = units.submodules.iter().map(|s| {
            format!(
                "submodule {}{} {}",
                s.ancestor,
                s.parent.as_ref().map_or(String::new(), |p| format!(":{p}")),
                s.name
            )
        });
        let uses = units.uses.iter().map(|name| format!("use {name}"));
        modules.chain(submodules).chain(uses).collect::<Vec<_>>().join(", ")
    }

    #[test]
    fn free_form_says_what_it_holds_and_uses() {
        for (text, want) in [
            ("module Tide\nend module Tide\n", "module tide"),
            ("  MODULE tide ! use not\n use :: kinds, only: r8\nend module", "module tide, use kinds"),
            ("use, intrinsic :: iso_c_binding\nuse, non_intrinsic :: mine; use other\n", "use mine, use other"),
            ("use &\n  ! between\n\n  & kinds, only : &\n a, b\n", "use kinds"),
            ("print *, 'use that', \"module x\"\nmodule procedure x\nend\n", ""),
            ("print *, 'it goes &\n &on with use that'\nuse this\n", "use this"),
            (
                "module a\ninterface\n pure module function f(x)\n end function\nend interface\nend module a\n",
                "module a+",
            ),
            (
                "module a\ninterface\nmodule integer function f()\nend function\nend interface\nend module\n",
                "module a+",
            ),
            (
                "module a\ninterface g\n module procedure f\nend interface\ncontains\nmodule subroutine s\nend\nend module\n",
                "module a",
            ),
            ("submodule (a) b\nend submodule\nsubmodule (a:b) c\nend submodule c\n", "submodule a b, submodule a:b c"),
            ("#define use x\nmodule a\nuse a2\nend module a\nprogram p\nuse a\nend program\n", "module a, use a2"),
            ("module_var = 3\nuse_it = 4\nmodule = 5\n", ""),
        ] {
            assert_eq!(said(&Units::of(text, SourceForm::Free)), want, "{text}");
        }
    }

    #[test]
    fn fixed_form_has_columns() {
        for (text, want) in [
            ("C     use nothing\n      use kinds\n      module tide\n      end\n", "module tide, use kinds"),
            ("      use\n     & kinds\n", "use kinds"),
            ("* x\n      program p\n      use a; use b ! use c\n", "use a, use b"),
            ("\tuse tabbed\n", "use tabbed"),
            ("      use kinds                                                         ignored\n", "use kinds"),
            ("      print *, '&'\n      use a\n", "use a"),
        ] {
            assert_eq!(said(&Units::of(text, SourceForm::Fixed)), want, "{text}");
        }
    }

    #[test]
    fn files_that_are_taken_in_are_named() {
        for (form, text, want) in [
            (SourceForm::Free, "  INCLUDE 'a.inc' ! first\ninclude \"b's.inc\"\n", &["a.inc", "b's.inc"][..]),
            (SourceForm::Free, "#include <c.h>\n # include \"d.h\"\n", &["c.h", "d.h"]),
            (SourceForm::Free, "! include 'a'\nincluded = 'b'\nprint *, \"include 'c'\"\ninclude ''\n", &[]),
            (SourceForm::Fixed, "      include 'a.inc'\nc     include 'b.inc'\n", &["a.inc"]),
            (SourceForm::Fixed, "      include\n#include\n      include 'a\n", &[]),
        ] {
            let found: Vec<String> = Units::of(text, form).includes.into_iter().collect();
            assert_eq!(found, want, "{text}");
        }
    }

    #[test]
    fn nothing_makes_it_fail() {
        for text in
            ["", "&", "use", "submodule (", "submodule (a:", "module", "'", "use,", "use, intrinsic", "\u{a0}ü use x"]
        {
            for form in [SourceForm::Free, SourceForm::Fixed] {
                let _ = Units::of(text, form);
            }
        }
    }
}
