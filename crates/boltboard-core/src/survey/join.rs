//! Questions joined into few runs of the compiler, and split again where a joint run fails.
//!
//! A run that succeeds answers all its questions with yes. One that fails names the lines, libraries or flags it stumbles over;
//! those questions are answered with no and the others are asked again without them, so that every yes comes from a run without
//! a single error. Where no question can be blamed, the set is cut in halves.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

use serde::{Deserialize, Serialize};
use tracing::{debug, trace};

use super::asking::{Extras, Run};
use super::blame::Blame;
use super::compiler::Compiler;
use super::inclusions::{ByName, Inclusions};
use super::question::{Body, Question, RunKey, program};
use super::{Joining, Prober, search};
use crate::base::json_text;

/// How many lines of a compiler's words are kept for a question.
const MAX_WORDS: usize = 12;

/// The answer to one question.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Answer {
    /// Whether it is yes.
    pub yes: bool,
    /// The number or text that was asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// The compiler's own words about it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub words: Vec<String>,
}

/// Answers all questions, from the memo where it knows them. Where there is no compiler, a question gets no answer.
pub(super) fn answer(questions: &BTreeSet<Question>, prober: Prober<'_>) -> BTreeMap<Question, Answer> {
    let mut answers = BTreeMap::new();
    let open: BTreeSet<&Question> =
        questions.iter().filter(|question| !recall(question, prober, &mut answers)).collect();
    debug!(known = answers.len(), asked = open.len(), "questions to compilers");
    open.iter().for_each(|question| trace!(?question, "is asked"));
    if prober.joining == Joining::Alone {
        ask(&open, prober, &mut answers);
    } else {
        ask_cheaper_first(&open, prober, &mut answers);
    }
    let refused = questions.iter().filter(|question| answers.get(question).is_some_and(|answer| !answer.yes));
    let more: BTreeSet<Question> = refused.filter_map(Question::follow_up).collect();
    let more: BTreeSet<&Question> = more.iter().filter(|question| !recall(question, prober, &mut answers)).collect();
    ask(&more, prober, &mut answers);
    answers
}

fn ask_cheaper_first(open: &BTreeSet<&Question>, prober: Prober<'_>, answers: &mut BTreeMap<Question, Answer>) {
    let cheaper: BTreeSet<Question> = open.iter().flat_map(|question| question.cheaper()).collect();
    let mut first: BTreeSet<&Question> =
        open.iter().copied().filter(|question| question.cheaper().is_empty()).collect();
    first.extend(cheaper.iter().filter(|question| !recall(question, prober, answers)));
    ask_chained(&first, prober, answers);
    // What came out doubtful, because headers before it tell of the same, is asked with its own headers only.
    let doubtful: BTreeSet<&Question> =
        first.iter().copied().filter(|question| !answers.contains_key(*question)).collect();
    ask(&doubtful, prober, answers);
    let yes = |question: &Question| answers.get(question).is_some_and(|answer| answer.yes);
    let (settled, rest): (Vec<&Question>, Vec<&Question>) = open
        .iter()
        .filter(|question| !first.contains(*question))
        .partition(|question| question.cheaper().iter().all(yes));
    answers.extend(settled.into_iter().map(|question| (question.clone(), Answer::plain_yes())));
    ask(&rest.into_iter().collect(), prober, answers);
}

/// Takes an answer from the memo, where it is one of itself or of cheaper questions that are as good.
fn recall(question: &Question, prober: Prober<'_>, answers: &mut BTreeMap<Question, Answer>) -> bool {
    let Ok(compiler) = prober.compiler(question.setting.language) else { return true };
    let kept = |question: &Question| Answer::from_memo(&prober.memo.recall(&question.digest(&compiler.identity))?);
    let cheaper = question.cheaper();
    let as_good = || !cheaper.is_empty() && cheaper.iter().all(|part| kept(part).is_some_and(|answer| answer.yes));
    let answer = kept(question).or_else(|| as_good().then(Answer::plain_yes));
    answer.map(|answer| answers.insert(question.clone(), answer)).is_some()
}

