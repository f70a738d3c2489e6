//! What the last build saw: generators that read more of the tree than they declare.

use super::{Detail, Finding, Spot, Subject};
use crate::board::{Board, FindingKind, Generator, Piece};
use crate::journal::Journal;
use crate::step::{Location, Look};

/// Findings about what steps of a build were seen to do, in no order.
pub(super) fn findings(board: &Board, built: &Journal) -> Vec<Finding> {
    let mut findings = Vec::new();
    for (id, part) in board.parts.iter() {
        let Some(generator @ Generator::Command(command)) = part.kind.generator() else { continue };
        let (reads, named) = (&command.reads, generator.files());
        let texts = command.pieces().filter_map(|piece| match piece {
            Piece::Text(text) => Some(text.as_str()),
            _ => None,
        });
        let said: Vec<&str> = texts.collect();
        let notes = built.all().filter(|record| built.text(record.part) == part.name);
        let looks = notes.filter_map(|record| record.note.as_ref()).flat_map(|note| &note.inputs);
        let mut files: Vec<_> = looks
            .filter_map(|(look, _)| match built.text(*look).parse() {
                Ok(Look::Content(Location::Tree(path))) => Some(path),
                _ => None,
            })
            .filter(|path| !reads.iter().any(|glob| glob.matches(path)) && !named.contains(&path))
            // What its command names is said well enough.
            .filter(|path| !said.iter().any(|text| text.contains(path.as_str()) || *text == path.name()))
            .collect();
        files.sort();
        files.dedup();
        findings.extend(files.into_iter().map(|file| Finding {
            kind: FindingKind::UndeclaredRead,
            subject: Subject::Part(id),
            at: Spot::Definition(part.place),
            detail: Detail::Reads(file),
        }));
    }
    findings
}
