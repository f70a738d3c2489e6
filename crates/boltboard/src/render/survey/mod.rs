//! What the host has and lacks, and the ways out.

mod gaps;
mod hosts;
mod one;

use boltboard_core::board::{Board, NeedId};
use boltboard_core::checks::Package;
use boltboard_core::profile::Choices;
use boltboard_core::remedy::{self, Cost, CostFault, Distribution, Gap};
use boltboard_core::survey::{
    CopyRank, Fact, FactSource, FactState, Facts, Missing, Presence, ToolEnvironment, Wrapper,
};

use super::text::{Cell, Role, columns, columns_within, count, next_lines, paint};
use crate::fault::Next;

pub use gaps::{cost_line, do_without_command};
pub use hosts::{changed_host, compared, language_name, toolchain_list};
pub use one::evidence;

/// How many found needs are listed one by one without being asked for.
const LISTED: usize = 15;

/// Everything that a survey shows.
pub struct Survey<'a> {
    /// The board.
    pub board: &'a Board,
    /// The facts.
    pub facts: &'a Facts,
    /// The choices.
    pub choices: &'a Choices,
    /// The gaps, those that stop most first.
    pub gaps: Vec<Gap>,
    /// Where it was looked.
    pub here: Distribution,
    /// The compiler, in a few words.
    pub compiler: String,
    /// What the compiler makes programs for.
    pub target: String,
    /// The compiler for the machine that builds, where something is made for it.
    pub host_compiler: Option<String>,
    /// The compilers that run others and add to their words.
    pub wrappers: Vec<Wrapper>,
    /// What the toolchain's environment sets, where it has one.
    pub environment: Option<ToolEnvironment>,
    /// What installing everything would take, when that was asked.
    pub cost: Option<Result<Cost, CostFault>>,
    /// The same for each gap, in their order; empty when there is none.
    pub costs: Vec<Option<Result<Cost, CostFault>>>,
    /// Whether packages can be installed without asking for more rights.
    pub as_root: bool,
    /// What the compiler makes programs for.
    pub target_is: Target,
}

/// Whether programs are made for this machine.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// They are, so that its packages help.
    ThisMachine,
    /// They are made for another one.
    Another,
}

impl Survey<'_> {
    /// Returns the packages that bring everything missing.
    pub fn packages(&self) -> Vec<Package> {
        let all: std::collections::BTreeSet<&Package> = self.gaps.iter().flat_map(|gap| &gap.packages).collect();
        all.into_iter().cloned().collect()
    }

    /// Returns the command that installs them.
    pub fn install(&self) -> Option<String> {
        remedy::install_command(&self.here, &self.packages(), self.as_root)
    }

    fn name(&self, need: NeedId) -> &str {
        &self.board.needs[need].name
    }
}

/// Lists what is there, then what is not, then what to type.
pub fn list(survey: &Survey<'_>, all: bool, width: usize) -> String {
    let mut text = head(survey, width);
    let met: Vec<&Fact> = survey.facts.iter().filter(|fact| fact.is_met()).collect();
    let news = |fact: &&&Fact| fact.copies.len() > 1 || fact.provider.is_some() || fact.source != FactSource::Looked;
    let shown: Vec<&Fact> =
        if all || met.len() <= LISTED { met.clone() } else { met.iter().filter(news).copied().collect() };
    if !shown.is_empty() {
        text.push_str(&format!("\n{}\n", paint(Role::Title, "Met")));
        text.push_str(&found_table(survey, &shown, width));
    }
    if shown.len() < met.len() {
        text.push_str(&format!("  {}\n", paint(Role::Faint, &format!("and {} more", met.len() - shown.len()))));
        text.push_str(&next_lines(&[Next::new("boltboard survey --all", "list them all")], 2));
    }
    let not_asked = survey.facts.iter().filter(|fact| fact.was_not_asked()).count();
    if not_asked > 0 {
        let needs = count(not_asked, "need", "needs");
        text.push_str(&format!("\n{needs} could not be checked without a compiler that works.\n"));
    }
    text.push_str(&gaps::sections(survey, width));
    if survey.gaps.is_empty() && not_asked == 0 {
        text.push_str(&format!("\n{}\n", paint(Role::Good, "This host has everything that the tree asks for.")));
    }
    text
}

fn head(survey: &Survey<'_>, width: usize) -> String {
    let total = survey.facts.iter().count();
    let bundled = survey.facts.iter().filter(|fact| matches!(fact.state, FactState::Bundled(_))).count();
    let met = survey.facts.iter().filter(|fact| fact.is_met()).count();
    let host = if survey.here.title.is_empty() { "an unknown distribution".into() } else { survey.here.title.clone() };
    let compiler = match (survey.compiler.is_empty(), survey.target.is_empty()) {
        (true, _) => "no compiler".to_string(),
        (false, true) => survey.compiler.clone(),
        (false, false) => format!("{} for {}", survey.compiler, survey.target),
    };
    let bundled = if bundled > 0 { format!(", {bundled} of them by a bundled copy") } else { String::new() };
    let counts = format!("{met} of {total} needs met{bundled}");
    let saved = survey.facts.iter().any(|fact| fact.source == FactSource::Saved);
    let compiler = match &survey.host_compiler {
        Some(own) => format!("{compiler} · {own} for the machine that builds"),
        None => compiler,
    };
    let host = if saved { "a saved host".to_string() } else { format!("{host} · {compiler}") };
    let environment = survey.environment.as_ref().map_or(String::new(), |environment| {
        let names: Vec<&str> = environment.variables.keys().map(String::as_str).collect();
        format!("\n{} sets {}", environment.from, if names.is_empty() { "nothing".into() } else { names.join(", ") })
    });
    let wrappers: String = survey.wrappers.iter().map(|wrapper| format!("\n{}", hosts::adds(wrapper))).collect();
    let lines = super::text::wrap(&format!("{host}{wrappers}{environment}\n{counts}"), width);
    lines.iter().map(|line| format!("{}\n", paint(Role::Faint, line))).collect()
}

