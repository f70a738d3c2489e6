//! The judgement about one need, from what was looked up and answered.

use std::collections::BTreeMap;

use super::join::{Answer, by_hand};
use super::need::{Draft, Look};
use super::program::ProgramAnswer;
use super::question::{Body, Question};
use super::{Evidence, Fact, FactSource, FactState, Health, Joining, Language, Missing, Presence, Prober};
use crate::base::Version;
use crate::board::{Ask, ByteOrder, NeedDef, Provider};

/// Judges a version against what a need wants.
pub(super) fn judge_version(need: &NeedDef, version: Option<&str>) -> Result<(), Missing> {
    let Some(range) = &need.version else { return Ok(()) };
    match version {
        Some(version) if range.holds(&Version::new(version)) => Ok(()),
        Some(version) => Err(Missing::WrongVersion { found: version.to_string() }),
        None => Err(Missing::Unusable { reason: format!("it says no version, and {range} is wanted") }),
    }
}

/// Returns the line that tells most of what went wrong.
pub(super) fn telling_line(words: &[String]) -> String {
    let incompatible = words.iter().find(|line| line.contains("incompatible"));
    let error =
        words.iter().find(|line| line.contains("error") || line.contains("cannot") || line.contains("undefined"));
    let line = incompatible.or(error).or(words.first());
    line.map_or_else(|| "it failed without a message".into(), |line| line.trim().to_string())
}

/// Makes the fact from what was looked up and answered.
pub(super) fn judge(
    draft: Draft<'_>,
    look: Look,
    answers: &BTreeMap<Question, Answer>,
    health: &BTreeMap<Language, Health>,
    need: &NeedDef,
    provider: Option<Provider>,
    prober: Prober<'_>,
) -> Fact {
    let mut fact = Fact::plain(draft.id, FactState::Missing(Missing::NotAsked), FactSource::Looked);
    let mut judge = Judge { draft, answers, health, need, prober };
    judge.draft.evidence.extend(look.evidence);
    let result = judge.draft.result.clone();
    let result = result.and_then(|()| judge.programs(&look.answers)).and_then(|()| judge.questions());
    let Draft { found, evidence, copies, .. } = judge.draft;
    let there = match &result {
        Ok(()) => Presence::There(found.version.clone()),
        Err(_) => Presence::NotThere,
    };
    fact.state = match (&provider, need.bundled, result) {
        (Some(Provider::Off), _, _) => FactState::Missing(Missing::SwitchedOff { there }),
        (Some(Provider::Bundled), Some(part), _) => FactState::Bundled(part),
        (_, _, Ok(())) => FactState::Found(found),
        (None, Some(part), Err(_)) => FactState::Bundled(part),
        (_, _, Err(missing)) => FactState::Missing(missing),
    };
    (fact.evidence, fact.copies, fact.provider) = (evidence, copies, provider);
    fact
}

struct Judge<'a> {
    draft: Draft<'a>,
    answers: &'a BTreeMap<Question, Answer>,
    health: &'a BTreeMap<Language, Health>,
    need: &'a NeedDef,
    prober: Prober<'a>,
}

