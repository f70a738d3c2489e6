//! Macros that look like options: files of the build test them, and nothing that was seen defines them, or the build itself gave them.

use std::collections::{BTreeMap, BTreeSet};

use super::needs::{Host, is_of_compiler};
use super::story::Story;
use super::watched::Watched;
use super::words::Word;
use crate::checks::Package;

/// Words that names of options often begin with.
const FAMILIES: [&str; 10] = ["WITH", "USE", "ENABLE", "HAVE", "NO", "OMIT", "DISABLE", "WITHOUT", "SUPPORT", "CONFIG"];
/// Words in names of compilers and systems that are not this one.
const PLATFORMS: [&str; 18] = [
    "WIN", "WINDOWS", "MSC", "MSVC", "APPLE", "DARWIN", "MACOSX", "BSD", "SOLARIS", "SUN", "HPUX", "AIX", "IRIX",
    "VMS", "CYGWIN", "MINGW", "BORLANDC", "ANDROID",
];

/// What a macro does where it is tested.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Effect {
    /// The build gave it to compiles.
    Given,
    /// A template for a header holds it.
    InTemplate,
    /// A comment offers it, as a definition that is left out.
    Offered,
    /// Headers of the host are included only with it; with the package that brings them, if that is installed.
    Includes {
        /// The headers.
        headers: Vec<String>,
        /// The package.
        package: Option<Package>,
    },
    /// All of a file depends on it.
    WholeFile(String),
}

/// A macro that looks like an option.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hint {
    /// Its name.
    pub name: String,
    /// What names of its kind begin with, where there are others.
    pub family: Option<String>,
    /// What it does.
    pub effects: Vec<Effect>,
    /// The first file that tests it, and the line.
    pub first: (String, usize),
    /// How many files test it.
    pub files: usize,
    /// How many compiles read one of these: what a flip would at most run.
    pub compiles: usize,
    /// Which compiles these are.
    pub(super) reads: BTreeSet<usize>,
    score: i64,
}

impl Hint {
    /// How likely it is an option: more is likelier.
    pub fn score(&self) -> i64 {
        self.score
    }
}

/// One conditional of a file.
#[derive(Debug, Default)]
struct Test {
    names: Vec<String>,
    line: usize,
    /// Whether nothing but comments and includes stood before it, and nothing stands after its end.
    whole: bool,
    includes: Vec<String>,
}

/// What a text tests, defines and offers.
#[derive(Debug, Default)]
struct Text {
    tests: Vec<Test>,
    defined: BTreeSet<String>,
    offered: BTreeSet<String>,
}

/// Returns the macros of a watched build that look like options, the likeliest first.
pub fn hints(watched: &Watched, host: &Host) -> Vec<Hint> {
    hints_of(&Story::of(watched), host)
}

/// The same, of a build that was understood already.
pub(super) fn hints_of(story: &Story<'_>, host: &Host) -> Vec<Hint> {
    let mut readers: BTreeMap<&String, BTreeSet<usize>> = BTreeMap::new();
    for (at, compile) in story.compiles.iter().enumerate() {
        for path in compile.reads.iter().chain([&compile.source]) {
            readers.entry(path).or_default().insert(at);
        }
    }
    let mut given: BTreeSet<String> = BTreeSet::new();
    for word in story.compiles.iter().flat_map(|compile| &compile.run.words) {
        if let Word::Define(text) = word {
            given.insert(text.split('=').next().unwrap_or_default().to_string());
        }
    }
    let mut defined: BTreeSet<String> = BTreeSet::new();
    let mut found: BTreeMap<String, Found> = BTreeMap::new();
    let mut offered: BTreeSet<String> = BTreeSet::new();
    for (path, compiles) in &readers {
        let Ok(bytes) = std::fs::read(path) else { continue };
        let text = look(&String::from_utf8_lossy(&bytes));
        let own = story.in_tree(path).map(str::to_string).or_else(|| story.is_made(path).then(|| (*path).clone()));
        defined.extend(text.defined);
        let Some(file) = own else { continue };
        offered.extend(text.offered);
        for test in text.tests {
            for name in &test.names {
                let hint = found.entry(name.clone()).or_default();
                hint.files.insert(file.clone());
                hint.compiles.extend(compiles.iter().copied());
                if hint.first.is_none() {
                    hint.first = Some((file.clone(), test.line));
                }
                if test.names.len() == 1 {
                    hint.headers.extend(test.includes.iter().cloned());
                    hint.whole.extend(test.whole.then(|| file.clone()));
                }
            }
        }
    }
    let templates = templates(story);
    let own_header = |header: &String| {
        readers.keys().any(|path| story.in_tree(path).is_some() && path.ends_with(&format!("/{header}")))
    };
    let is_option = |name: &String| {
        let known = defined.contains(name) && !given.contains(name) && !templates.contains(name);
        !known && !name.starts_with('_') && name.chars().any(|c| c.is_ascii_uppercase())
    };
    found.retain(|name, _| is_option(name));
    let headers: BTreeSet<String> = found.values().flat_map(|found| found.headers.iter().cloned()).collect();
    let packages = host.packages_of_headers(&headers);
    let families = families(found.keys());
    let mut hints: Vec<Hint> = found
        .into_iter()
        .map(|(name, found)| {
            let mut effects = Vec::new();
            effects.extend(given.contains(&name).then_some(Effect::Given));
            effects.extend(templates.contains(&name).then_some(Effect::InTemplate));
            effects.extend(offered.contains(&name).then_some(Effect::Offered));
            let mut foreign: BTreeMap<Option<Package>, Vec<String>> = BTreeMap::new();
            for header in found.headers.iter().filter(|header| !own_header(header)) {
                foreign.entry(packages.get(header).cloned()).or_default().push(header.clone());
            }
            // Those that every host has on which C is compiled say nothing.
            foreign.retain(|package, _| !package.as_ref().is_some_and(is_of_compiler));
            effects.extend(foreign.into_iter().map(|(package, headers)| Effect::Includes { headers, package }));
            effects.extend(found.whole.into_iter().map(Effect::WholeFile));
            let family = families.get(&name).cloned();
            let (files, compiles) = (found.files.len(), found.compiles.len());
            let score = score(&name, &effects, family.as_deref(), files);
            Hint {
                name,
                family,
                effects,
                first: found.first.unwrap_or_default(),
                files,
                compiles,
                reads: found.compiles,
                score,
            }
        })
        .collect();
    hints.sort_by(|a, b| b.score.cmp(&a.score).then_with(|| a.name.cmp(&b.name)));
    hints
}

