//! The judgement about one need, from what was looked up and answered.

use std::collections::BTreeMap;

use super::join::{Answer, by_hand};
use super::need::{About, Asked, Draft, Look};
use super::program::ProgramAnswer;
use super::question::{Body, Question};
use super::{Evidence, Fact, FactSource, FactState, Health, Joining, Language, Missing, Presence, Prober};
use crate::base::Version;
use crate::board::{NeedDef, Provider};
use crate::checks::{Ask, No, Probe};

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
        for asked in std::mem::take(&mut self.draft.questions) {
            let question = &asked.question;
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
            let result = if answer.yes { self.yes(&asked, answer) } else { Err(self.no(&asked, answer)) };
            let found = match (&result, &answer.value) {
                (Ok(()), Some(value)) => value.clone(),
                (Ok(()), None) => "yes".into(),
                (Err((words, _)), _) => words.clone(),
            };
            let tried = title(&asked);
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

    /// What a "yes" says; an error is what was found wrong in a few words, with what that means.
    fn yes(&mut self, asked: &Asked<'_>, answer: &Answer) -> Result<(), (String, Missing)> {
        match asked.about {
            About::Version(_) => {
                self.draft.found.version.clone_from(&answer.value);
                let judged = judge_version(self.need, answer.value.as_deref());
                judged.map_err(|missing| (answer.value.clone().unwrap_or_default(), missing))
            }
            About::Ask(Ask { probe: Probe::PackedVersion { range, .. }, .. }) => {
                let number = answer.value.as_ref().and_then(|value| value.parse().ok()).unwrap_or(0);
                let found = Probe::unpack_version(number);
                self.draft.found.version = Some(found.clone());
                let fits = range.holds(&Version::new(&found));
                if fits { Ok(()) } else { Err((found.clone(), Missing::WrongVersion { found })) }
            }
            About::Header(_) | About::Linking | About::Ask(_) => Ok(()),
        }
    }

    /// What was found wrong in a few words, with what that means.
    fn no(&self, asked: &Asked<'_>, answer: &Answer) -> (String, Missing) {
        let words = telling_line(&answer.words);
        let placed = self.draft.found.place.is_some();
        let unfit = |reason: String| (reason.clone(), Missing::Unusable { reason });
        let lacks = |what: &str| match placed || !self.draft.check.link.is_empty() {
            true => unfit(what.to_string()),
            false => (what.to_string(), Missing::Absent),
        };
        match asked.about {
            About::Header(header) if !placed && is_absent(header, &words) => (words, Missing::Absent),
            About::Header(header) => unfit(format!("its header <{header}> cannot be read: {words}")),
            About::Linking if placed || words.contains("incompatible") || !words.contains("cannot find -l") => {
                unfit(words)
            }
            About::Linking => (words, Missing::Absent),
            About::Version(name) => lacks(&format!("it does not define {name}")),
            About::Ask(ask) => match &ask.no {
                No::Lacks(what) => lacks(what),
                No::Absent => (words, Missing::Absent),
                No::Unfit(what) => unfit(self.not_so(ask, &asked.question).unwrap_or_else(|| match &ask.probe {
                    Probe::Holds { .. } | Probe::PackedVersion { .. } => format!("{what}: {words}"),
                    _ => what.clone(),
                })),
            },
        }
    }

    /// Why a constant does not do, where the compiler tells its value.
    fn not_so(&self, ask: &Ask, question: &Question) -> Option<String> {
        let Probe::Holds { range, .. } = &ask.probe else { return None };
        let value = self.answers.get(&question.follow_up()?)?.value.as_ref()?;
        Some(format!("{} is {value}, wanted {range}", ask.title))
    }
}

/// Whether a compiler says that the header itself is not there, and not one that it reads.
fn is_absent(header: &str, words: &str) -> bool {
    words.contains("No such file") && words.contains(&format!("{header}:")) && !words.contains(&format!("/{header}:"))
}

/// What was tried, for people.
fn title(asked: &Asked<'_>) -> String {
    let Question { setting, body } = &asked.question;
    let in_headers = || match setting.headers.as_slice() {
        [] => String::new(),
        headers => format!(" in {}", headers.iter().map(|h| format!("<{h}>")).collect::<Vec<_>>().join(" ")),
    };
    match (asked.about, body) {
        (About::Header(header), _) => format!("whether <{header}> can be read"),
        (About::Linking, Body::Links(flags)) => format!("whether a program links with {}", flags.join(" ")),
        (About::Linking, _) => "whether a program links".into(),
        (About::Version(name), _) => format!("the version in {name}{}", in_headers()),
        (About::Ask(ask), Body::Function { link, .. }) if !link.is_empty() => {
            format!("{} with {}", ask.title, link.join(" "))
        }
        (About::Ask(ask), Body::Function { .. } | Body::Code(_)) => ask.title.clone(),
        (About::Ask(ask), _) => format!("{}{}", ask.title, in_headers()),
    }
}