/// Asks each question in a run that it shares with those of its own key.
fn ask(questions: &BTreeSet<&Question>, prober: Prober<'_>, answers: &mut BTreeMap<Question, Answer>) {
    let mut groups: BTreeMap<(RunKey, usize), Vec<&Question>> = BTreeMap::new();
    for (number, question) in questions.iter().enumerate() {
        let apart = if prober.joining == Joining::Alone { number } else { 0 };
        groups.entry((question.run_key(), apart)).or_default().push(question);
    }
    ask_groups(groups.into_iter().map(|((key, _), set)| (key, set)).collect(), prober, answers);
}

/// The same, with questions about different headers in one run where they can be.
fn ask_chained(questions: &BTreeSet<&Question>, prober: Prober<'_>, answers: &mut BTreeMap<Question, Answer>) {
    let mut groups: BTreeMap<RunKey, Vec<&Question>> = BTreeMap::new();
    for question in questions {
        let setting = &question.setting;
        let key = if question.can_chain() {
            RunKey::Chain(setting.language, setting.flags.clone())
        } else {
            question.run_key()
        };
        groups.entry(key).or_default().push(question);
    }
    ask_groups(groups.into_iter().collect(), prober, answers);
}

fn ask_groups(mut groups: Vec<(RunKey, Vec<&Question>)>, prober: Prober<'_>, answers: &mut BTreeMap<Question, Answer>) {
    let asker = Asker { prober, runs: AtomicUsize::new(0), answers: Mutex::default() };
    // What takes longest goes first: a chain, then what links, which comes last in the order of keys.
    groups.reverse();
    groups.sort_by_key(|(key, _)| !matches!(key, RunKey::Chain(..)));
    in_parallel(&groups, prober.host.jobs, |(key, set)| match key {
        RunKey::Chain(..) => asker.settle_chain(key, set),
        _ => asker.settle(key, set),
    });
    answers.extend(asker.answers.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
}

impl Answer {
    fn plain_yes() -> Answer {
        Answer { yes: true, value: None, words: Vec::new() }
    }

    fn from_memo(bytes: &[u8]) -> Option<Answer> {
        if bytes == PLAIN_YES { Some(Answer::plain_yes()) } else { serde_json::from_slice(bytes).ok() }
    }

    fn to_memo(&self) -> Vec<u8> {
        if *self == Answer::plain_yes() { PLAIN_YES.into() } else { json_text(self).into_bytes() }
    }
}

/// How most answers are kept.
const PLAIN_YES: &[u8] = b"yes";

/// Does something with every item, a few at a time.
pub(super) fn in_parallel<T: Sync>(items: &[T], jobs: usize, work: impl Fn(&T) + Sync) {
    let next = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..jobs.clamp(1, 64).min(items.len()) {
            scope.spawn(|| {
                while let Some(item) = items.get(next.fetch_add(1, Ordering::Relaxed)) {
                    work(item);
                }
            });
        }
    });
}

/// The command that asks one question alone, and the program that it reads, for people to repeat.
pub(super) fn by_hand(question: &Question, compiler: &Compiler, prober: Prober<'_>) -> (String, String) {
    let key = question.run_key();
    let run = Run { key: &key, set: &[question], compiler, folder: Path::new("") };
    let arguments = run.arguments(prober, Extras::Leave);
    (format!("{} {}", compiler.path.display(), arguments.join(" ")), program(&key, &[question]))
}

struct Asker<'a> {
    prober: Prober<'a>,
    runs: AtomicUsize,
    answers: Mutex<BTreeMap<Question, Answer>>,
}

