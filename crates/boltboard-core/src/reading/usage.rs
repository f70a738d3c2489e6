//! Which option macros a set of files names.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::Path;
use std::sync::{Arc, Mutex};

use foldhash::fast::FixedState;

use super::Dialects;
use super::tokens::{EMPTY, Tokens, hash, with_byte};
use crate::base::Digest;

/// Tokens of files, read once for each content and dialect.
#[derive(Debug, Default)]
pub struct TokenMemo {
    read: Mutex<Known>,
}

/// Few dialects and many contents.
type Known = HashMap<Dialects, HashMap<Digest, Arc<Tokens>>>;

impl TokenMemo {
    /// Returns the tokens of a file that is known to hold `content`; `None` when it holds something else by now.
    pub fn of(&self, path: &Path, content: &Digest, dialects: &Dialects) -> Option<Arc<Tokens>> {
        if let Some(tokens) = self.lock().get(dialects).and_then(|known| known.get(content)) {
            return Some(tokens.clone());
        }
        let text = std::fs::read(path).ok().filter(|text| Digest::of(text) == *content)?;
        let tokens = Arc::new(Tokens::of(&text, dialects));
        let mut all = self.lock();
        let known = match all.get_mut(dialects) {
            Some(known) => known,
            None => all.entry(dialects.clone()).or_default(),
        };
        known.insert(*content, tokens.clone());
        Some(tokens)
    }

    /// Forgets a content that will hardly be asked for again.
    pub fn forget(&self, content: &Digest) {
        for known in self.lock().values_mut() {
            known.remove(content);
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Known> {
        self.read.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

/// Names that are looked for in files, such as those of all macros that carry options.
#[derive(Debug, Clone, Default)]
pub struct NameIndex {
    names: Vec<String>,
    numbers: HashMap<u64, u32, FixedState>,
    /// Hashes of all that these names can begin with, but for the whole names.
    beginnings: HashSet<u64, FixedState>,
    /// Digest of the names.
    pub digest: Digest,
}

impl NameIndex {
    /// Makes an index of some names.
    pub fn of<'a>(names: impl IntoIterator<Item = &'a str>) -> NameIndex {
        let mut index = NameIndex { names: names.into_iter().map(str::to_string).collect(), ..NameIndex::default() };
        for (number, name) in (0u32..).zip(&index.names) {
            let (mut hash, mut begun) = (EMPTY, Vec::with_capacity(name.len()));
            for byte in name.bytes() {
                begun.push(hash);
                hash = with_byte(hash, byte);
            }
            index.beginnings.extend(begun.into_iter().skip(1));
            index.numbers.insert(hash, number);
        }
        index.digest = Digest::of_parts(index.names.iter().map(String::as_str));
        index
    }
}

/// Macros of compilers that paste an ending to what they are given.
const SUFFIXING: [&str; 12] = [
    "__INT8_C",
    "__INT16_C",
    "__INT32_C",
    "__INT64_C",
    "__INTMAX_C",
    "__UINT8_C",
    "__UINT16_C",
    "__UINT32_C",
    "__UINT64_C",
    "__UINTMAX_C",
    "INTMAX_C",
    "UINTMAX_C",
];

/// Words in what compilers define by themselves, beside numbers.
const PREDEFINED: [&str; 13] =
    ["L", "LL", "U", "UL", "ULL", "F", "int", "long", "short", "char", "unsigned", "signed", "double"];

/// What the files of one compile name.
#[derive(Debug, Default)]
pub struct Usage {
    files: Vec<Arc<Tokens>>,
    pastes: bool,
}

impl Usage {
    /// Adds a file, or another text that the compile sees.
    pub fn add(&mut self, tokens: Arc<Tokens>) {
        self.pastes |= tokens.pastes;
        // What the compiler defines by itself pastes as well.
        self.pastes |= SUFFIXING.iter().any(|name| tokens.names(name));
        self.files.push(tokens);
    }

    fn hashes(&self) -> impl Iterator<Item = &u64> {
        self.files.iter().flat_map(|tokens| &tokens.names)
    }

    /// Returns those of the names that the files name, or that pasting could form from pieces that they name.
    pub fn seen<'i>(&self, index: &'i NameIndex) -> BTreeSet<&'i str> {
        let name = |number: &u32| index.names.get(*number as usize).map(String::as_str);
        let mut seen: BTreeSet<&str> =
            self.hashes().filter_map(|hash| index.numbers.get(hash)).filter_map(name).collect();
        // Whatever is pasted begins with a piece that stands somewhere in the text.
        if self.pastes && self.hashes().any(|hash| index.beginnings.contains(hash)) {
            let mut pieces: HashSet<u64, FixedState> = self.hashes().copied().collect();
            pieces.extend(PREDEFINED.iter().map(|piece| hash(piece.as_bytes())));
            seen.extend(index.names.iter().map(String::as_str).filter(|name| formable(name.as_bytes(), &pieces)));
        }
        seen
    }
}

/// Tells whether a name can be cut into pieces that all occur: `a ## b` only ever joins tokens that stand somewhere in the
/// text.
fn formable(name: &[u8], pieces: &HashSet<u64, FixedState>) -> bool {
    // reach[i]: the first i bytes can be made of pieces.
    let mut reach = vec![false; name.len() + 1];
    reach[0] = true;
    for start in 0..name.len() {
        if !reach[start] {
            continue;
        }
        let mut hash = EMPTY;
        for end in start + 1..=name.len() {
            hash = with_byte(hash, name[end - 1]);
            let whole = start == 0 && end == name.len();
            // A number can come from what the compiler counts or measures: a line, the size of a pointer.
            let number = name[start].is_ascii_digit();
            reach[end] |= !whole && (number || pieces.contains(&hash));
        }
    }
    reach[name.len()]
}

#[cfg(test)]
mod tests {
    use super::*;

    fn usage(text: &str) -> Usage {
        let mut usage = Usage::default();
        usage.add(Arc::new(Tokens::of(text.as_bytes(), &Dialects::default())));
        usage
    }

    #[test]
    fn pasting_sees_what_it_could_form_and_no_more() {
        let macros = NameIndex::of(["SK_FOG", "SK_LAMP", "SK_LINK_2", "SK_TIDE_L"]);
        for (case, text, want) in [
            ("a prefix and a name", "#define ON(x) SK_##x\nON(FOG)", vec!["SK_FOG"]),
            ("the name as an argument elsewhere", "#define CAT(a,b) a##b\nCAT(SK_, LAMP)", vec!["SK_LAMP"]),
            ("three pieces, one a digit", "#define L(n) SK_ ## LINK_ ## n\nL(2)", vec!["SK_LINK_2"]),
            ("pieces without pasting", "SK_ FOG LAMP", vec![]),
            ("pasting of other things", "#define CAT(a,b) a##b\nCAT(x, y)", vec![]),
            (
                "a number that the compiler knows",
                "#define C(a,b) a##b\nC(SK_LINK_, __SIZEOF_SHORT__)",
                vec!["SK_LINK_2"],
            ),
            ("an ending that the compiler adds", "long x = __INT64_C(SK_TIDE_);", vec!["SK_TIDE_L"]),
            ("named outright", "#ifdef SK_LAMP\n#endif", vec!["SK_LAMP"]),
        ] {
            let seen: Vec<&str> = usage(text).seen(&macros).into_iter().collect();
            assert_eq!(seen, want, "{case}");
        }
    }
}
