//! What a watched build cannot tell, and what a person answered.

use serde::{Deserialize, Serialize};

use super::model::Model;
use super::names::NameClash;

/// Answers of a person. What is not answered is drawn as is safe.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Answers {
    /// The version of the tree.
    pub version: Option<String>,
    /// What becomes of flags that are rather the choice of who builds.
    pub flags: Option<FlagsAnswer>,
    /// The families of macros, and the macros, that become options.
    pub hints: Option<Vec<String>>,
    /// What parts of one kind are called whose files have one name.
    pub names: Option<NamesAnswer>,
}

/// What parts of one kind are called whose files have one name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NamesAnswer {
    /// The first that was linked has the name, the others a number behind it.
    Numbered,
    /// Each has the name of its folder before it.
    Folders,
    /// These files' parts have the name, the others that of their folder before it.
    Kept(Vec<String>),
}

/// What becomes of such flags.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FlagsAnswer {
    /// They stay flags of all compiles.
    Fixed,
    /// Options stand for them.
    Options,
}

/// One thing to ask.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Question {
    /// No macro told the version of the tree.
    Version,
    /// These flags of all compiles are rather the choice of who builds.
    Flags(Vec<String>),
    /// Macros of these families look like options.
    Hints(Vec<(String, Vec<String>)>),
    /// Files of several parts have one name.
    Names(Vec<NameClash>),
}

/// An answer that is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AnswerFault {
    /// Nothing of that name is asked.
    #[error("nothing called `{0}` is asked: `version`, `flags`, `names` and `hints` are")]
    Unknown(String),
    /// It is no answer to that.
    #[error("`{answer}` is no answer to `{question}`: write {known}")]
    Value {
        /// What was asked.
        question: &'static str,
        /// What was answered.
        answer: String,
        /// What can be answered.
        known: &'static str,
    },
}

impl Question {
    /// What is asked of a model, beyond what was answered.
    pub(super) fn of(model: &Model, answers: &Answers) -> Vec<Question> {
        let mut questions = Vec::new();
        if model.version.is_none() && answers.version.is_none() {
            questions.push(Question::Version);
        }
        let flags = personal_flags(model);
        if !flags.is_empty() && answers.flags.is_none() {
            questions.push(Question::Flags(flags));
        }
        if !model.clashes.is_empty() && answers.names.is_none() {
            questions.push(Question::Names(model.clashes.clone()));
        }
        questions
    }

    /// Its short name.
    pub fn key(&self) -> &'static str {
        match self {
            Question::Version => "version",
            Question::Flags(_) => "flags",
            Question::Hints(_) => "hints",
            Question::Names(_) => "names",
        }
    }

    /// The safe answer.
    pub fn usual(&self) -> &'static str {
        match self {
            Question::Version => "0",
            Question::Flags(_) => "fixed",
            Question::Hints(_) => "none",
            Question::Names(_) => "numbered",
        }
    }
}

impl Answers {
    /// Takes an answer.
    ///
    /// # Errors
    /// See [`AnswerFault`].
    pub fn take(&mut self, key: &str, answer: &str) -> Result<(), AnswerFault> {
        let value = |question, known| AnswerFault::Value { question, answer: answer.to_string(), known };
        match key {
            "version" if answer.is_empty() || answer.chars().any(char::is_control) => {
                return Err(value("version", "a version, as in `2.4`"));
            }
            "version" => self.version = Some(answer.to_string()),
            "flags" => {
                self.flags = match answer {
                    "fixed" => Some(FlagsAnswer::Fixed),
                    "options" => Some(FlagsAnswer::Options),
                    _ => return Err(value("flags", "`options` or `fixed`")),
                };
            }
            "hints" => {
                let names: Vec<String> = answer.split(',').map(|name| name.trim().to_string()).collect();
                let is_name = |name: &String| {
                    name.starts_with(|c: char| c.is_ascii_alphabetic())
                        && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
                };
                if !names.iter().all(is_name) {
                    return Err(value("hints", "families or macros, as in `WITH,USE_TLS`, or `none`"));
                }
                self.hints = Some(if answer == "none" { Vec::new() } else { names });
            }
            "names" => {
                let files = || answer.split(',').map(|file| file.trim().to_string());
                self.names = Some(match answer {
                    "numbered" => NamesAnswer::Numbered,
                    "folders" => NamesAnswer::Folders,
                    _ if files().all(|file| file.contains('/')) => NamesAnswer::Kept(files().collect()),
                    _ => return Err(value("names", "`numbered`, `folders`, or the files that keep their names")),
                });
            }
            other => return Err(AnswerFault::Unknown(other.to_string())),
        }
        Ok(())
    }

    /// Reads kept answers; those that cannot be read are asked again.
    pub fn parse(text: &str) -> Answers {
        toml_edit::de::from_str(text).unwrap_or_default()
    }

