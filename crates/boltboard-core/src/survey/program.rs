//! Programs of the host: where they are, which version they say they are, and which modules an interpreter can load.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::{Evidence, Prober};
use crate::base::{Digest, json_text, shell_word};
use crate::checks::{ScriptLanguage, ToolCheck};
use crate::definitions::version_regex;
use crate::launch::{Exit, Job};

/// A program that takes longer to tell its version is ended.
const LIMIT: Duration = Duration::from_secs(5);

/// Asks a program for something; it is asked once as long as its file is the same.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct ProgramQuestion {
    pub program: PathBuf,
    pub arguments: Vec<String>,
    pub read: Reading,
}

/// What is read out of what a program says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Reading {
    /// A version, where this pattern matches.
    Version(Option<String>),
    /// Whether a module was loaded.
    Module(String),
}

/// What a program said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum ProgramAnswer {
    /// The version; none when it loads, and says no version.
    Says(Option<String>),
    /// The module is not there.
    NoModule,
    /// It cannot be asked.
    Fault(String),
}

const LOADED: &str = "bolt-loaded";
const LOOKED_IN: &str = "bolt-looked-in";

/// How a program is asked for its version.
pub(super) fn version_question(program: &Path, tool: &ToolCheck) -> ProgramQuestion {
    ProgramQuestion {
        program: program.to_path_buf(),
        arguments: tool.version_arguments.clone(),
        read: Reading::Version(tool.version_pattern.clone()),
    }
}

/// How an interpreter is asked for a module.
pub(super) fn module_question(program: &Path, language: ScriptLanguage, module: &str) -> ProgramQuestion {
    // The interpreter loads what the host has, never what lies in the current folder.
    let arguments = match language {
        ScriptLanguage::Python => {
            let code = format!(
                "import sys\nfor p in sys.path: print('{LOOKED_IN}', p)\nsys.stdout.flush()\nimport importlib\nm = importlib.import_module('{module}')\nprint('{LOADED}', getattr(m, '__version__', ''))"
            );
            vec!["-I".to_string(), "-c".into(), code]
        }
        ScriptLanguage::Perl => {
            let code = format!(
                "print qq({LOOKED_IN} $_\\n) for @INC; require {module}; print qq({LOADED} ) . ({module}->VERSION // q()) . qq(\\n);"
            );
            vec!["-e".to_string(), code]
        }
    };
    ProgramQuestion { program: program.to_path_buf(), arguments, read: Reading::Module(module.to_string()) }
}

/// Asks, or recalls the answer.
pub(super) fn ask(question: &ProgramQuestion, prober: Prober<'_>, evidence: &mut Vec<Evidence>) -> ProgramAnswer {
    let name = question.program.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    let real = question.program.canonicalize().unwrap_or_else(|_| question.program.clone());
    let shown = format!("{question:?} {}", real.display());
    let digest = Digest::of_parts(["what does it say?", &shown, &prober.host.search_path]);
    let kept = prober.memo.recall(&digest).and_then(|bytes| serde_json::from_slice::<Said>(&bytes).ok());
    let said = kept.unwrap_or_else(|| {
        let said = run(question, prober);
        let folders =
            said.lines.iter().filter_map(|line| line.strip_prefix(LOOKED_IN)).map(|f| PathBuf::from(f.trim()));
        let folders: Vec<PathBuf> = folders.filter(|folder| folder.is_absolute()).collect();
        let below = match &question.read {
            Reading::Module(module) => module.split(['.', ':']).next().unwrap_or_default().to_string(),
            Reading::Version(_) => String::new(),
        };
        let within: Vec<PathBuf> =
            folders.iter().map(|f| f.join(&below)).filter(|f| !below.is_empty() && f.is_dir()).collect();
        let text = json_text(&said);
        prober.memo.keep(
            digest,
            text.as_bytes(),
            folders.into_iter().chain(within).chain([real, question.program.clone()]),
        );
        said
    });
    let answer = judge(question, &name, &said);
    let words: Vec<String> = said.lines.iter().filter(|l| !l.starts_with(LOOKED_IN)).take(12).cloned().collect();
    let found = match &answer {
        ProgramAnswer::Says(Some(version)) => format!("version {version}"),
        ProgramAnswer::Says(None) => "it is there".into(),
        ProgramAnswer::NoModule => "not found".into(),
        ProgramAnswer::Fault(reason) => reason.clone(),
    };
    let tried = match &question.read {
        Reading::Version(_) => format!("what {name} says of its version"),
        Reading::Module(module) => format!("the module {module} of {name}"),
    };
    let command = format!(
        "{} {}",
        question.program.display(),
        question.arguments.iter().map(|a| shell_word(a)).collect::<Vec<_>>().join(" ")
    );
    evidence.push(Evidence { tried, found, command: Some(command), program: None, words });
    answer
}

