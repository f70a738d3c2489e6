//! Answers about the board, its values and the host.

use boltboard_core::board::{Board, DecidedBy, OptionId};
use boltboard_core::profile::{Choices, ProfileName, ProfileSource};
use boltboard_core::resolve::{Effect, Origin};
use serde::Serialize;

use super::FORMAT;
use crate::commands::profile::Checked;
use crate::render::overview::Overview;
use crate::session::Session;
use boltboard_core::session::Resolved;

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct OptionsAnswer {
    format: u32,
    tree: String,
    profile: String,
    options: Vec<OptionAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct OptionAnswer {
    name: String,
    kind: &'static str,
    value: String,
    origin: OriginAnswer,
    applies: bool,
    section: Vec<String>,
    level: &'static str,
    derived: bool,
    summary: String,
}

#[derive(Serialize)]
#[serde(tag = "from", rename_all = "kebab-case", rename_all_fields = "kebab-case")]
enum OriginAnswer {
    Chosen { layer: String, file: String, line: usize, reason: Option<String> },
    PulledIn { by: String, requirement: String },
    Default,
    Blocked { would_be: String, requirement: String, by: String },
}

fn origin(board: &Board, choices: &Choices, option: OptionId, origin: &Origin) -> OriginAnswer {
    if let Some(choice) = choices.get(option) {
        let place = choices.files.excerpt(choice.place);
        return OriginAnswer::Chosen {
            layer: choices.layers[choice.layer].name.clone(),
            file: place.file.to_string(),
            line: place.line,
            reason: choice.reason.clone(),
        };
    }
    let rule = |id| {
        let rule: &boltboard_core::board::Rule = &board.rules[id];
        (board.options[rule.option].name.clone(), board.print(&rule.must))
    };
    match origin {
        Origin::PulledIn(id) => {
            let (by, requirement) = rule(*id);
            OriginAnswer::PulledIn { by, requirement }
        }
        Origin::Blocked { would_be, by } => {
            let (by, requirement) = rule(*by);
            OriginAnswer::Blocked { would_be: would_be.to_string(), requirement, by }
        }
        Origin::Default(_) | Origin::Chosen => OriginAnswer::Default,
    }
}

fn one(session: &Session, resolved: &Resolved, option: OptionId) -> OptionAnswer {
    let board = &session.board;
    let definition = &board.options[option];
    let value = resolved.resolution.get(option);
    OptionAnswer {
        name: definition.name.clone(),
        kind: definition.kind.name(),
        value: value.value.to_string(),
        origin: origin(board, &resolved.choices, option, &value.origin),
        applies: value.effect == Effect::Applies,
        section: board.section_path(definition.section).iter().map(|s| board.sections[*s].name.clone()).collect(),
        level: definition.level.name(),
        derived: definition.decided_by != DecidedBy::People,
        summary: definition.summary.clone(),
    }
}

/// Answers `options`.
pub fn options(session: &Session, resolved: &Resolved, wanted: &[OptionId]) -> OptionsAnswer {
    OptionsAnswer {
        format: FORMAT,
        tree: session.board.tree.name.clone(),
        profile: session.profile.to_string(),
        options: wanted.iter().map(|id| one(session, resolved, *id)).collect(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ShowAnswer {
    format: u32,
    #[serde(flatten)]
    option: OptionAnswer,
    help: String,
    accepts: String,
    values: Vec<String>,
    requires: Vec<String>,
    applies_while: Option<String>,
    required_by: Vec<String>,
    macros: Vec<String>,
    file: String,
    line: usize,
}

/// Answers `show`.
pub fn show(session: &Session, resolved: &Resolved, option: OptionId, users: &[String]) -> ShowAnswer {
    let board = &session.board;
    let definition = &board.options[option];
    let place = board.files.excerpt(definition.place);
    ShowAnswer {
        format: FORMAT,
        option: one(session, resolved, option),
        help: definition.help.clone(),
        accepts: definition.kind.expected().replace('`', ""),
        values: definition.kind.listed().into_iter().map(str::to_string).collect(),
        requires: definition.rules.iter().map(|rule| board.print(&board.rules[*rule].must)).collect(),
        applies_while: definition.applies_while.as_ref().map(|when| board.print(&when.expr)),
        required_by: users.to_vec(),
        macros: definition.macros.iter().map(|m| m.name.clone()).collect(),
        file: place.file.to_string(),
        line: place.line,
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ProfilesAnswer {
    format: u32,
    profiles: Vec<ProfileAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ProfileAnswer {
    name: String,
    source: &'static str,
    in_use: bool,
}

/// Answers `profile list`.
pub fn profile_list(
    profiles: &std::collections::BTreeMap<ProfileName, ProfileSource>,
    active: &ProfileName,
) -> ProfilesAnswer {
    let one = |(name, source): (&ProfileName, &ProfileSource)| ProfileAnswer {
        name: name.to_string(),
        source: match source {
            ProfileSource::Own | ProfileSource::Once => "own",
            ProfileSource::Shipped => "shipped",
            ProfileSource::Kit => "kit",
        },
        in_use: name == active,
    };
    ProfilesAnswer { format: FORMAT, profiles: profiles.iter().map(one).collect() }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ProfileShowAnswer {
    format: u32,
    profile: String,
    layers: Vec<String>,
    choices: Vec<ChoiceAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ChoiceAnswer {
    option: String,
    value: String,
    layer: String,
    file: String,
    line: usize,
    reason: Option<String>,
}

/// Answers `profile show`.
pub fn profile(board: &Board, name: &ProfileName, choices: &Choices) -> ProfileShowAnswer {
    let one = |choice: &boltboard_core::profile::Choice| {
        let place = choices.files.excerpt(choice.place);
        ChoiceAnswer {
            option: board.options[choice.option].name.clone(),
            value: choice.value.to_string(),
            layer: choices.layers[choice.layer].name.clone(),
            file: place.file.to_string(),
            line: place.line,
            reason: choice.reason.clone(),
        }
    };
    let provider = |(need, chosen): (&boltboard_core::board::NeedId, &boltboard_core::profile::ProviderChoice)| {
        let place = choices.files.excerpt(chosen.place);
        ChoiceAnswer {
            option: format!("{}{}", boltboard_core::board::NEED_PREFIX, board.needs[*need].name),
            value: chosen.provider.text(board),
            layer: choices.layers[chosen.layer].name.clone(),
            file: place.file.to_string(),
            line: place.line,
            reason: chosen.reason.clone(),
        }
    };
    ProfileShowAnswer {
        format: FORMAT,
        profile: name.to_string(),
        layers: choices.layers.iter().map(|(_, layer)| layer.name.clone()).collect(),
        choices: choices.own().map(one).chain(choices.providers.iter().map(provider)).collect(),
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct OverviewAnswer {
    format: u32,
    tree: String,
    version: String,
    summary: String,
    sources: usize,
    source_bytes: u64,
    options: usize,
    needs: usize,
    missing: Vec<String>,
    parts: Vec<PartAnswer>,
    profile: String,
    changes: Vec<String>,
    add_ons: Vec<String>,
    to_fetch: usize,
    choices: usize,
}

#[derive(Serialize)]
struct PartAnswer {
    name: String,
    kind: &'static str,
    made: bool,
}

/// Answers `overview`.
pub fn overview(board: &Board, overview: &Overview) -> OverviewAnswer {
    OverviewAnswer {
        format: FORMAT,
        tree: board.tree.name.clone(),
        version: board.tree.version.clone(),
        summary: board.tree.summary.clone(),
        sources: overview.sources,
        source_bytes: overview.source_bytes,
        options: board.options.len(),
        needs: board.needs.len(),
        missing: overview.missing.clone(),
        parts: board
            .parts
            .iter()
            .zip(&overview.made)
            .map(|((_, part), made)| PartAnswer { name: part.name.clone(), kind: part.kind.name(), made: *made })
            .collect(),
        profile: overview.profile.clone(),
        changes: overview.changes.clone(),
        add_ons: overview.add_ons.clone(),
        to_fetch: overview.to_fetch.0,
        choices: overview.choices,
    }
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct ProfileCheckAnswer {
    format: u32,
    profiles: Vec<CheckedAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct CheckedAnswer {
    profile: String,
    holds: bool,
    choices: Option<usize>,
    no_effect: Vec<String>,
    problems: Vec<String>,
    for_other_hosts: bool,
}

/// Answers `profile check`.
pub fn profile_check(all: &[Checked]) -> ProfileCheckAnswer {
    let one = |checked: &Checked| CheckedAnswer {
        profile: checked.profile.to_string(),
        holds: checked.choices.is_some(),
        choices: checked.choices,
        no_effect: checked.idle.clone(),
        problems: checked.problems.clone(),
        for_other_hosts: checked.for_others,
    };
    ProfileCheckAnswer { format: FORMAT, profiles: all.iter().map(one).collect() }
}
