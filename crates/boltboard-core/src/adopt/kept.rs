//! In what a text differs that several builds wrote themselves: macros, which options can stand for, and other lines.

use std::collections::BTreeMap;
use std::ops::Range;

use super::align::{Run, align, places_in};
use super::paths::stem_and_ending;

/// A piece of a text that is to hold for all builds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Piece {
    /// As it stands in all of them.
    Same(String),
    /// Macros alone, which options can give.
    Options(BTreeMap<usize, String>),
    /// Other lines, as they stand in each.
    Chosen(BTreeMap<usize, String>),
}

/// In what a kept text differs.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct KeptDelta {
    /// How sources include it.
    pub file: String,
    pub pieces: Vec<Piece>,
    /// Macros, with what each build defines them as; nothing where one does not.
    pub macros: BTreeMap<String, BTreeMap<usize, String>>,
    /// The builds that have the text.
    pub builds: Vec<usize>,
}

/// Endings of files that a compiler reads through its preprocessor.
const PREPROCESSED: [&str; 12] = ["h", "hh", "hpp", "hxx", "inc", "def", "c", "cc", "cpp", "cxx", "H", "S"];

/// What a line is for the one who reads on from it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct State {
    /// How many conditions are open.
    depth: isize,
    in_comment: bool,
    /// Whether the line before goes on.
    continued: bool,
}

impl State {
    fn after(mut self, line: &str) -> State {
        let mut rest = line;
        if !self.in_comment && !self.continued {
            match directive(line).map(|(word, _)| word) {
                Some("if" | "ifdef" | "ifndef") => self.depth += 1,
                Some("endif") => self.depth -= 1,
                _ => {}
            }
        }
        loop {
            let next = if self.in_comment { rest.find("*/") } else { rest.find("/*") };
            let Some(at) = next else { break };
            self.in_comment = !self.in_comment;
            rest = &rest[at + 2..];
        }
        self.continued = line.trim_end().ends_with('\\');
        self
    }
}

/// The word of a directive, and what follows it.
fn directive(line: &str) -> Option<(&str, &str)> {
    let rest = line.trim_start().strip_prefix('#')?.trim_start();
    let end = rest.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(rest.len());
    Some((&rest[..end], rest[end..].trim()))
}

/// What a line says.
enum Says<'a> {
    Nothing,
    Defines(&'a str, &'a str),
    Else,
}

fn says(line: &str) -> Says<'_> {
    let text = line.trim();
    let is_comment = text.starts_with("//") || text.starts_with("/*") && text.find("*/") == Some(text.len().max(2) - 2);
    if text.is_empty() || is_comment {
        return Says::Nothing;
    }
    match directive(line) {
        Some(("undef", _)) => Says::Nothing,
        Some(("define", rest)) if !text.ends_with('\\') && !rest.contains("/*") && !rest.contains("//") => {
            let end = rest.find(|c: char| !(c.is_ascii_alphanumeric() || c == '_')).unwrap_or(rest.len());
            let (name, value) = rest.split_at(end);
            // A bracket without a space before it opens a list of arguments.
            if name.is_empty() || value.starts_with('(') { Says::Else } else { Says::Defines(name, value.trim()) }
        }
        _ => Says::Else,
    }
}

impl KeptDelta {
    /// Compares the texts of some builds; `None` where the file is none that a compiler reads, or its lines cannot be chosen.
    pub fn of(file: &str, texts: &[(usize, &str)]) -> Option<KeptDelta> {
        if !PREPROCESSED.contains(&stem_and_ending(file).1) {
            return None;
        }
        let lists: Vec<Vec<&str>> = texts.iter().map(|(_, text)| text.lines().collect()).collect();
        let builds: Vec<usize> = texts.iter().map(|(build, _)| *build).collect();
        let mut delta = KeptDelta { file: file.to_string(), builds: builds.clone(), ..KeptDelta::default() };
        let mut state = State::default();
        let mut options_at: Option<isize> = None;
        for run in align(&lists) {
            let each = match run {
                Run::Same(lines) => {
                    state = lines.iter().fold(state, |state, line| state.after(line));
                    delta.pieces.push(Piece::Same(joined(&lines)));
                    continue;
                }
                Run::Differs(each) => each,
            };
            let ends: Vec<State> =
                each.iter().map(|lines| lines.iter().fold(state, |state, line| state.after(line))).collect();
            let texts = builds.iter().copied().zip(each.iter().map(|lines| joined(lines))).collect();
            if state.in_comment && ends.iter().all(|end| *end == state) {
                // What a comment says changes nothing.
                delta.pieces.push(Piece::Same(joined(&each[0])));
            } else if state.continued || ends.iter().any(|end| *end != state) || each.iter().any(|lines| is_torn(lines))
            {
                return None;
            } else if options_at.is_none_or(|depth| depth == state.depth)
                && let Some(found) = macros_of(&builds, &each)
            {
                options_at = Some(state.depth);
                delta.macros.extend(found);
                delta.pieces.push(Piece::Options(texts));
            } else {
                delta.pieces.push(Piece::Chosen(texts));
            }
        }
        Some(delta)
    }

