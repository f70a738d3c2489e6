//! Words with the options that they stand at.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};

use crate::base::{Id, NameTable};
use crate::board::{Atom, Board, Condition, OptionId};

/// Where a word stands; the first ones weigh most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Field {
    Name,
    Macro,
    Section,
    Summary,
    File,
    Help,
}

const FIELDS: [(Field, u32); 6] = [
    (Field::Name, 12),
    (Field::Macro, 7),
    (Field::Section, 5),
    (Field::Summary, 5),
    (Field::File, 3),
    (Field::Help, 2),
];

/// How well a word of the index fits a word of the question, in eighths.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Fit(u32);

impl Fit {
    const SAME: Fit = Fit(8);
    const BEGINS: Fit = Fit(6);
    const WITHIN: Fit = Fit(4);
    const TYPO: Fit = Fit(2);
}

/// Only a marker for the names of words.
#[derive(Debug, Clone)]
pub struct Word;

/// All words of a board. Postings of one word are sorted by option.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct SearchIndex {
    words: NameTable<Word>,
    starts: Vec<u32>,
    /// An option and a field: `option * 8 + field`.
    postings: Vec<u32>,
}

/// What a search has found.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Found {
    /// The options, best first; equally good ones by name.
    pub options: Vec<OptionId>,
    /// Words that stand nowhere and were taken for these, which are like them.
    pub corrected: Vec<(String, Vec<String>)>,
}

impl SearchIndex {
    /// Reads all words of a board.
    pub fn of(board: &Board) -> SearchIndex {
        let mut numbers: HashMap<String, u32> = HashMap::new();
        let mut places: Vec<(u32, u32)> = Vec::new();
        let mut add = |option: OptionId, field: Field, text: &str| {
            let posting = (option.index() as u32) << 3 | field as u32;
            for word in words_of(text) {
                let number = match numbers.get(word.as_ref()) {
                    Some(number) => *number,
                    None => {
                        let number = numbers.len() as u32;
                        numbers.insert(word.into_owned(), number);
                        number
                    }
                };
                places.push((number, posting));
            }
        };
        for (id, option) in board.options.iter() {
            add(id, Field::Name, &option.name);
            option.macros.iter().for_each(|definition| add(id, Field::Macro, &definition.name));
            add(id, Field::Section, &board.sections[option.section].title);
            add(id, Field::Summary, &option.summary);
            add(id, Field::Help, &option.help);
            add(id, Field::File, board.files.name(option.place.file).trim_end_matches("boltboard.toml"));
        }
        for (_, part) in board.parts.iter() {
            for rule in &part.sources {
                for option in options_of(rule.when.as_ref()).chain(options_of(part.when.as_ref())) {
                    rule.globs.iter().for_each(|glob| add(option, Field::File, glob.as_str()));
                }
            }
        }
        let mut sorted: Vec<(&String, u32)> = numbers.iter().map(|(word, number)| (word, *number)).collect();
        sorted.sort();
        let words = NameTable::new(sorted.iter().map(|(word, _)| word.as_str()));
        let mut ranks = vec![0_u32; sorted.len()];
        sorted.iter().enumerate().for_each(|(rank, (_, number))| ranks[*number as usize] = rank as u32);
        places.iter_mut().for_each(|(number, _)| *number = ranks[*number as usize]);
        places.sort_unstable();
        places.dedup();
        let mut starts = Vec::with_capacity(sorted.len() + 1);
        let mut postings = Vec::with_capacity(places.len());
        for (rank, posting) in places {
            while starts.len() <= rank as usize {
                starts.push(postings.len() as u32);
            }
            postings.push(posting);
        }
        starts.push(postings.len() as u32);
        SearchIndex { words, starts, postings }
    }