    /// The text that keeps them.
    pub fn text(&self) -> String {
        toml_edit::ser::to_string(self).expect("a table of texts can be written")
    }
}

/// Flags of compiles that are rather the choice of who builds than of the tree.
pub(super) fn personal_flags(model: &Model) -> Vec<String> {
    let flags = model.parts.iter().flat_map(|part| &part.sources).flat_map(|source| source.ways.flags.iter().flatten());
    let mut found: Vec<String> = flags.filter(|flag| is_personal(flag)).cloned().collect();
    found.sort();
    found.dedup();
    found
}

/// Optimising, debug information, the processor.
fn is_personal(flag: &str) -> bool {
    flag.starts_with("-O")
        || flag.starts_with("-march=")
        || flag.starts_with("-mtune=")
        || matches!(flag, "-g" | "-g3" | "-ggdb")
}

/// An option that stands for a flag.
pub(super) struct FlagOption {
    pub name: &'static str,
    /// Its table, without its name.
    pub text: String,
    /// What stands in the list of flags: conditions with flags.
    pub rules: Vec<(String, String)>,
}

/// The option for a flag of all compiles, if it is one of those.
pub(super) fn option_for(flag: &str) -> Option<FlagOption> {
    /// What a compiler can optimise for.
    const GOALS: [(&str, &str); 6] =
        [("none", "-O0"), ("little", "-O1"), ("debugging", "-Og"), ("size", "-Os"), ("speed", "-O2"), ("most", "-O3")];
    if !is_personal(flag) {
        return None;
    }
    if let Some((usual, _)) = GOALS.iter().find(|(_, known)| *known == flag || *known == "-O1" && flag == "-O") {
        let values: Vec<String> = GOALS.iter().map(|(goal, _)| format!("\"{goal}\"")).collect();
        let spelt = |(goal, known): &(&str, &str)| {
            (format!("optimise = {goal}"), if goal == usual { flag.to_string() } else { (*known).to_string() })
        };
        let text = format!(
            "kind = \"pick\"\nvalues = [{}]\ndefault = \"{usual}\"\nsummary = \"What the compiler optimises for\"\nmacro = []\n",
            values.join(", ")
        );
        return Some(FlagOption { name: "optimise", text, rules: GOALS.iter().map(spelt).collect() });
    }
    let (name, summary) = match flag {
        "-g" | "-g3" | "-ggdb" => ("debug-info", "Debug information in what is built".to_string()),
        _ if flag.starts_with("-march=") => ("this-processor", format!("Only for processors of {flag}")),
        _ if flag.starts_with("-mtune=") => ("tuned", format!("Tuned by {flag}")),
        _ => return None,
    };
    let text = format!("kind = \"switch\"\ndefault = \"on\"\nsummary = \"{summary}\"\nmacro = []\n");
    Some(FlagOption { name, text, rules: vec![(name.to_string(), flag.to_string())] })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_are_taken_kept_and_read_again() {
        let mut answers = Answers::default();
        answers.take("version", "2.4").unwrap();
        answers.take("flags", "options").unwrap();
        answers.take("hints", "WITH, USE_TLS").unwrap();
        assert_eq!(answers.hints, Some(vec!["WITH".to_string(), "USE_TLS".to_string()]));
        answers.take("names", "client/tool, server/other").unwrap();
        assert_eq!(answers.names, Some(NamesAnswer::Kept(vec!["client/tool".into(), "server/other".into()])));
        assert_eq!(Answers::parse(&answers.text()), answers);
        assert_eq!(Answers::parse("other = 1"), Answers::default());
        for (key, answer, told) in [
            ("flags", "some", "`some` is no answer to `flags`: write `options` or `fixed`"),
            (
                "hints",
                "a b",
                "`a b` is no answer to `hints`: write families or macros, as in `WITH,USE_TLS`, or `none`",
            ),
            ("version", "", "`` is no answer to `version`: write a version, as in `2.4`"),
            ("name", "x", "nothing called `name` is asked: `version`, `flags`, `names` and `hints` are"),
            (
                "names",
                "tool",
                "`tool` is no answer to `names`: write `numbered`, `folders`, or the files that keep their names",
            ),
        ] {
            assert_eq!(answers.take(key, answer).unwrap_err().to_string(), told);
        }
    }

    #[test]
    fn a_flag_becomes_the_option_whose_usual_value_gives_it() {
        let option = option_for("-Os").unwrap();
        assert!(option.text.contains("default = \"size\""), "{}", option.text);
        assert!(option.rules.contains(&("optimise = size".into(), "-Os".into())));
        assert_eq!(option_for("-g").unwrap().rules, [("debug-info".to_string(), "-g".to_string())]);
        assert!(option_for("-Wall").is_none());
    }
}
