//! Answers about trees that are adopted.

use std::path::Path;

use boltboard_core::adopt::{Again, Differed, Difference, Drawing, Hint, Proof, Question, Watched};
use serde::Serialize;

use super::FORMAT;
use crate::render::adopt::{effect, told};

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DifferedAnswer {
    format: u32,
    file: String,
    differences: Vec<String>,
    proofs: Vec<ValueProof>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ValueProof {
    value: String,
    proof: ProofAnswer,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct HintsAnswer {
    format: u32,
    hints: Vec<HintAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct HintAnswer {
    name: String,
    family: Option<String>,
    effects: Vec<String>,
    file: String,
    line: usize,
    files: usize,
    compiles: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct StatusAnswer {
    format: u32,
    tree: String,
    watched: Vec<String>,
    description: Option<String>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct SeenAnswer {
    format: u32,
    name: String,
    command: Vec<String>,
    exit: i32,
    processes: usize,
    compiles: usize,
    unused: usize,
    joins: usize,
    generated: usize,
    needs: usize,
    probes: usize,
    parts: Vec<PartAnswer>,
    doubts: Vec<DoubtAnswer>,
    questions: Vec<QuestionAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct PartAnswer {
    name: String,
    kind: String,
    sources: usize,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DoubtAnswer {
    about: String,
    said: String,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct QuestionAnswer {
    question: &'static str,
    usual: &'static str,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DrawnAnswer {
    format: u32,
    file: String,
    lines: usize,
    parts: Vec<PartAnswer>,
    doubts: Vec<DoubtAnswer>,
    questions: Vec<QuestionAnswer>,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct ProofAnswer {
    objects: usize,
    objects_same: usize,
    objects_alike: usize,
    outputs: usize,
    outputs_same: usize,
    outputs_alike: Vec<DifferenceAnswer>,
    gone: Vec<String>,
    differences: Vec<DifferenceAnswer>,
}

#[derive(Serialize)]
struct WholeProof {
    format: u32,
    #[serde(flatten)]
    proof: ProofAnswer,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct DifferenceAnswer {
    theirs: String,
    ours: Option<String>,
    command: String,
    own_command: Option<String>,
    why: Option<String>,
}

fn questions(drawing: &Drawing) -> Vec<QuestionAnswer> {
    let answer = |asked: &Question| QuestionAnswer { question: asked.key(), usual: asked.usual() };
    drawing.questions.iter().map(answer).collect()
}

/// The same for machines.
pub fn adopt_differed(file: &Path, differed: &Differed, proofs: &[(&str, Proof)]) -> impl Serialize {
    let proofs = proofs.iter().map(|(value, proof)| ValueProof { value: (*value).into(), proof: proof_answer(proof) });
    DifferedAnswer {
        format: FORMAT,
        file: file.display().to_string(),
        differences: differed.said.clone(),
        proofs: proofs.collect(),
    }
}

/// The same for machines.
pub fn adopt_hints(found: &[Hint]) -> impl Serialize {
    let answer = |hint: &Hint| HintAnswer {
        name: hint.name.clone(),
        family: hint.family.clone(),
        effects: hint.effects.iter().map(effect).collect(),
        file: hint.first.0.clone(),
        line: hint.first.1,
        files: hint.files,
        compiles: hint.compiles,
    };
    HintsAnswer { format: FORMAT, hints: found.iter().map(answer).collect() }
}

/// The same for machines.
pub fn adopted(tree: &Path, names: &[String], drawn: Option<&Path>) -> impl Serialize {
    StatusAnswer {
        format: FORMAT,
        tree: tree.display().to_string(),
        watched: names.to_vec(),
        description: drawn.map(|folder| folder.display().to_string()),
    }
}

/// What was understood, for machines.
pub fn adopt_seen(watched: &Watched, drawing: &Drawing) -> impl Serialize {
    let counts = drawing.counts;
    SeenAnswer {
        format: FORMAT,
        name: watched.name.clone(),
        command: watched.command.clone(),
        exit: watched.exit,
        processes: counts.processes,
        compiles: counts.compiles,
        unused: counts.unused,
        joins: counts.joins,
        generated: counts.generated,
        needs: counts.needs,
        probes: counts.probes,
        parts: parts_of(drawing),
        doubts: doubts_of(drawing),
        questions: questions(drawing),
    }
}

/// What was written, for machines.
pub fn adopt_drawn(file: &Path, drawing: &Drawing) -> impl Serialize {
    DrawnAnswer {
        format: FORMAT,
        file: file.display().to_string(),
        lines: drawing.text.lines().count(),
        parts: parts_of(drawing),
        doubts: doubts_of(drawing),
        questions: questions(drawing),
    }
}

/// How two builds compare, for machines.
pub fn adopt_proof(proof: &Proof) -> impl Serialize {
    WholeProof { format: FORMAT, proof: proof_answer(proof) }
}

fn proof_answer(proof: &Proof) -> ProofAnswer {
    let answer = |difference: &Difference| DifferenceAnswer {
        theirs: difference.theirs.clone(),
        ours: difference.ours.clone(),
        command: difference.command.clone(),
        own_command: difference.own_command.clone(),
        why: difference.why.as_ref().map(told),
    };
    ProofAnswer {
        objects: proof.objects,
        objects_same: proof.objects_same,
        objects_alike: proof.objects_alike,
        outputs: proof.outputs,
        outputs_same: proof.outputs_same,
        outputs_alike: proof.outputs_alike.iter().map(answer).collect(),
        gone: proof.gone.clone(),
        differences: proof.differences.iter().map(answer).collect(),
    }
}

fn parts_of(drawing: &Drawing) -> Vec<PartAnswer> {
    let part = |(name, kind, sources): &(String, String, usize)| PartAnswer {
        name: name.clone(),
        kind: kind.clone(),
        sources: *sources,
    };
    drawing.parts.iter().map(part).collect()
}

fn doubts_of(drawing: &Drawing) -> Vec<DoubtAnswer> {
    drawing.doubts.iter().map(|doubt| DoubtAnswer { about: doubt.about.clone(), said: doubt.said.clone() }).collect()
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct AgainAnswer {
    format: u32,
    file: String,
    taken: Vec<String>,
    conflicts: Vec<String>,
}

/// What a second drawing came to.
pub fn adopt_again(file: &Path, again: &Again) -> impl Serialize {
    let (taken, conflicts) = (again.taken.clone(), again.conflicts.clone());
    AgainAnswer { format: FORMAT, file: file.display().to_string(), taken, conflicts }
}
