//! Answers of `lint`.

use boltboard_core::base::Severity;
use boltboard_core::board::Board;
use boltboard_core::lint::{Detail, Finding, Lint, Spot};
use serde::Serialize;

use super::FORMAT;
use crate::render::lint::{remedy, said};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct LintAnswer {
    format: u32,
    findings: Vec<FindingAnswer>,
    accepted: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct FindingAnswer {
    finding: &'static str,
    severity: Severity,
    message: String,
    file: Option<String>,
    line: Option<usize>,
    requirements: Vec<String>,
    remedy: &'static str,
}

/// Answers `lint`.
pub fn lint(board: &Board, lint: &Lint) -> LintAnswer {
    LintAnswer {
        format: FORMAT,
        findings: lint.findings.iter().map(|finding| one(board, finding)).collect(),
        accepted: lint.accepted,
    }
}

fn one(board: &Board, finding: &Finding) -> FindingAnswer {
    let (file, line) = match &finding.at {
        Spot::Definition(place) => {
            let excerpt = board.files.excerpt(*place);
            (Some(excerpt.file.to_string()), Some(excerpt.line))
        }
        Spot::Source(file, line) => (Some(file.to_string()), Some(*line)),
        Spot::Tree => (None, None),
    };
    let requirements = match &finding.detail {
        Detail::Proof(rules, _) => rules.iter().map(|rule| board.print(&board.rules[*rule].must)).collect(),
        Detail::Reads(file) => vec![file.to_string()],
        Detail::Text(_)
        | Detail::Ring(_)
        | Detail::Shadowed
        | Detail::NeverCounts
        | Detail::NeverHad
        | Detail::Plain => Vec::new(),
    };
    FindingAnswer {
        finding: finding.kind.name(),
        severity: finding.kind.severity(),
        message: said(board, finding),
        file,
        line,
        requirements,
        remedy: remedy(finding.kind),
    }
}