/// What came back, as it is kept.
#[derive(serde::Serialize, serde::Deserialize)]
struct Said {
    /// Why nothing can be made of it.
    fault: Option<String>,
    lines: Vec<String>,
}

fn run(question: &ProgramQuestion, prober: Prober<'_>) -> Said {
    let job = Job {
        program: question.program.clone(),
        arguments: question.arguments.clone(),
        folder: prober.host.scratch.clone(),
        environment: super::environment(prober.host),
        limit: Some(LIMIT),
        ..Job::default()
    };
    let outcome = match prober.launch.run(&job) {
        Ok(outcome) => outcome,
        Err(e) => return Said { fault: Some(format!("it cannot be started: {}", e.source)), lines: vec![] },
    };
    // Some tell their version on standard error.
    let text = format!("{}\n{}", outcome.stdout_text(), outcome.stderr_text());
    let lines = text.lines().filter(|line| !line.trim().is_empty()).take(300);
    let lines: Vec<String> = lines.map(|line| line.chars().take(300).collect()).collect();
    let fault = match outcome.exit {
        Exit::TimedOut => Some(format!("it did not end within {} s", LIMIT.as_secs())),
        Exit::Signal(signal) => Some(format!("it was ended by signal {signal}")),
        Exit::Code(_) | Exit::Stopped => None,
    };
    Said { fault, lines }
}

fn judge(question: &ProgramQuestion, name: &str, said: &Said) -> ProgramAnswer {
    let asked = question.arguments.join(" ");
    if let Some(fault) = &said.fault {
        let what = if matches!(question.read, Reading::Version(_)) {
            format!("`{name} {asked}`")
        } else {
            format!("`{name}`")
        };
        return ProgramAnswer::Fault(format!("{what} cannot be asked: {fault}"));
    }
    match &question.read {
        Reading::Version(pattern) => {
            let text = said.lines.join("\n");
            match version_in(&text, pattern.as_deref()) {
                Some(version) => ProgramAnswer::Says(Some(version)),
                None if said.lines.is_empty() => ProgramAnswer::Fault(format!("`{name} {asked}` says nothing")),
                None => ProgramAnswer::Fault(format!("`{name} {asked}` prints no version: {}", said.lines[0].trim())),
            }
        }
        Reading::Module(_) => match said.lines.iter().find_map(|line| line.strip_prefix(LOADED)) {
            Some(version) => ProgramAnswer::Says(Some(version.trim().to_string()).filter(|v| !v.is_empty())),
            None => ProgramAnswer::NoModule,
        },
    }
}

/// Finds a version in what a program says: by the board's pattern, else the first numbers parted by points, else a number.
fn version_in(text: &str, pattern: Option<&str>) -> Option<String> {
    let by = |pattern: &str| {
        let found = version_regex(pattern).ok()?.captures(text)?;
        let part = found.get(1).or_else(|| found.get(0))?;
        Some(part.as_str().trim().to_string()).filter(|version| !version.is_empty())
    };
    match pattern {
        Some(pattern) => by(pattern),
        None => by(r"\b(\d+\.\d+[0-9A-Za-z.+~-]*)").or_else(|| by(r"\b(\d+)\b")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_found_in_what_programs_say() {
        for (text, pattern, want) in [
            ("chart 1.22.1-3 (made up)", None, Some("1.22.1-3")),
            ("lead 590\nFree", None, Some("590")),
            ("built with gcc 12.2\nlead version v3.4", Some(r"lead version v(\S+)"), Some("3.4")),
            ("built with gcc 12.2", Some(r"lead version v(\S+)"), None),
            ("usage: lead FILE", None, None),
        ] {
            assert_eq!(version_in(text, pattern).as_deref(), want, "{text}");
        }
    }
}
