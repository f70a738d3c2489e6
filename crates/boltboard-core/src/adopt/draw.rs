//! Draws the description of a watched build.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use super::doubts;
use super::hinted::hinted_options;
use super::hints::hints_of;
use super::model::{Model, PartForm};
use super::needs::Host;
use super::paths::{absolute, relative_to};
use super::patterns::Files;
use super::questions::{Answers, NamesAnswer, Question};
use super::story::{Doubt, Story};
use super::text::{Writer, kept_place};
use super::watched::Watched;

/// A description, with what it rests on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drawing {
    /// The definitions' file.
    pub text: String,
    /// Further files, by their places beside it.
    pub files: BTreeMap<String, String>,
    /// The watched build's objects, by part and source.
    pub objects: BTreeMap<(String, String), Theirs>,
    /// The watched build's finished files, by part.
    pub outputs: BTreeMap<String, Theirs>,
    /// The parts that each is made of.
    pub uses: BTreeMap<String, Vec<String>>,
    /// What is not known, or was left out.
    pub doubts: Vec<Doubt>,
    /// What only a person knows, and has not answered.
    pub questions: Vec<Question>,
    /// How much of what there is.
    pub counts: Counts,
    /// Parts by name, with what they are and how many sources each has.
    pub parts: Vec<(String, String, usize)>,
}

/// A file of the watched build.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Theirs {
    /// The file.
    pub path: String,
    /// The command that made it.
    pub command: String,
}

/// How much of what a watched build did.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Processes.
    pub processes: usize,
    /// Sources that were compiled.
    pub compiles: usize,
    /// Sources among them that no part is made of.
    pub unused: usize,
    /// Archives and links.
    pub joins: usize,
    /// Sets of objects that several parts share.
    pub sets: usize,
    /// Commands that generate files, and texts that are kept.
    pub generated: usize,
    /// Libraries of the host.
    pub needs: usize,
    /// Tiny compiles and links that only asked about the host.
    pub probes: usize,
}

/// A drawn description with what it was made of.
pub(super) struct Picture {
    pub model: Model,
    pub files: Files,
    pub drawing: Drawing,
    /// Parts that are written as one definition for each file of a pattern: its name, and their sources.
    pub members: BTreeMap<String, (String, String)>,
}

impl Picture {
    /// Whether a source of a part is generated.
    pub fn is_generated(&self, part: &str, source: &str) -> bool {
        let of_part = self.model.parts.iter().filter(|known| known.name == part).flat_map(|part| &part.sources);
        of_part.into_iter().any(|known| known.path == source && known.generated)
    }
}

/// Draws the description of a watched build, for a file in the folder `at`.
pub fn draw(watched: &Watched, host: &Host, answers: &Answers, at: &Path) -> Drawing {
    picture(watched, host, answers, at).drawing
}

/// The same, with what it was made of.
pub(super) fn picture(watched: &Watched, host: &Host, answers: &Answers, at: &Path) -> Picture {
    let mut story = Story::of(watched);
    if watched.exit != 0 {
        story.doubt("the watched build", &format!("it {}: what comes after that was not seen", watched.how_it_ended()));
    }
    if let Some(blind) = &watched.blind {
        story.doubt("the watched build", &format!("not all of it was seen: {blind}"));
    }
    let all = story.compiles.len();
    let mut model = Model::of(&mut story, host, answers.names.as_ref());
    let asked = Question::of(&model, answers);
    model.version = model.version.or_else(|| answers.version.clone());
    let objects: BTreeMap<(String, String), Theirs> = model
        .parts
        .iter()
        .flat_map(|part| part.sources.iter().map(move |source| (part, source)))
        .map(|(part, source)| ((part.name.clone(), source.path.clone()), source.object.clone()))
        .collect();
    let used: BTreeSet<&String> = objects.values().map(|object| &object.path).collect();
    let unused: Vec<String> =
        story.compiles.iter().filter(|c| !used.contains(&c.object)).map(|c| c.source.clone()).collect();
    for source in &unused {
        story.doubt(source, "it was compiled, and nothing was linked of it");
    }
    if let Some(NamesAnswer::Kept(files)) = &answers.names {
        let known: BTreeSet<&String> = model.clashes.iter().flat_map(|clash| &clash.files).collect();
        for file in files.iter().filter(|file| !known.contains(file)) {
            story.doubt(file, "it is to keep its name, and no other file of that name was linked");
        }
    }
    doubts::note(&mut story, &model, &asked);
    let files = Files::of(story.before.iter().map(String::as_str));
    let listed = |folder: &str| story.is_listed(&absolute(&story.tree, folder));
    let sources = relative_to(at, &watched.tree);
    let writer = Writer::new(&model, sources, story.tree.clone(), &files, &listed);
    let wanted = answers.hints.as_deref().unwrap_or_default();
    let members = writer.members();
    let (mut hinted, mut unknown) = (Vec::new(), Vec::new());
    if !wanted.is_empty() {
        let apart = |part: &str| !members.contains_key(part);
        let (options, missing) = hinted_options(&hints_of(&story, host), wanted, &story, &model, &apart);
        unknown = missing;
        hinted = options;
    }
    let mut doubts: Vec<Doubt> = story.doubts.iter().cloned().collect();
    doubts.extend(unknown.into_iter().map(|about| {
        let said = "it is to become an option, and no macro of that name or family looks like one".to_string();
        Doubt { about, said }
    }));
    let questions: Vec<String> = doubts
        .iter()
        .filter(|doubt| doubt.said.ends_with('?'))
        .map(|doubt| format!("{}: {}", doubt.about, doubt.said))
        .collect();
    let seen = format!("Drawn from a watched build: {}", watched.command.join(" "));
    let kept = model.made.generated.iter().filter_map(|part| {
        let name = &part.outputs.first()?.0;
        Some((kept_place(name), part.kept.clone()?))
    });
    let linked = model.parts.iter().filter_map(|part| Some((part.name.clone(), part.file.clone()?)));
    let further = model.made.further.iter().filter_map(|path| {
        let command = story.words_of(story.unit_of(path, u32::MAX)?).join(" ");
        Some((model.made.part_of(path)?.to_string(), Theirs { path: path.clone(), command }))
    });
    let drawing = Drawing {
        text: writer.text(&seen, &questions, answers, &hinted),
        questions: asked,
        files: kept.collect(),
        outputs: linked.chain(further).collect(),
        uses: model.parts.iter().map(|part| (part.name.clone(), part.uses.clone())).collect(),
        counts: Counts {
            processes: watched.processes.len(),
            compiles: all,
            unused: unused.len(),
            joins: story.joins.len(),
            sets: model.parts.iter().filter(|part| part.form == PartForm::Objects).count(),
            generated: model.made.generated.len(),
            needs: model.needs.len(),
            probes: story.probes,
        },
        parts: model.parts.iter().map(|p| (p.name.clone(), p.form.word().to_string(), p.sources.len())).collect(),
        objects,
        doubts,
    };
    Picture { model, files, drawing, members }
}