/// What is known of a macro that files test.
#[derive(Debug, Default)]
struct Found {
    files: BTreeSet<String>,
    compiles: BTreeSet<usize>,
    headers: BTreeSet<String>,
    whole: BTreeSet<String>,
    first: Option<(String, usize)>,
}

fn score(name: &str, effects: &[Effect], family: Option<&str>, files: usize) -> i64 {
    let mut score = i64::try_from(files.min(20)).unwrap_or(20);
    for effect in effects {
        score += match effect {
            Effect::Given => 60,
            Effect::InTemplate => 50,
            Effect::Offered => 25,
            // What is installed here can be switched on.
            Effect::Includes { package: Some(_), .. } => 30,
            Effect::Includes { .. } => 5,
            Effect::WholeFile(_) => 5,
        };
    }
    if effects.iter().any(|effect| matches!(effect, Effect::WholeFile(_))) {
        score += 15;
    }
    let words: Vec<&str> = name.split('_').collect();
    if words.iter().any(|word| FAMILIES.contains(word)) || family.is_some_and(|family| FAMILIES.contains(&family)) {
        score += 25;
    }
    if words
        .iter()
        .any(|word| PLATFORMS.iter().any(|platform| word.trim_end_matches(|c: char| c.is_ascii_digit()) == *platform))
    {
        score -= 80;
    }
    if words.iter().any(|word| matches!(*word, "DEBUG" | "TEST" | "TRACE")) {
        score -= 10;
    }
    // What tells a version is no choice.
    if words.iter().any(|word| matches!(*word, "VERSION" | "MAJOR" | "MINOR")) {
        score -= 60;
    }
    score
}

/// What several names begin with, up to a `_`: by name.
fn families<'n>(names: impl Iterator<Item = &'n String>) -> BTreeMap<String, String> {
    let names: Vec<&String> = names.collect();
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    let word = |name: &'n String| name.find('_').filter(|at| *at > 0).map(|at| &name[..at]);
    names.iter().filter_map(|name| word(name)).for_each(|word| *counts.entry(word).or_default() += 1);
    let of =
        |name: &&'n String| word(name).filter(|word| counts[word] > 1).map(|word| ((*name).clone(), word.to_string()));
    names.iter().filter_map(of).collect()
}

/// Names that templates for headers in the tree hold: a line that takes a macro away, for a program to replace.
fn templates(story: &Story<'_>) -> BTreeSet<String> {
    let mut names = BTreeSet::new();
    for id in &story.watched.before {
        let path = story.watched.text(*id);
        if !path.ends_with(".h.in") {
            continue;
        }
        let Ok(bytes) = std::fs::read(path) else { continue };
        for line in String::from_utf8_lossy(&bytes).lines() {
            let rest = line.trim_start().strip_prefix('#').map(str::trim_start).unwrap_or_default();
            let mut words = rest.split_whitespace();
            if words.next().is_some_and(|word| word == "undef" || word.ends_with("define")) {
                names.extend(words.next().map(str::to_string));
            }
        }
    }
    names
}

