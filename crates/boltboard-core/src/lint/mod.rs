//! What can be doubted about definitions, with proofs where it is about what can be, and with what maintainers accepted.
//!
//! `logic` asks what can hold on any host; `sources` holds the definitions against the files of the tree, `macros` against the macros in
//! them; `words` looks at what people read, `unused` at what nothing uses; `built` at what the last build saw. Nothing of the tree is run.

mod built;
mod logic;
mod macros;
mod mentioned;
mod sources;
mod unused;
mod words;

use crate::base::{Place, RelPath};
use crate::board::{AcceptedOf, Board, FindingKind, NeedId, OptionId, PartId, RuleId, SectionId, Tree};
use crate::definitions::Listing;
use crate::journal::Journal;
use crate::logic::Logic;
use crate::resolve::Proof;

use mentioned::Mentioned;

#[cfg(test)]
mod tests;

/// One doubt.
#[derive(Debug, Clone)]
pub struct Finding {
    /// What it is.
    pub kind: FindingKind,
    /// What it is about.
    pub subject: Subject,
    /// Where.
    pub at: Spot,
    /// What shows it.
    pub detail: Detail,
}

/// What a finding is about.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Subject {
    /// The whole board.
    Board,
    /// An option.
    Option(OptionId),
    /// One value of a pick.
    Value(OptionId, String),
    /// A need.
    Need(NeedId),
    /// A part.
    Part(PartId),
    /// A section.
    Section(SectionId),
    /// A macro.
    Macro(String),
    /// A file.
    File(RelPath),
    /// What was accepted under this name.
    Accepted(FindingKind),
}

/// Where a finding is.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Spot {
    /// In the definitions.
    Definition(Place),
    /// In a source, at a one-based line.
    Source(RelPath, usize),
    /// Nowhere in particular.
    Tree,
}

/// What shows a finding.
#[derive(Debug, Clone)]
pub enum Detail {
    /// The rules that show it, and how.
    Proof(Vec<RuleId>, Proof),
    /// Options that lead from one to the next, back to the first.
    Ring(Vec<OptionId>),
    /// An earlier default always counts.
    Shadowed,
    /// The condition of a default can never hold.
    NeverCounts,
    /// The value of a default can never be had while it counts.
    NeverHad,
    /// A file that is read.
    Reads(RelPath),
    /// A text of the definitions: a macro, a pattern, a folder.
    Text(String),
    /// Nothing more is to be said.
    Plain,
}

/// What came of looking.
#[derive(Debug, Clone, Default)]
pub struct Lint {
    /// What was found, the worst first, then in the order of files.
    pub findings: Vec<Finding>,
    /// How many were accepted.
    pub accepted: usize,
}

/// Looks at the definitions, at the files of the tree when there are sources, and at what was seen in the last build.
pub fn lint(board: &Board, logic: &Logic, listing: &Listing, built: &Journal) -> Lint {
    let mut findings = logic::findings(board, logic);
    let mentioned = Mentioned::of(board);
    findings.extend(words::findings(board, &mentioned));
    findings.extend(unused::findings(board, &mentioned));
    findings.extend(sources::findings(board, &mentioned, listing));
    findings.extend(built::findings(board, built));
    // What lies in a kit was looked at where its tree is.
    findings.retain(|finding| board.kit.is_none() || is_of_add_on(board, &finding.at));
    let mut used = vec![false; board.accepted.len()];
    let before = findings.len();
    findings.retain(|finding| !accepted(board, finding, &mut used));
    let accepted = before - findings.len();
    for (acceptance, _) in board.accepted.iter().zip(&used).filter(|(_, used)| !**used) {
        if board.kit.is_some() && board.is_written_in_tree(acceptance.place) {
            continue;
        }
        findings.push(Finding {
            kind: FindingKind::AcceptedNothing,
            subject: Subject::Accepted(acceptance.kind),
            at: Spot::Definition(acceptance.place),
            detail: Detail::Plain,
        });
    }
    findings.sort_by(|a, b| {
        let key = |f: &Finding| (f.kind.severity(), f.at.clone(), f.kind, f.subject.clone());
        key(a).cmp(&key(b))
    });
    Lint { findings, accepted }
}

fn is_of_add_on(board: &Board, at: &Spot) -> bool {
    match at {
        Spot::Definition(place) => !board.is_written_in_tree(*place),
        Spot::Source(file, _) => !Board::is_of_tree(file),
        Spot::Tree => false,
    }
}

fn accepted(board: &Board, finding: &Finding, used: &mut [bool]) -> bool {
    let mut any = false;
    for (acceptance, used) in board.accepted.iter().zip(used).filter(|(a, _)| a.kind == finding.kind) {
        let about = match (&acceptance.of, &finding.subject) {
            (AcceptedOf::Option(one), Subject::Option(option) | Subject::Value(option, _)) => one == option,
            (AcceptedOf::Option(one), Subject::Macro(name)) => {
                board.options[*one].macros.iter().any(|definition| definition.name == *name)
            }
            (AcceptedOf::Need(one), Subject::Need(need)) => one == need,
            (AcceptedOf::Part(one), Subject::Part(part)) => one == part,
            (AcceptedOf::Files(globs), _) => match &finding.at {
                Spot::Source(file, _) => globs.iter().any(|glob| glob.matches(file)),
                Spot::Definition(_) | Spot::Tree => false,
            },
            _ => false,
        };
        if about {
            *used = true;
            any = true;
        }
    }
    any
}

/// Reads a file as text; what is no text has nothing to say here.
fn read(tree: &Tree, file: &RelPath) -> String {
    std::fs::read(tree.source(file)).map_or(String::new(), |bytes| String::from_utf8_lossy(&bytes).into_owned())
}
