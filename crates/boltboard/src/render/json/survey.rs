//! Answers about hosts.

use std::path::PathBuf;

use boltboard_core::base::Severity;
use boltboard_core::board::NeedId;
use boltboard_core::checks::Package;
use boltboard_core::remedy::{Cost, CostFault, Gap};
use boltboard_core::survey::{
    CopyRank, Differing, Evidence, Fact, FactSource, FactState, HostDifference, Missing, Presence, Toolchain, Wrapper,
};
use serde::Serialize;

use super::FORMAT;
use crate::render::survey::{Survey, do_without_command, language_name, trouble, wanted_by};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct EnvironmentAnswer {
    from: String,
    variables: std::collections::BTreeMap<String, String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct SurveyAnswer {
    format: u32,
    distribution: &'static str,
    release: String,
    compiler: String,
    host_compiler: Option<String>,
    wrappers: Vec<WrapperAnswer>,
    environment: Option<EnvironmentAnswer>,
    target: String,
    compiler_fault: Option<String>,
    needs: Vec<NeedAnswer>,
    gaps: Vec<GapAnswer>,
    install: Option<String>,
    do_without: Option<String>,
    cost: Option<CostAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct NeedAnswer {
    name: String,
    state: &'static str,
    version: Option<String>,
    place: Option<String>,
    detail: Option<String>,
    source: &'static str,
    required: bool,
    provider: Option<String>,
    met_by: Vec<String>,
    needed_by: Vec<String>,
    compile_flags: Vec<String>,
    link_flags: Vec<String>,
    copies: Vec<CopyAnswer>,
    evidence: Vec<EvidenceAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct CopyAnswer {
    place: String,
    version: Option<String>,
    rank: &'static str,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct EvidenceAnswer {
    tried: String,
    found: String,
    command: Option<String>,
    program: Option<String>,
    words: Vec<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct GapAnswer {
    need: String,
    severity: Severity,
    stops: &'static str,
    trouble: String,
    lost: Vec<LostAnswer>,
    packages: Vec<Package>,
    packages_if_newer: Vec<Package>,
    providers: Vec<String>,
    switch_off: Vec<String>,
    cost: Option<CostAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct LostAnswer {
    option: String,
    would_be: String,
    is: String,
    chosen: bool,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct CostAnswer {
    packages: Vec<Package>,
    download_bytes: Option<u64>,
    disk_bytes: Option<u64>,
    fault: Option<String>,
}

/// Answers `survey`, about all needs or one.
pub fn survey(survey: &Survey<'_>, only: Option<NeedId>) -> SurveyAnswer {
    let asked = |need: NeedId| only.is_none_or(|only| only == need);
    let gaps = survey.gaps.iter().enumerate().filter(|(_, gap)| asked(gap.need));
    SurveyAnswer {
        format: FORMAT,
        distribution: survey.here.family.map_or("", |family| family.key()),
        release: survey.here.title.clone(),
        compiler: survey.compiler.clone(),
        host_compiler: survey.host_compiler.clone(),
        wrappers: survey.wrappers.iter().map(wrapper).collect(),
        environment: survey.environment.as_ref().map(|environment| EnvironmentAnswer {
            from: environment.from.clone(),
            variables: environment.variables.clone(),
        }),
        target: survey.target.clone(),
        compiler_fault: survey.facts.compiler_fault.clone(),
        needs: survey.facts.iter().filter(|fact| asked(fact.need)).map(|fact| need(survey, fact)).collect(),
        gaps: gaps.map(|(index, found)| gap(survey, found, survey.costs.get(index).and_then(Option::as_ref))).collect(),
        install: survey.install(),
        do_without: do_without_command(survey),
        cost: survey.cost.as_ref().map(cost),
    }
}

fn need(survey: &Survey<'_>, fact: &Fact) -> NeedAnswer {
    let board = survey.board;
    let definition = &board.needs[fact.need];
    let found = fact.found();
    let (state, version, detail) = match &fact.state {
        FactState::Found(found) => ("found", found.version.clone(), None),
        FactState::Bundled(part) => ("bundled", None, Some(board.parts[*part].name.clone())),
        FactState::Missing(missing) => {
            let (state, version) = match missing {
                Missing::Absent => ("missing", None),
                Missing::WrongVersion { found } => ("wrong-version", Some(found.clone())),
                Missing::Unusable { .. } => ("unusable", None),
                Missing::SwitchedOff { there: Presence::There(version) } => ("switched-off", version.clone()),
                Missing::SwitchedOff { there: Presence::NotThere } => ("switched-off", None),
                Missing::Others { .. } => ("not-met", None),
                Missing::NotAsked => ("not-asked", None),
            };
            (state, version, Some(trouble(board, fact)))
        }
    };
    NeedAnswer {
        name: definition.name.clone(),
        state,
        version,
        place: found.and_then(|found| found.place.as_ref()).map(|place| place.display().to_string()),
        detail,
        source: match fact.source {
            FactSource::Looked => "looked",
            FactSource::Assumed => "assumed",
            FactSource::Saved => "saved",
        },
        required: definition.importance == boltboard_core::board::Importance::Required,
        provider: fact.provider.as_ref().map(|provider| provider.text(board)),
        met_by: fact.met_by.iter().map(|need| board.needs[*need].name.clone()).collect(),
        needed_by: wanted_by(board, fact.need),
        compile_flags: found.map_or(Vec::new(), |found| found.compile_flags.clone()),
        link_flags: found.map_or(Vec::new(), |found| found.link_flags.clone()),
        copies: fact
            .copies
            .iter()
            .map(|copy| CopyAnswer {
                place: copy.place.display().to_string(),
                version: copy.version.clone(),
                rank: match copy.rank {
                    CopyRank::InUse => "in-use",
                    CopyRank::Later => "later",
                    CopyRank::Aside => "aside",
                },
            })
            .collect(),
        evidence: fact.evidence.iter().map(evidence).collect(),
    }
}

fn evidence(evidence: &Evidence) -> EvidenceAnswer {
    EvidenceAnswer {
        tried: evidence.tried.clone(),
        found: evidence.found.clone(),
        command: evidence.command.clone(),
        program: evidence.program.clone(),
        words: evidence.words.clone(),
    }
}

fn gap(survey: &Survey<'_>, gap: &Gap, asked: Option<&Result<Cost, CostFault>>) -> GapAnswer {
    let board = survey.board;
    GapAnswer {
        need: board.needs[gap.need].name.clone(),
        severity: gap.stops.severity(),
        stops: gap.stops.name(),
        trouble: survey.facts.get(gap.need).map_or(String::new(), |fact| trouble(board, fact)),
        lost: gap
            .lost
            .iter()
            .map(|lost| LostAnswer {
                option: board.options[lost.option].name.clone(),
                would_be: lost.would_be.to_string(),
                is: lost.is.to_string(),
                chosen: lost.chosen,
            })
            .collect(),
        packages: gap.packages.clone(),
        packages_if_newer: gap.packages_if_newer.clone(),
        providers: gap.providers.iter().map(|provider| provider.text(board)).collect(),
        switch_off: gap.switch_off.iter().map(|(o, value)| format!("{}={value}", board.options[*o].name)).collect(),
        cost: asked.map(cost),
    }
}

fn cost(cost: &Result<Cost, CostFault>) -> CostAnswer {
    match cost {
        Ok(cost) => CostAnswer {
            packages: cost.packages.clone(),
            download_bytes: cost.download_bytes,
            disk_bytes: cost.disk_bytes,
            fault: None,
        },
        Err(fault) => {
            CostAnswer { packages: Vec::new(), download_bytes: None, disk_bytes: None, fault: Some(fault.to_string()) }
        }
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct HostsAnswer {
    format: u32,
    differences: Vec<DifferenceAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DifferenceAnswer {
    what: &'static str,
    need: Option<String>,
    variable: Option<String>,
    there: String,
    here: String,
}

/// Answers `survey --against`.
pub fn hosts(list: &[HostDifference]) -> HostsAnswer {
    let one = |difference: &HostDifference| {
        let (what, need) = match &difference.what {
            Differing::Distribution => ("distribution", None),
            Differing::Compiler => ("compiler", None),
            Differing::Target => ("target", None),
            Differing::Variable(_) => ("variable", None),
            Differing::Need(name) => ("need", Some(name.clone())),
        };
        let variable = match &difference.what {
            Differing::Variable(name) => Some(name.clone()),
            _ => None,
        };
        DifferenceAnswer { what, need, variable, there: difference.before.clone(), here: difference.after.clone() }
    };
    HostsAnswer { format: FORMAT, differences: list.iter().map(one).collect() }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ToolchainsAnswer {
    format: u32,
    toolchains: Vec<ToolchainAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ToolchainAnswer {
    language: &'static str,
    names: Vec<String>,
    version: Option<String>,
    wrapper: Option<WrapperAnswer>,
    target: Option<String>,
    place: Option<String>,
    in_use: bool,
    fault: Option<String>,
}

/// A compiler that runs another one, and the words that it adds.
#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct WrapperAnswer {
    name: String,
    runs: String,
    adds: Vec<String>,
}

fn wrapper(wrapper: &Wrapper) -> WrapperAnswer {
    WrapperAnswer { name: wrapper.name.clone(), runs: wrapper.runs.clone(), adds: wrapper.adds.clone() }
}

/// Answers `survey --toolchains`.
pub fn toolchains(list: &[Toolchain], in_use: &[PathBuf]) -> ToolchainsAnswer {
    let one = |toolchain: &Toolchain| {
        let compiler = toolchain.compiler.as_ref().ok();
        ToolchainAnswer {
            language: language_name(toolchain.language),
            names: toolchain.names.clone(),
            version: compiler.map(|compiler| compiler.short_version()),
            wrapper: compiler.and_then(|compiler| compiler.wrapper.as_ref()).map(wrapper),
            target: compiler.map(|compiler| compiler.target.clone()),
            place: compiler.map(|compiler| compiler.real_path.display().to_string()),
            in_use: compiler.is_some_and(|compiler| in_use.contains(&compiler.real_path)),
            fault: toolchain.compiler.as_ref().err().map(ToString::to_string),
        }
    };
    ToolchainsAnswer { format: FORMAT, toolchains: list.iter().map(one).collect() }
}
