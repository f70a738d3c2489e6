//! Can those who build on a library use each of its headers? Each is compiled alone, with the flags of the metadata file and no others.

use std::path::{Path, PathBuf};
use std::time::Duration;

use super::smoke::SmokeRun;
use super::{Contents, staged};
use crate::board::{Generator, Machine, MetadataDef};
use crate::plan::PlanInput;
use crate::survey::Language;

/// How long the compiler may take over the headers of one library.
const LIMIT: Duration = Duration::from_secs(120);

/// The runs of the compiler that look at installed headers, one for each metadata file. Where there is no compiler, nobody is asked. What was
/// unpacked below a folder is looked at there.
pub fn header_runs(input: &PlanInput<'_>, contents: &Contents, staging: Option<&Path>) -> Vec<SmokeRun> {
    let made = input.board.parts.iter().filter(|(_, part)| input.is_made(part));
    let metadata = made.filter_map(|(_, part)| match part.kind.generator() {
        Some(Generator::Metadata { of, .. }) => Some(of),
        _ => None,
    });
    metadata.filter_map(|def| run(input, contents, staging, def)).collect()
}

fn run(input: &PlanInput<'_>, contents: &Contents, staging: Option<&Path>, def: &MetadataDef) -> Option<SmokeRun> {
    let folders = input.filled(&def.include);
    let is_public = |path: &Path| folders.iter().any(|folder| path.starts_with(folder));
    let is_c = is_of_c(input, def);
    let mut headers: Vec<(&str, PathBuf)> = Vec::new();
    for file in contents.files.iter().filter(|file| is_public(&file.path)) {
        let language = match file.path.extension().and_then(|ending| ending.to_str()) {
            Some("h") if is_c => "c",
            Some("h" | "hh" | "hpp" | "hxx" | "h++") => "c++",
            _ => continue,
        };
        headers.push((language, staged(&file.path, staging)));
    }
    headers.sort();
    let wanted = if headers.iter().any(|(language, _)| *language == "c++") { Language::Cxx } else { Language::C };
    let compiler = input.tools.compiler_for(Machine::Target, wanted).ok().filter(|_| !headers.is_empty())?;
    let mut arguments = vec!["-fsyntax-only".to_string()];
    arguments.extend(folders.iter().map(|folder| format!("-I{}", staged(Path::new(folder), staging).display())));
    arguments.extend(input.metadata_compiles(def));
    let count = headers.len();
    for (language, header) in headers {
        arguments.extend(["-x".to_string(), language.to_string(), header.display().to_string()]);
    }
    Some(SmokeRun {
        name: format!("headers of {}", def.name),
        summary: format!("{count} of them, each compiled alone"),
        program: compiler.path.clone(),
        arguments,
        says: vec![],
        silent: vec![],
        success: vec![0],
        limit: LIMIT,
    })
}

/// Whether any source of its libraries is C, so that what does not say otherwise is a header of C.
fn is_of_c(input: &PlanInput<'_>, def: &MetadataDef) -> bool {
    let rules = def.libraries.iter().flat_map(|library| &input.board.parts[*library].sources);
    let mut files = rules.flat_map(|rule| input.listing.of_rule(rule)).peekable();
    files.peek().is_none() || files.any(|file| Language::of(&file) == Some(Language::C))
}
