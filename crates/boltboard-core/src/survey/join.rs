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

use super::asking::{Extras, Run};
use super::blame::Blame;
use super::compiler::Compiler;
use super::question::{Body, Question, RunKey, program};
use super::{Joining, Prober};

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
    let mut groups: BTreeMap<(RunKey, usize), Vec<&Question>> = BTreeMap::new();
    for (number, question) in questions.iter().enumerate() {
        let Ok(compiler) = prober.tools.compiler(question.setting.language) else { continue };
        let kept = prober.memo.recall(&question.digest(&compiler.identity));
        if let Some(answer) = kept.and_then(|text| serde_json::from_str(&text).ok()) {
            answers.insert(question.clone(), answer);
            continue;
        }
        let apart = if prober.joining == Joining::Alone { number } else { 0 };
        groups.entry((question.run_key(), apart)).or_default().push(question);
    }
    let asker = Asker { prober, runs: AtomicUsize::new(0), answers: Mutex::default() };
    let work: Vec<((RunKey, usize), Vec<&Question>)> = groups.into_iter().collect();
    in_parallel(&work, prober.host.jobs, |((key, _), set)| asker.settle(key, set));
    answers.extend(asker.answers.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
    answers
}

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
            let Ok(compiler) = self.prober.tools.compiler(open[0].setting.language) else { return };
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
            let blamed = Blame { words: &result.words, set: &open }.by_number(key);
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
            let mut number = 0;
            open.retain(|_| {
                number += 1;
                !blamed.contains_key(&(number - 1))
            });
        }
    }

    fn keep(&self, question: &Question, compiler: &Compiler, answer: Answer, files: BTreeSet<PathBuf>) {
        let text = serde_json::to_string(&answer).unwrap_or_default();
        let scratch = &self.prober.host.scratch;
        let outside = files.into_iter().filter(|file| !file.starts_with(scratch));
        let with_compiler = outside.chain([compiler.real_path.clone()]);
        self.prober.memo.keep(question.digest(&compiler.identity), &text, with_compiler);
        self.answers.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(question.clone(), answer);
    }
}
