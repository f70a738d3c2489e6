//! The environment of a toolchain: what a script of a compiler's maker sets, or what a cluster's environment modules set. It runs once in a
//! clean shell; what differs afterwards is kept with the files that it read, and noticed when one of them changes.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::ProbeMemo;
use crate::base::{Digest, packed_bytes};
use crate::launch::{Exit, Job, Launch};
use crate::watch::{DeedSort, Depth};

/// How long it may take.
const LIMIT: Duration = Duration::from_secs(60);
/// The search path of a clean shell.
const CLEAN_PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Variables of the shell itself.
const OF_THE_SHELL: [&str; 5] = ["_", "SHLVL", "PWD", "OLDPWD", "BASHOPTS"];
/// What ends with this code when the script or a module is not to be had.
const NOT_THERE: i32 = 113;
/// The variable that says where programs are looked for.
const SEARCH_PATH: &str = "PATH";

/// Where the environment of a toolchain comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EnvironmentFrom {
    /// A script that a shell reads.
    Script(String),
    /// Environment modules, loaded in this order.
    Modules(Vec<String>),
}

/// What a toolchain's environment changes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToolEnvironment {
    /// Where it comes from, in words.
    pub from: String,
    /// Variables with what they are set to.
    pub variables: BTreeMap<String, String>,
}

/// It cannot be had.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the environment of {from} cannot be had: {reason}")]
pub struct EnvironmentFault {
    /// Where it was to come from.
    pub from: String,
    /// Why not.
    pub reason: String,
}

impl EnvironmentFrom {
    fn shown(&self) -> String {
        match self {
            EnvironmentFrom::Script(file) => file.clone(),
            EnvironmentFrom::Modules(names) => format!("the environment modules {}", names.join(", ")),
        }
    }

    /// What a shell is told, and its arguments.
    fn script(&self) -> (String, Vec<String>) {
        match self {
            EnvironmentFrom::Script(file) => {
                (format!("[ -f \"$0\" ] || exit {NOT_THERE}; . \"$0\" >&2 || exit $?; env -0"), vec![file.clone()])
            }
            EnvironmentFrom::Modules(names) => {
                let load = "for name in \"$0\" \"$@\"; do module load \"$name\" >&2 || exit $?; done; env -0";
                let begin = "for file in /etc/profile.d/*.sh; do . \"$file\" >/dev/null 2>&1; done";
                let known = format!("type module >/dev/null 2>&1 || exit {NOT_THERE}");
                (format!("{begin}; {known}; {load}"), names.clone())
            }
        }
    }

    /// Finds out what it changes.
    ///
    /// # Errors
    /// It is not there, fails, or takes too long.
    pub fn ask(&self, launch: &dyn Launch, memo: &ProbeMemo) -> Result<ToolEnvironment, EnvironmentFault> {
        let from = self.shown();
        let fault = |reason: String| EnvironmentFault { from: from.clone(), reason };
        let (script, arguments) = self.script();
        let question =
            Digest::of_parts(["what does it set?", &script].into_iter().chain(arguments.iter().map(String::as_str)));
        if let Some(known) = memo.recall(&question).and_then(|bytes| postcard::from_bytes(&bytes).ok()) {
            return Ok(known);
        }
        let shells = ["/bin/bash", "/usr/bin/bash", "/bin/sh"].map(PathBuf::from);
        let shell =
            shells.into_iter().find(|shell| shell.is_file()).ok_or_else(|| fault("there is no shell".into()))?;
        let clean: BTreeMap<String, String> = [("PATH", CLEAN_PATH), ("HOME", "/"), ("LC_ALL", "C")]
            .map(|(name, value)| (name.into(), value.into()))
            .into();
        let job = |script: &str, arguments: &[String], watch| Job {
            program: shell.clone(),
            arguments: ["-c".to_string(), script.to_string()].into_iter().chain(arguments.iter().cloned()).collect(),
            folder: "/".into(),
            environment: clean.clone(),
            limit: Some(LIMIT),
            watch,
            ..Job::default()
        };
        let run = |job: &Job| launch.run(job).map_err(|e| fault(e.source.to_string()));
        let ran = run(&job(&script, &arguments, Some(Depth::Opens)))?;
        match ran.exit {
            Exit::Code(0) => {}
            Exit::Code(NOT_THERE) => {
                return Err(fault(match self {
                    EnvironmentFrom::Script(_) => "there is no such file".into(),
                    EnvironmentFrom::Modules(_) => "this host has no environment modules".into(),
                }));
            }
            Exit::TimedOut => return Err(fault(format!("it did not end within {} s", LIMIT.as_secs()))),
            Exit::Code(_) | Exit::Signal(_) | Exit::Stopped => {
                let said = ran.stderr_text();
                let last = said.lines().rfind(|line| !line.trim().is_empty()).unwrap_or("it failed without a word");
                return Err(fault(last.trim().to_string()));
            }
        }
        let variables = variables_of(&ran.stdout).into_iter();
        let changed = variables.filter(|(name, value)| clean.get(name) != Some(value));
        let variables = changed.filter(|(name, _)| !OF_THE_SHELL.contains(&name.as_str())).collect();
        let environment = ToolEnvironment { from, variables };
        let opened = ran.sight.iter().flat_map(|sight| sight.deeds().collect::<Vec<_>>());
        let read = opened.filter(|(_, deed)| matches!(deed.sort, DeedSort::Opened | DeedSort::Ran | DeedSort::Missed));
        let mut places: Vec<PathBuf> = read.map(|(_, deed)| deed.path.clone()).collect();
        places.retain(|place| !place.starts_with("/proc") && !place.starts_with("/dev"));
        if let EnvironmentFrom::Script(file) = self {
            places.push(PathBuf::from(file));
        }
        places.sort();
        places.dedup();
        let bytes = packed_bytes(&environment);
        memo.keep_at_hand(question, &bytes, places);
        Ok(environment)
    }
}

/// Reads what `env -0` writes.
fn variables_of(text: &[u8]) -> BTreeMap<String, String> {
    let lines = text.split(|byte| *byte == 0).filter_map(|line| std::str::from_utf8(line).ok());
    // Functions that a shell hands on are of no use to anything but a shell.
    let plain = lines.filter_map(|line| line.split_once('=')).filter(|(name, _)| !name.contains(['%', '(']));
    plain.map(|(name, value)| (name.to_string(), value.to_string())).collect()
}

impl ToolEnvironment {
    /// Returns where programs are looked for, if it says so.
    pub fn search_path(&self) -> Option<&str> {
        self.variables.get(SEARCH_PATH).map(String::as_str)
    }

    /// Returns what stands for it in keys; nothing where it changes nothing.
    pub fn digest(&self) -> Option<Digest> {
        let lines: Vec<String> = self.variables.iter().map(|(name, value)| format!("{name}={value}")).collect();
        (!lines.is_empty()).then(|| Digest::of_parts(lines.iter().map(String::as_str)))
    }
}