    /// Finds the options at which all words of a question stand.
    pub fn find(&self, board: &Board, question: &str) -> Found {
        let mut found = Found::default();
        let mut scores: Option<BTreeMap<OptionId, u32>> = None;
        for word in words_of(question) {
            let mut fits = self.fits(&word);
            if fits.is_empty() {
                fits = self.like(&word);
                let meant = fits.iter().take(3).map(|(id, _)| self.words.get(*id).to_string()).collect();
                found.corrected.push((word.to_string(), meant));
            }
            let mut best: BTreeMap<OptionId, u32> = BTreeMap::new();
            for (id, fit) in fits {
                for posting in self.postings_of(id) {
                    let (_, weight) = FIELDS[(posting & 7) as usize];
                    let score = best.entry(OptionId::new((posting >> 3) as usize)).or_default();
                    *score = (*score).max(weight * fit.0);
                }
            }
            scores = Some(match scores {
                None => best,
                Some(mut before) => {
                    before.retain(|option, _| best.contains_key(option));
                    before.iter_mut().for_each(|(option, score)| *score += best[option]);
                    before
                }
            });
        }
        let asked = question.trim().to_lowercase();
        let mut ranked: Vec<(u32, OptionId)> =
            scores.unwrap_or_default().into_iter().map(|(option, score)| (score, option)).collect();
        for (score, option) in &mut ranked {
            let name = board.option_names.get(*option);
            // A name that is just what was asked for comes before everything else.
            *score += if name == asked {
                1000
            } else if name.starts_with(&asked) {
                20
            } else {
                0
            };
        }
        let name = |option: OptionId| board.option_names.get(option);
        ranked.sort_by(|a, b| b.0.cmp(&a.0).then_with(|| name(a.1).cmp(name(b.1))));
        found.options = ranked.into_iter().map(|(_, option)| option).collect();
        found
    }

    /// Words that are the same, begin with it, or hold it.
    fn fits(&self, wanted: &str) -> Vec<(Id<Word>, Fit)> {
        let fit = |word: &str| match word.find(wanted) {
            Some(0) if word.len() == wanted.len() => Some(Fit::SAME),
            Some(0) => Some(Fit::BEGINS),
            Some(_) if wanted.len() >= 3 => Some(Fit::WITHIN),
            Some(_) | None => None,
        };
        self.words.iter().enumerate().filter_map(|(at, word)| Some((Id::new(at), fit(word)?))).collect()
    }

    /// Words that differ by few letters, or begin with such, the nearest first.
    fn like(&self, wanted: &str) -> Vec<(Id<Word>, Fit)> {
        let letters = wanted.chars().count();
        let most = match letters {
            0..=3 => 0,
            4..=7 => 1,
            _ => 2,
        };
        let distance = |word: &str| {
            let begin: String = word.chars().take(letters).collect();
            strsim::damerau_levenshtein(wanted, word).min(strsim::damerau_levenshtein(wanted, &begin) + 1)
        };
        // Each typing error takes at most one letter away, so most words are told apart by their letters alone.
        let own = letter_set(wanted);
        let near = |word: &str| (own & !letter_set(word)).count_ones() as usize <= most;
        let mut like: Vec<(usize, usize)> = self
            .words
            .iter()
            .enumerate()
            .filter(|(_, word)| word.len() + most >= letters && near(word))
            .map(|(at, word)| (distance(word), at))
            .filter(|(distance, _)| *distance <= most)
            .collect();
        like.sort();
        like.into_iter().map(|(_, at)| (Id::new(at), Fit::TYPO)).collect()
    }

    fn postings_of(&self, word: Id<Word>) -> &[u32] {
        &self.postings[self.starts[word.index()] as usize..self.starts[word.index() + 1] as usize]
    }
}

/// The options that a condition switches on by.
fn options_of(condition: Option<&Condition>) -> impl Iterator<Item = OptionId> {
    let mut options = Vec::new();
    if let Some(condition) = condition {
        condition.expr.for_each_atom(&mut |atom| match atom {
            Atom::On(option) | Atom::Compare(option, _, _) => options.push(*option),
            Atom::Need(_) => {}
        });
    }
    options.into_iter()
}

fn words_of(text: &str) -> impl Iterator<Item = std::borrow::Cow<'_, str>> {
    text.split(|c: char| !c.is_alphanumeric())
        .filter(|word| !word.is_empty())
        .map(|word| if word.chars().any(char::is_uppercase) { word.to_lowercase().into() } else { word.into() })
}

/// The letters and digits of a word, a bit each.
fn letter_set(word: &str) -> u64 {
    word.chars().fold(0, |set, c| set | 1 << (c as u32 % 64))
}
