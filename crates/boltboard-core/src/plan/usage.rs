//! Which option macros a set of files names.

use std::collections::{BTreeSet, HashMap};
use std::path::Path;
use std::sync::{Arc, Mutex};

use super::tokens::Tokens;

/// Tokens of files, read once a process.
#[derive(Debug, Default)]
pub struct TokenMemo {
    read: Mutex<HashMap<std::path::PathBuf, Arc<Tokens>>>,
}

impl TokenMemo {
    /// Returns a file's tokens; an unreadable file has none.
    pub fn of(&self, path: &Path) -> Arc<Tokens> {
        let lock = || self.read.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(tokens) = lock().get(path) {
            return tokens.clone();
        }
        let tokens = Arc::new(std::fs::read(path).map(|text| Tokens::of(&text)).unwrap_or_default());
        lock().insert(path.to_path_buf(), tokens.clone());
        tokens
    }

    /// Forgets a file that was written anew.
    pub fn forget(&self, path: &Path) {
        self.read.lock().unwrap_or_else(std::sync::PoisonError::into_inner).remove(path);
    }
}

/// What the files of one compile name.
#[derive(Debug, Default)]
pub struct Usage {
    files: Vec<Arc<Tokens>>,
    pastes: bool,
}

impl Usage {
    /// Adds a file.
    pub fn add(&mut self, tokens: Arc<Tokens>) {
        self.pastes |= tokens.pastes;
        self.files.push(tokens);
    }

    fn names(&self, name: &str) -> bool {
        self.files.iter().any(|tokens| tokens.names(name))
    }

    /// Returns those of the macros that the files name, or that pasting could form from pieces that they name.
    pub fn seen<'a>(&self, macros: impl IntoIterator<Item = &'a str>) -> BTreeSet<&'a str> {
        macros.into_iter().filter(|name| self.names(name) || (self.pastes && self.formable(name))).collect()
    }

    /// Tells whether a name can be cut into pieces that all occur: `a ## b` only ever joins tokens that stand somewhere
    /// in the text.
    fn formable(&self, name: &str) -> bool {
        // reach[i]: the first i bytes can be made of pieces.
        let mut reach = vec![false; name.len() + 1];
        reach[0] = true;
        for end in 1..=name.len() {
            reach[end] = (0..end).any(|start| {
                let whole = start == 0 && end == name.len();
                reach[start] && !whole && self.names(&name[start..end])
            });
        }
        reach[name.len()]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn usage(text: &str) -> Usage {
        let mut usage = Usage::default();
        usage.add(Arc::new(Tokens::of(text.as_bytes())));
        usage
    }

    #[test]
    fn pasting_sees_what_it_could_form_and_no_more() {
        let macros = ["SK_FOG", "SK_LAMP", "SK_LINK_2"];
        for (case, text, want) in [
            ("a prefix and a name", "#define ON(x) SK_##x\nON(FOG)", vec!["SK_FOG"]),
            ("the name as an argument elsewhere", "#define CAT(a,b) a##b\nCAT(SK_, LAMP)", vec!["SK_LAMP"]),
            ("three pieces, one a digit", "#define L(n) SK_ ## LINK_ ## n\nL(2)", vec!["SK_LINK_2"]),
            ("pieces without pasting", "SK_ FOG LAMP", vec![]),
            ("pasting of other things", "#define CAT(a,b) a##b\nCAT(x, y)", vec![]),
            ("named outright", "#ifdef SK_LAMP\n#endif", vec!["SK_LAMP"]),
        ] {
            let seen: Vec<&str> = usage(text).seen(macros).into_iter().collect();
            assert_eq!(seen, want, "{case}");
        }
    }
}