fn found_table(survey: &Survey<'_>, facts: &[&Fact], width: usize) -> String {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for fact in facts {
        let (role, state) = state_words(survey.board, fact);
        let place = fact.found().and_then(|found| found.place.clone());
        let place = place.map_or_else(|| survey.board.needs[fact.need].summary.clone(), |p| p.display().to_string());
        rows.push(vec![(Role::Name, survey.name(fact.need).to_string()), (role, state), (Role::Faint, place)]);
        for copy in fact.copies.iter().filter(|copy| copy.rank != CopyRank::InUse) {
            let version = copy.version.as_ref().map_or("also there".into(), |version| format!("also {version}"));
            let why = match copy.rank {
                CopyRank::InUse => "in use",
                CopyRank::Later => "later in the search",
                CopyRank::Aside => "not searched by default",
            };
            let place = format!("{} ({why})", copy.place.display());
            rows.push(vec![(Role::Name, String::new()), (Role::Faint, version), (Role::Faint, place)]);
        }
    }
    columns_within(&rows, 2, width, 40)
}

/// Says what is there in a few words.
pub fn state_words(board: &Board, fact: &Fact) -> (Role, String) {
    let assumed = match fact.source {
        FactSource::Assumed => " (assumed)",
        FactSource::Looked | FactSource::Saved => "",
    };
    let by: Vec<&str> = fact.met_by.iter().map(|need| board.needs[*need].name.as_str()).collect();
    let by = if by.is_empty() { String::new() } else { format!(" by {}", by.join(", ")) };
    match &fact.state {
        FactState::Found(found) => {
            let version = found.version.as_ref().map_or("found".into(), |version| format!("found, version {version}"));
            (Role::Good, format!("{version}{by}{assumed}"))
        }
        FactState::Bundled(part) => (Role::Good, format!("bundled copy: {}", board.parts[*part].name)),
        FactState::Missing(Missing::Absent) => (Role::Bad, format!("missing{assumed}")),
        FactState::Missing(Missing::WrongVersion { .. }) => (Role::Bad, "does not fit".into()),
        FactState::Missing(Missing::Unusable { .. }) => (Role::Bad, "cannot be used".into()),
        FactState::Missing(Missing::SwitchedOff { .. }) => (Role::Warn, "switched off by you".into()),
        FactState::Missing(Missing::Others { .. }) => (Role::Bad, "not met".into()),
        FactState::Missing(Missing::NotAsked) => (Role::Warn, "not checked".into()),
    }
}

/// Says what is wrong with a need, in full.
pub fn trouble(board: &Board, fact: &Fact) -> String {
    let assumed = if fact.source == FactSource::Assumed { " (assumed)" } else { "" };
    match &fact.state {
        FactState::Missing(Missing::WrongVersion { found }) => {
            let wanted =
                board.needs[fact.need].wanted_versions().map_or(String::new(), |range| format!(", wanted {range}"));
            format!("does not fit: version {found} is there{wanted}{assumed}")
        }
        FactState::Missing(Missing::Unusable { reason }) => format!("cannot be used: {reason}"),
        FactState::Missing(Missing::Absent) => format!("is missing{assumed}"),
        FactState::Missing(Missing::SwitchedOff { there }) => match there {
            Presence::There(Some(version)) => format!("is switched off by you; version {version} is there"),
            Presence::There(None) => "is switched off by you; it is there".into(),
            Presence::NotThere => "is switched off by you, and missing too".into(),
        },
        FactState::Missing(Missing::Others { lacking }) => {
            let names: Vec<&str> = lacking.iter().map(|need| board.needs[*need].name.as_str()).collect();
            match &board.needs[fact.need].check {
                boltboard_core::board::NeedCheck::AnyOf(_) => {
                    format!("is not met: none of {} is there", names.join(", "))
                }
                _ => format!("is not met: it lacks {}", names.join(", ")),
            }
        }
        FactState::Missing(Missing::NotAsked) => "could not be checked".into(),
        FactState::Found(_) | FactState::Bundled(_) => state_words(board, fact).1,
    }
}

/// Returns the names of what wants a need: options, values of options, parts.
pub fn wanted_by(board: &Board, need: NeedId) -> Vec<String> {
    let (options, parts) = remedy::wanted_by(board, need);
    let options = options.into_iter().map(|(option, value)| {
        let name = &board.options[option].name;
        value.map_or_else(|| name.clone(), |value| format!("{name}={value}"))
    });
    options.chain(parts.into_iter().map(|part| format!("part {}", board.parts[part].name))).collect()
}

/// A two-column list with a faint label.
fn labelled(rows: &[(&str, String)], indent: usize, width: usize) -> String {
    let rows: Vec<Vec<Cell>> = rows
        .iter()
        .map(|(label, text)| vec![(Role::Faint, (*label).to_string()), (Role::Value, text.clone())])
        .collect();
    columns(&rows, indent, width)
}