/// Reads the directives of a text.
fn look(text: &str) -> Text {
    let mut found = Text::default();
    // Open conditionals: the number of their test, if they are one, and whether only includes stood before.
    let mut open: Vec<Option<usize>> = Vec::new();
    let (mut in_comment, mut only_includes) = (false, true);
    let mut whole_until: Option<usize> = None;
    for (at, line) in text.lines().enumerate() {
        let was_comment = in_comment;
        let code = without_comments(line, &mut in_comment);
        found.offered.extend(offers(line, was_comment));
        let code = code.trim();
        if code.is_empty() {
            continue;
        }
        // What comes after its end makes a test one of a part of the file.
        if open.is_empty()
            && let Some(test) = whole_until.take()
        {
            found.tests[test].whole = false;
        }
        let Some(rest) = code.strip_prefix('#').map(str::trim_start) else {
            only_includes &= !open.is_empty();
            continue;
        };
        let word: String = rest.chars().take_while(char::is_ascii_alphabetic).collect();
        let rest = rest[word.len()..].trim();
        match word.as_str() {
            "if" | "ifdef" | "ifndef" | "elif" => {
                let names = names_in(rest);
                let whole = word != "elif" && word != "ifndef" && only_includes && open.is_empty();
                found.tests.push(Test { names, line: at + 1, whole, includes: Vec::new() });
                let number = Some(found.tests.len() - 1);
                if word == "elif" {
                    open.pop();
                }
                open.push(number);
            }
            "else" => {
                open.pop();
                open.push(None);
            }
            "endif" => {
                let ended = open.pop().flatten();
                if open.is_empty() {
                    whole_until = ended.filter(|test| found.tests[*test].whole);
                    only_includes = false;
                }
            }
            "define" => found.defined.extend(names_in(rest).into_iter().next()),
            "include" => {
                if let (Some(Some(test)), Some(header)) = (open.last(), rest.strip_prefix('<')) {
                    let header = header.split('>').next().unwrap_or_default().to_string();
                    found.tests[*test].includes.push(header);
                }
            }
            _ => {}
        }
    }
    found
}

/// The code of a line.
fn without_comments(line: &str, in_comment: &mut bool) -> String {
    let mut code = String::new();
    let mut rest = line;
    loop {
        if *in_comment {
            let Some(end) = rest.find("*/") else { return code };
            rest = &rest[end + 2..];
            *in_comment = false;
        }
        match (rest.find("//"), rest.find("/*")) {
            (Some(line), block) if block.is_none_or(|block| line < block) => return code + &rest[..line],
            (_, Some(block)) => {
                code.push_str(&rest[..block]);
                code.push(' ');
                rest = &rest[block + 2..];
                *in_comment = true;
            }
            (_, None) => return code + rest,
        }
    }
}

/// Definitions within comments.
fn offers(line: &str, in_comment: bool) -> Option<String> {
    let start = line.trim_start();
    let comment = start.strip_prefix("//").or_else(|| start.strip_prefix("/*"));
    let inside = comment.or(in_comment.then_some(start.trim_start_matches('*')))?;
    let rest = inside.trim_start().strip_prefix('#')?.trim_start().strip_prefix("define")?;
    names_in(rest).into_iter().next()
}

fn names_in(text: &str) -> Vec<String> {
    let text = text.split("//").next().unwrap_or_default();
    let words = text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_');
    let is_name = |word: &&str| word.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_') && *word != "defined";
    let mut names: Vec<String> = words.filter(is_name).map(str::to_string).collect();
    names.dedup();
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tests_offers_and_whole_files_are_found() {
        let text = look(
            "/* about */\n#include <stdio.h>\n#ifdef WITH_FOG\n#include <fog.h>\nint fog;\n#  if defined(LOUD) && HORNS > 2\n#endif\n#endif /* fog */\n",
        );
        let names: Vec<&str> = text.tests.iter().flat_map(|test| &test.names).map(String::as_str).collect();
        assert_eq!(names, ["WITH_FOG", "LOUD", "HORNS"]);
        assert!(text.tests[0].whole && !text.tests[1].whole);
        assert_eq!(text.tests[0].includes, ["fog.h"]);
        let text =
            look("#ifdef A\nint a;\n#endif\nint b;\n/* #define OFFERED 1 */\n// #define ALSO\n/*\n#define THIRD\n*/\n");
        assert!(!text.tests[0].whole);
        assert_eq!(text.offered.into_iter().collect::<Vec<_>>(), ["ALSO", "OFFERED", "THIRD"]);
        assert!(text.defined.is_empty());
    }
}