impl Asker<'_> {
    fn settle(&self, key: &RunKey, set: &[&Question]) {
        let mut open: Vec<&Question> = set.to_vec();
        while !open.is_empty() {
            let Ok(compiler) = self.prober.compiler(open[0].setting.language) else { return };
            let folder = self.prober.host.scratch.join(format!("ask-{}", self.runs.fetch_add(1, Ordering::Relaxed)));
            let result = Run { key, set: &open, compiler, folder: &folder }.go(self.prober);
            if result.done {
                for (number, question) in open.iter().enumerate() {
                    self.keep(question, compiler, result.yes(question, number), result.files_of(question));
                }
                return;
            }
            let all = || result.words.iter().take(MAX_WORDS).cloned().collect::<Vec<_>>();
            if let [question] = open.as_slice() {
                let no = Answer { yes: false, value: None, words: all() };
                return self.keep(question, compiler, no, result.files_of(question));
            }
            let blame = Blame { words: &result.words, set: &open };
            let blamed = blame.by_number(key);
            let tells_all = blame.tells_all(key);
            if blamed.is_empty() {
                let (left, right) = open.split_at(open.len() / 2);
                self.settle(key, left);
                return self.settle(key, right);
            }
            for (number, words) in &blamed {
                let question = open[*number];
                if matches!(question.body, Body::Readable(_)) {
                    // Another header may have spoilt it, so it is read by itself before it is called unreadable.
                    self.settle(key, &[question]);
                } else {
                    let words = words.iter().take(MAX_WORDS).cloned().collect();
                    self.keep(question, compiler, Answer { yes: false, value: None, words }, result.files_of(question));
                }
            }
            if tells_all {
                let fine = open.iter().enumerate().filter(|(number, _)| !blamed.contains_key(number));
                for (number, question) in fine {
                    self.keep(question, compiler, result.yes(question, number), result.files_of(question));
                }
                return;
            }
            let mut number = 0;
            open.retain(|_| {
                number += 1;
                !blamed.contains_key(&(number - 1))
            });
        }
    }

    /// Answers what a chain leaves no doubt about: no after the headers were read, or no before and yes after.
    fn settle_chain(&self, key: &RunKey, set: &[&Question]) {
        let Some(first) = set.first() else { return };
        let Ok(compiler) = self.prober.compiler(first.setting.language) else { return };
        let folder = self.prober.host.scratch.join(format!("ask-{}", self.runs.fetch_add(1, Ordering::Relaxed)));
        // What leads to few others goes first, so that little is in doubt when its turn comes.
        let mut inclusions = Inclusions::default();
        let mut weights: BTreeMap<&[String], usize> = BTreeMap::new();
        for question in set {
            let headers = question.setting.headers.as_slice();
            let folders = search::header_folders(&question.setting.flags, &compiler.include_folders);
            weights.entry(headers).or_insert_with(|| inclusions.weight(headers, &folders));
        }
        let mut set = set.to_vec();
        // Headers that are only read come last, and put nothing in doubt.
        let only_read = |question: &Question| matches!(question.body, Body::Readable(_));
        let weight = |question: &Question| weights.get(question.setting.headers.as_slice()).copied();
        set.sort_by_key(|question| (only_read(question), weight(question), *question));
        let result = Run { key, set: &set, compiler, folder: &folder }.go(self.prober);
        let blame = Blame { words: &result.words, set: &set };
        if !blame.tells_all(key) {
            return;
        }
        let (blamed, unknown_before) = (blame.by_number(key), blame.unknown_before());
        let read = ByName::of(result.read());
        let mut files_of: BTreeMap<&[String], BTreeSet<PathBuf>> = BTreeMap::new();
        for (number, question) in set.iter().enumerate() {
            let words = blamed.get(&number).map(|words| words.iter().take(MAX_WORDS).cloned().collect());
            let answer = match (words, unknown_before[number]) {
                (Some(words), _) => Answer { yes: false, value: None, words },
                (None, unknown) if unknown || only_read(question) => Answer::plain_yes(),
                (None, _) => continue,
            };
            let files = if only_read(question) {
                result.files_of(question)
            } else {
                let setting = &question.setting;
                let narrowed = || result.narrowed_to(setting, &mut inclusions, &read);
                files_of.entry(setting.headers.as_slice()).or_insert_with(narrowed).clone()
            };
            self.keep(question, compiler, answer, files);
        }
    }

    fn keep(&self, question: &Question, compiler: &Compiler, answer: Answer, files: BTreeSet<PathBuf>) {
        let bytes = answer.to_memo();
        let scratch = &self.prober.host.scratch;
        let outside = files.into_iter().filter(|file| !file.starts_with(scratch));
        let with_compiler = outside.chain([compiler.real_path.clone()]);
        self.prober.memo.keep(question.digest(&compiler.identity), &bytes, with_compiler);
        self.answers.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(question.clone(), answer);
    }
}