impl Judge<'_> {
    fn programs(&mut self, answers: &[ProgramAnswer]) -> Result<(), Missing> {
        for answer in answers {
            match answer {
                ProgramAnswer::Says(version) => {
                    self.draft.found.version.clone_from(version);
                    judge_version(self.need, version.as_deref())?;
                }
                ProgramAnswer::NoModule => return Err(Missing::Absent),
                ProgramAnswer::Fault(reason) => return Err(Missing::Unusable { reason: reason.clone() }),
            }
        }
        Ok(())
    }

    fn questions(&mut self) -> Result<(), Missing> {
        let questions = std::mem::take(&mut self.draft.questions);
        for question in &questions {
            let answer = self.answers.get(question).filter(|answer| answer.yes || self.means_something(question));
            let Some(answer) = answer else { return Err(Missing::NotAsked) };
            // Of what is there, the command is told to those who ask for this need alone.
            let wanted = !answer.yes || self.prober.joining == Joining::Alone;
            let (command, program) = match self.prober.compiler(question.setting.language) {
                Ok(compiler) if wanted => {
                    let (command, program) = by_hand(question, compiler, self.prober);
                    (Some(command), Some(program))
                }
                Ok(_) | Err(_) => (None, None),
            };
            let result = self.one(question, answer);
            let found = match (&result, &answer.value) {
                (Ok(()), Some(value)) => value.clone(),
                (Ok(()), None) => "yes".into(),
                (Err((words, _)), _) => words.clone(),
            };
            let tried = title(question);
            self.draft.evidence.push(Evidence { tried, found, command, program, words: answer.words.clone() });
            result.map_err(|(_, missing)| missing)?;
        }
        if self.draft.found.version.is_none() && self.draft.check.library.is_some() && self.need.version.is_some() {
            let reason = "its version cannot be told without its metadata file".to_string();
            return Err(Missing::Unusable { reason });
        }
        Ok(())
    }

    /// Whether the compiler's "no" to a question is about the question.
    fn means_something(&self, question: &Question) -> bool {
        let links = matches!(question.body, Body::Links(_) | Body::Function { .. } | Body::LinkFlag(_));
        match self.health.get(&question.setting.language) {
            Some(Health::Sound) | None => true,
            Some(Health::CannotLink(_)) => !links,
            Some(Health::Broken(_)) => false,
        }
    }

    /// Returns what was found wrong in a few words, with what that means.
    fn one(&mut self, question: &Question, answer: &Answer) -> Result<(), (String, Missing)> {
        let words = telling_line(&answer.words);
        let unusable = |reason: String| Err((reason.clone(), Missing::Unusable { reason }));
        let of_it = self.draft.found.place.is_some() || !self.draft.check.link.is_empty();
        let part_of_it = |what: String| {
            let missing = if of_it { Missing::Unusable { reason: what.clone() } } else { Missing::Absent };
            Err((what, missing))
        };
        match (&question.body, answer.yes) {
            (Body::Readable(header), false) if self.draft.found.place.is_none() && is_absent(header, &words) => {
                Err((words, Missing::Absent))
            }
            (Body::Readable(header), false) => unusable(format!("its header <{header}> cannot be read: {words}")),
            (Body::Links(_), false) => {
                let seen = self.draft.found.place.is_some() || words.contains("incompatible");
                let missing = if seen || !words.contains("cannot find -l") {
                    Missing::Unusable { reason: words.clone() }
                } else {
                    Missing::Absent
                };
                Err((words, missing))
            }
            (Body::Function { name, .. } | Body::Declared(name), false) => {
                part_of_it(format!("it has no function {name}"))
            }
            (Body::Type(name), false) => part_of_it(format!("it has no type {name}")),
            (Body::Member { of, member }, false) => part_of_it(format!("{of} has no member {member}")),
            (Body::Macro(name) | Body::Text(name), false) => part_of_it(format!("it does not define {name}")),
            (Body::Value(expression), false) => unusable(format!("{expression} is not a constant here: {words}")),
            (Body::Flag(_) | Body::LinkFlag(_), false) => Err((words, Missing::Absent)),
            (Body::Code(_), false) => Err((words, Missing::Absent)),
            (Body::ByteOrder, false) => unusable(words),
            (Body::Holds { condition, of }, false) => unusable(self.not_so(question, of, condition, &words)),
            (Body::Value(_), true) => self.kernel_headers(answer.value.as_deref().unwrap_or_default()),
            (Body::ByteOrder, true) => self.byte_order(answer.value.as_deref().unwrap_or_default()),
            (Body::Text(_), true) => {
                self.draft.found.version.clone_from(&answer.value);
                let judged = judge_version(self.need, answer.value.as_deref());
                judged.map_err(|missing| (answer.value.clone().unwrap_or_default(), missing))
            }
            (_, true) => Ok(()),
        }
    }

    /// Why a constant does not do, with its value where the compiler tells it.
    fn not_so(&self, question: &Question, of: &str, condition: &str, words: &str) -> String {
        let asked = self.draft.check.asks.iter().find_map(|ask| match ask {
            Ask::Value { title, expression, range } if range.as_condition(expression) == *condition => {
                Some((title, range))
            }
            _ => None,
        });
        let value =
            question.follow_up().and_then(|more| self.answers.get(&more)).and_then(|answer| answer.value.as_ref());
        match (asked, value) {
            (Some((title, range)), Some(value)) => format!("{title} is {value}, wanted {range}"),
            _ => format!("{of} is not a constant here: {words}"),
        }
    }

    fn kernel_headers(&mut self, value: &str) -> Result<(), (String, Missing)> {
        let number: i64 = value.parse().unwrap_or_default();
        let version = format!("{}.{}.{}", number >> 16, (number >> 8) & 0xff, number & 0xff);
        self.draft.found.version = Some(version.clone());
        let fits = self.draft.check.asks.iter().all(|ask| match ask {
            Ask::KernelHeaders(range) => range.holds(&Version::new(&version)),
            _ => true,
        });
        if fits { Ok(()) } else { Err((version.clone(), Missing::WrongVersion { found: version })) }
    }

    fn byte_order(&self, found: &str) -> Result<(), (String, Missing)> {
        let wanted = self.draft.check.asks.iter().find_map(|ask| match ask {
            Ask::ByteOrder(ByteOrder::Little) => Some("little"),
            Ask::ByteOrder(ByteOrder::Big) => Some("big"),
            _ => None,
        });
        match wanted {
            Some(wanted) if wanted != found => {
                let reason = format!("the byte order is {found}, wanted {wanted}");
                Err((reason.clone(), Missing::Unusable { reason }))
            }
            _ => Ok(()),
        }
    }
}

/// Whether a compiler says that the header itself is not there, and not one that it reads.
fn is_absent(header: &str, words: &str) -> bool {
    words.contains("No such file") && words.contains(&format!("{header}:")) && !words.contains(&format!("/{header}:"))
}

fn title(question: &Question) -> String {
    let in_headers = match question.setting.headers.as_slice() {
        [] => String::new(),
        headers => format!(" in {}", headers.iter().map(|h| format!("<{h}>")).collect::<Vec<_>>().join(" ")),
    };
    match &question.body {
        Body::Readable(header) => format!("whether <{header}> can be read"),
        Body::Type(name) => format!("the type {name}{in_headers}"),
        Body::Member { of, member } => format!("the member {member} of {of}{in_headers}"),
        Body::Macro(name) => format!("the macro {name}{in_headers}"),
        Body::Value(expression) => format!("the value of {expression}{in_headers}"),
        Body::Holds { of, .. } => format!("the value of {of}{in_headers}"),
        Body::Declared(name) => format!("whether {name} is declared{in_headers}"),
        Body::Text(name) => format!("the version in {name}{in_headers}"),
        Body::ByteOrder => "the byte order".into(),
        Body::Code(_) => "whether a piece of code compiles".into(),
        Body::Function { name, link } if link.is_empty() => format!("the function {name}"),
        Body::Function { name, link } => format!("the function {name} with {}", link.join(" ")),
        Body::Links(flags) => format!("whether a program links with {}", flags.join(" ")),
        Body::Flag(flag) => format!("whether the compiler accepts {flag}"),
        Body::LinkFlag(flag) => format!("whether the linker accepts {flag}"),
    }
}
