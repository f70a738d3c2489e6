//! What nothing uses: options that reach nothing, libraries that no part is linked with, places below no prefix.

use std::collections::BTreeSet;

use super::mentioned::Mentioned;
use super::{Detail, Finding, Spot, Subject};
use crate::base::Place;
use crate::board::{Board, FindingKind, NeedCheck, NeedId};
use crate::remedy::wanted_by;

/// Findings about what is said and of no use, in no order.
pub(super) fn findings(board: &Board, mentioned: &Mentioned) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut add = |kind: FindingKind, subject: Subject, place: Place| {
        findings.push(Finding { kind, subject, at: Spot::Definition(place), detail: Detail::Plain });
    };
    let has_parts = !board.parts.is_empty();
    for (id, option) in board.options.iter().filter(|_| has_parts) {
        let carried = option.macros.iter().any(|one| one.header.is_some());
        let special = board.prefix() == Some(id);
        if !carried && !special && !mentioned.option(id) {
            add(FindingKind::OptionUnused, Subject::Option(id), option.place);
        }
    }
    let linked = taken_by_parts(board);
    for (id, need) in board.needs.iter().filter(|_| has_parts) {
        let NeedCheck::Host(check) = &need.check else { continue };
        let is_library = check.library.is_some() || !check.link.is_empty();
        if is_library && !linked.contains(&id) && !wanted_by(board, id).0.is_empty() {
            add(FindingKind::NeedUnlinked, Subject::Need(id), need.place);
        }
    }
    if board.prefix().is_none()
        && let Some((id, part)) = board.parts.iter().find(|(_, part)| part.install.is_some())
    {
        add(FindingKind::NoPrefix, Subject::Part(id), part.place);
    }
    findings
}

/// Needs whose flags some part takes, with those that they are made of.
fn taken_by_parts(board: &Board) -> BTreeSet<NeedId> {
    let mut open: Vec<NeedId> =
        board.parts.iter().flat_map(|(_, part)| part.needs.iter().map(|need| need.item)).collect();
    let mut taken = BTreeSet::new();
    while let Some(need) = open.pop() {
        if taken.insert(need)
            && let NeedCheck::AnyOf(members) | NeedCheck::AllOf(members) = &board.needs[need].check
        {
            open.extend(members);
        }
    }
    taken
}
