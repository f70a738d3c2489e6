//! What people read: summaries, packages, and what nothing uses.

use super::mentioned::Mentioned;
use super::{Detail, Finding, Spot, Subject};
use crate::base::Place;
use crate::board::{Board, FindingKind, Importance, Making};
use crate::remedy::is_packaged;

/// Findings about words and what is not used, in no order.
pub(super) fn findings(board: &Board, mentioned: &Mentioned) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut add = |kind: FindingKind, subject: Subject, place: Place| {
        findings.push(Finding { kind, subject, at: Spot::Definition(place), detail: Detail::Plain });
    };
    for (id, option) in board.options.iter().filter(|(_, option)| option.summary.is_empty()) {
        add(FindingKind::NoSummary, Subject::Option(id), option.place);
    }
    for (id, part) in board.parts.iter() {
        // A module is told by its option; what is not installed, nobody meets.
        let delivered = part.install.is_some() && part.kind.module().is_none() && part.kind.making() != Making::Copied;
        if part.summary.is_empty() && delivered {
            add(FindingKind::NoSummary, Subject::Part(id), part.place);
        }
    }
    for (id, need) in board.needs.iter() {
        if need.summary.is_empty() {
            add(FindingKind::NoSummary, Subject::Need(id), need.place);
        }
        if !is_packaged(board, id) && need.bundled.is_none() {
            add(FindingKind::NoPackages, Subject::Need(id), need.place);
        }
        if need.importance == Importance::Optional && !mentioned.need(id) {
            add(FindingKind::NeedUnused, Subject::Need(id), need.place);
        }
    }
    let mut used = vec![false; board.sections.len()];
    board.options.iter().for_each(|(_, option)| used[option.section.index()] = true);
    board.sections.iter().filter_map(|(_, section)| section.parent).for_each(|parent| used[parent.index()] = true);
    for (id, section) in board.sections.iter() {
        if let (Some(place), false) = (section.place, used[id.index()]) {
            add(FindingKind::SectionEmpty, Subject::Section(id), place);
        }
    }
    findings
}