    /// Whether some lines are other ones than macros.
    pub fn has_chosen(&self) -> bool {
        self.pieces.iter().any(|piece| matches!(piece, Piece::Chosen(_)))
    }

    /// The text for all builds, made of `current`, which was made of the text of the build `base`: `header` is included where the
    /// options' macros stood, and `condition` tells when some builds' lines count. `None` where the lines of the base are there no more.
    pub fn text(
        &self,
        base: usize,
        current: &str,
        header: &str,
        condition: &dyn Fn(&[usize]) -> String,
    ) -> Option<String> {
        let include = format!("#include \"{header}\"\n");
        let of_base = |piece: &Piece| match piece {
            Piece::Same(text) => text.clone(),
            Piece::Options(texts) | Piece::Chosen(texts) => texts.get(&base).cloned().unwrap_or_default(),
        };
        let was: Vec<String> = self.pieces.iter().map(of_base).collect();
        let before: Vec<&str> = was.iter().flat_map(|text| text.lines()).collect();
        let mut lines: Vec<&str> = current.lines().collect();
        let places = places_in(&before, &lines);
        let mut open = !current.contains(&include);
        let mut edits: Vec<(Range<usize>, String)> = Vec::new();
        let mut reached = 0;
        for (piece, was) in self.pieces.iter().zip(&was) {
            let own = reached..reached + was.lines().count();
            reached = own.end;
            let text = match piece {
                Piece::Same(_) => continue,
                Piece::Options(_) if open => {
                    open = false;
                    include.clone()
                }
                Piece::Options(_) => String::new(),
                Piece::Chosen(texts) => {
                    // Lines that are chosen need the header above them.
                    if open {
                        edits.push((0..0, include.clone()));
                        open = false;
                    }
                    chosen(texts, condition)
                }
            };
            edits.push((place_of(own, &places)?, text));
        }
        let mut text = String::new();
        for (place, new) in edits.into_iter().rev() {
            let rest = lines.split_off(place.start);
            text = new + &joined(&rest[place.len()..]) + &text;
        }
        Some(joined(&lines) + &text)
    }
}

/// Where lines of the base stand now: together, or between those around them.
fn place_of(own: Range<usize>, places: &[Option<usize>]) -> Option<Range<usize>> {
    if own.is_empty() {
        let before = own.start.checked_sub(1).and_then(|at| places[at]).map(|at| at + 1);
        let start = before.or_else(|| places.get(own.start).copied().flatten());
        return start.or(places.is_empty().then_some(0)).map(|at| at..at);
    }
    let found: Vec<usize> = places[own].iter().copied().collect::<Option<_>>()?;
    let (first, last) = (*found.first()?, *found.last()?);
    (last + 1 - first == found.len()).then_some(first..last + 1)
}

/// Lines of which those count that some builds have.
fn chosen(texts: &BTreeMap<usize, String>, condition: &dyn Fn(&[usize]) -> String) -> String {
    let mut by_text: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    texts.iter().for_each(|(build, text)| by_text.entry(text).or_default().push(*build));
    let mut lines: Vec<(&str, Vec<usize>)> = by_text.into_iter().filter(|(lines, _)| !lines.is_empty()).collect();
    lines.sort_by_key(|(_, builds)| builds[0]);
    lines.into_iter().map(|(lines, builds)| format!("#if {}\n{lines}#endif\n", condition(&builds))).collect()
}

/// Whether lines hold a branch of a condition that does not begin in them.
fn is_torn(lines: &[&str]) -> bool {
    let mut depth = 0;
    lines.iter().filter_map(|line| directive(line)).any(|(word, _)| {
        match word {
            "if" | "ifdef" | "ifndef" => depth += 1,
            "endif" => depth -= 1,
            _ => {}
        }
        depth < 0 || depth == 0 && word.starts_with("el")
    })
}

/// The macros that differing lines define, where they do nothing else.
fn macros_of(builds: &[usize], each: &[Vec<&str>]) -> Option<BTreeMap<String, BTreeMap<usize, String>>> {
    let mut found: BTreeMap<String, BTreeMap<usize, String>> = BTreeMap::new();
    for (build, line) in builds.iter().zip(each).flat_map(|(build, lines)| lines.iter().map(move |line| (build, line)))
    {
        match says(line) {
            Says::Nothing => {}
            Says::Defines(name, value) => {
                let before = found.entry(name.to_string()).or_default().insert(*build, value.to_string());
                if before.is_some_and(|before| before != value) {
                    return None;
                }
            }
            Says::Else => return None,
        }
    }
    Some(found)
}

fn joined(lines: &[&str]) -> String {
    lines.iter().map(|line| format!("{line}\n")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    const GUARDED: &str = "#ifndef A_H\n#define A_H\n#define SAME 1\n/* #undef LIGHT */\n#define STEP 30\n#ifdef LIGHT\nint lit(void);\n#endif\n#endif\n";

    fn text(delta: &KeptDelta) -> String {
        let of_base = |piece: &Piece| match piece {
            Piece::Same(text) => text.clone(),
            Piece::Options(texts) | Piece::Chosen(texts) => texts[&0].clone(),
        };
        let current: String = delta.pieces.iter().map(of_base).collect();
        edited(delta, &current).unwrap()
    }

    fn edited(delta: &KeptDelta, current: &str) -> Option<String> {
        delta.text(0, current, "own.h", &|builds| format!("B{builds:?}"))
    }

    #[test]
    fn macros_that_come_go_and_change_are_told() {
        let other = GUARDED.replace("/* #undef LIGHT */", "#define LIGHT 1").replace("STEP 30", "STEP 60");
        let delta = KeptDelta::of("a.h", &[(0, GUARDED), (1, &other)]).unwrap();
        assert_eq!(delta.macros["LIGHT"], BTreeMap::from([(1, "1".to_string())]));
        assert_eq!(delta.macros["STEP"], BTreeMap::from([(0, "30".to_string()), (1, "60".to_string())]));
        // What a person, or an option before, made of the text stays.
        let edited = edited(&delta, &GUARDED.replace("SAME 1\n", "SAME 1\n#include \"own.h\"\nint mine;\n")).unwrap();
        assert_eq!((edited.matches("own.h").count(), edited.contains("mine;\n#ifdef LIGHT")), (1, true), "{edited}");
        assert_eq!(super::KeptDelta::text(&delta, 0, "#define STEP 31\n", "own.h", &|_| String::new()), None);
        assert_eq!(
            text(&delta),
            "#ifndef A_H\n#define A_H\n#define SAME 1\n#include \"own.h\"\n#ifdef LIGHT\nint lit(void);\n#endif\n#endif\n"
        );
    }

    #[test]
    fn other_lines_are_chosen_where_they_stand() {
        let other = GUARDED.replace("int lit(void);", "int lit(int how);").replace("SAME 1", "SAME(x) 1");
        let delta = KeptDelta::of("a.h", &[(0, GUARDED), (2, &other)]).unwrap();
        assert!(delta.has_chosen() && delta.macros.is_empty());
        let text = text(&delta);
        assert!(text.starts_with("#include \"own.h\"\n#ifndef A_H\n"), "{text}");
        assert!(text.contains("#if B[0]\n#define SAME 1\n#endif\n#if B[2]\n#define SAME(x) 1\n#endif\n"), "{text}");
        assert!(
            text.contains(
                "#ifdef LIGHT\n#if B[0]\nint lit(void);\n#endif\n#if B[2]\nint lit(int how);\n#endif\n#endif\n"
            )
        );
    }

    #[test]
    fn what_only_comments_differ_in_is_the_same() {
        let comment = |year: &str| format!("/* made in\n   {year}\n*/\n#define X 1\n");
        let delta = KeptDelta::of("a.h", &[(0, &comment("1999")), (1, &comment("2026"))]).unwrap();
        assert_eq!((text(&delta), delta.macros.len()), (comment("1999"), 0));
    }

    #[test]
    fn macros_below_a_condition_of_their_own_are_chosen_there() {
        let one = "#define TOP 1\n#if X\n#define LOW 1\n#else\n#define LOW 2\n#endif\n";
        let other = one.replace("TOP 1", "TOP 3").replace("LOW 2", "LOW 4");
        let delta = KeptDelta::of("a.h", &[(0, one), (1, &other)]).unwrap();
        assert_eq!(delta.macros.keys().collect::<Vec<_>>(), ["TOP"]);
        assert_eq!(
            text(&delta),
            "#include \"own.h\"\n#if X\n#define LOW 1\n#else\n#if B[0]\n#define LOW 2\n#endif\n#if B[1]\n#define LOW 4\n#endif\n#endif\n"
        );
    }

    #[test]
    fn lines_that_cannot_be_chosen_are_refused() {
        for (one, other) in [
            ("#define A 1 \\\n 2\nint a;\n", "#define A 1 \\\n 3\nint a;\n"),
            ("#if A\nint a;\n#endif\n", "#if B\nint a;\n#endif\nint b;\n"),
            ("#if A\nint a;\n#else\n#endif\n", "#if A\nint a;\n#elif B\n#endif\n"),
            ("int a; /*\n*/\n", "int a;\n*/\n"),
        ] {
            assert_eq!(KeptDelta::of("a.h", &[(0, one), (1, other)]), None, "{other}");
        }
        assert_eq!(KeptDelta::of("notes.txt", &[(0, "a\n"), (1, "b\n")]), None);
    }
}
