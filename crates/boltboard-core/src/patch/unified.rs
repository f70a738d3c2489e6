//! The unified format of patches, as compilers of differences and version controls write it (POSIX `diff -u`).

use crate::base::RelPath;

/// The most files and hunks of one patch.
const MOST: usize = 10_000;

/// A patch.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Patch {
    /// The name of its file.
    pub name: String,
    /// What it changes, file by file.
    pub files: Vec<FilePatch>,
}

/// What a patch does to a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FilePatch {
    /// The file before; none when it is new.
    pub old: Option<RelPath>,
    /// The file afterwards; none when it goes.
    pub new: Option<RelPath>,
    /// The places that change, in order.
    pub hunks: Vec<Hunk>,
}

/// One place that changes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hunk {
    /// The line in the file before at which it was found, counted from one.
    pub start: usize,
    /// The same in the file afterwards, by which it is taken back.
    start_after: usize,
    before: Vec<Vec<u8>>,
    after: Vec<Vec<u8>>,
}

/// A patch that cannot be read or does not fit.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PatchFault {
    /// It is no patch.
    #[error("{name}:{line}: {reason}")]
    Form {
        /// The patch.
        name: String,
        /// Its line, counted from one.
        line: usize,
        /// What is wrong.
        reason: String,
    },
    /// A file that it changes is not there.
    #[error("{name} changes {file}, which is not there")]
    NoFile {
        /// The patch.
        name: String,
        /// The file.
        file: String,
    },
    /// A file that it makes is there.
    #[error("{name} makes {file}, which is there already")]
    Exists {
        /// The patch.
        name: String,
        /// The file.
        file: String,
    },
    /// A hunk does not fit.
    #[error("{name} does not fit: hunk {hunk} of {file}, near line {line}, wants\n{wants}")]
    Hunk {
        /// The patch.
        name: String,
        /// The file.
        file: String,
        /// The hunk, counted from one.
        hunk: usize,
        /// The line that it is for.
        line: usize,
        /// The lines that it is to find.
        wants: String,
    },
}

impl Patch {
    /// Returns the patch that takes back what this one does.
    pub fn reversed(&self) -> Patch {
        let hunk = |hunk: &Hunk| Hunk {
            start: hunk.start_after,
            start_after: hunk.start,
            before: hunk.after.clone(),
            after: hunk.before.clone(),
        };
        let file = |file: &FilePatch| FilePatch {
            old: file.new.clone(),
            new: file.old.clone(),
            hunks: file.hunks.iter().map(hunk).collect(),
        };
        Patch { name: self.name.clone(), files: self.files.iter().map(file).collect() }
    }

    /// Reads a patch.
    ///
    /// # Errors
    /// It is none, or names files outside of the tree.
    pub fn parse(name: &str, text: &str) -> Result<Patch, PatchFault> {
        let lines: Vec<&str> = text.split_inclusive('\n').collect();
        let fault =
            |at: usize, reason: &str| PatchFault::Form { name: name.into(), line: at + 1, reason: reason.into() };
        let mut files: Vec<FilePatch> = Vec::new();
        let mut at = 0;
        while at < lines.len() {
            let (Some(old), Some(new)) =
                (lines[at].strip_prefix("--- "), lines.get(at + 1).and_then(|line| line.strip_prefix("+++ ")))
            else {
                at += 1;
                continue;
            };
            let path = |text: &str| path_of(text).map_err(|reason| fault(at, &reason));
            let (old, new) = (path(old)?, path(new)?);
            at += 2;
            let mut hunks = Vec::new();
            while let Some(head) = lines.get(at).and_then(|line| line.strip_prefix("@@ -")) {
                let ((start, count), (start_after, after)) =
                    numbers(head).ok_or_else(|| fault(at, "this is no head of a hunk"))?;
                let begun = at;
                at += 1;
                let mut hunk = Hunk { start, start_after, before: Vec::new(), after: Vec::new() };
                while hunk.before.len() < count || hunk.after.len() < after {
                    let line = lines.get(at).ok_or_else(|| fault(begun, "this hunk is cut off"))?;
                    hunk.take(line).ok_or_else(|| fault(at, "this line begins with none of ` `, `-` and `+`"))?;
                    at += 1;
                    if lines.get(at).is_some_and(|line| line.starts_with('\\')) {
                        hunk.without_line_end(line);
                        at += 1;
                    }
                }
                hunks.push(hunk);
                if hunks.len() > MOST {
                    return Err(fault(at, "this patch has too many hunks"));
                }
            }
            if hunks.is_empty() {
                return Err(fault(at, "no hunk follows"));
            }
            files.push(FilePatch { old, new, hunks });
            if files.len() > MOST {
                return Err(fault(at, "this patch has too many files"));
            }
        }
        if files.is_empty() {
            return Err(fault(0, "this is no patch in the unified format"));
        }
        Ok(Patch { name: name.into(), files })
    }
}

/// A path behind `---` or `+++`, without the folder that stands for before or after, and without a time.
fn path_of(text: &str) -> Result<Option<RelPath>, String> {
    let text = text.trim_end_matches(['\n', '\r']).split('\t').next().unwrap_or_default();
    if text == "/dev/null" {
        return Ok(None);
    }
    if text.starts_with('/') {
        return Err(format!("`{text}` leads out of the tree"));
    }
    let (_, path) = text.split_once('/').ok_or_else(|| format!("`{text}` is not in a folder such as `a/`"))?;
    RelPath::parse(path).map(Some).map_err(|fault| fault.to_string())
}

/// `START[,COUNT] +START[,COUNT] @@`
fn numbers(head: &str) -> Option<((usize, usize), (usize, usize))> {
    let (before, rest) = head.split_once(" +")?;
    let (after, _) = rest.split_once(" @@")?;
    let pair = |text: &str| -> Option<(usize, usize)> {
        match text.split_once(',') {
            Some((start, count)) => Some((start.parse().ok()?, count.parse().ok()?)),
            None => Some((text.parse().ok()?, 1)),
        }
    };
    Some((pair(before)?, pair(after)?))
}

impl Hunk {
    fn take(&mut self, line: &str) -> Option<()> {
        // Some programs leave out the sign before an empty line.
        let (sign, rest) = if line == "\n" { (' ', line) } else { (line.chars().next()?, &line[1..]) };
        let bytes = rest.as_bytes().to_vec();
        match sign {
            ' ' => {
                self.before.push(bytes.clone());
                self.after.push(bytes);
            }
            '-' => self.before.push(bytes),
            '+' => self.after.push(bytes),
            _ => return None,
        }
        Some(())
    }

    /// The line just taken has no end in the file.
    fn without_line_end(&mut self, line: &str) {
        let cut = |lines: &mut Vec<Vec<u8>>| {
            if let Some(last) = lines.last_mut()
                && last.last() == Some(&b'\n')
            {
                last.pop();
            }
        };
        match line.chars().next() {
            Some('-') => cut(&mut self.before),
            Some('+') => cut(&mut self.after),
            _ => {
                cut(&mut self.before);
                cut(&mut self.after);
            }
        }
    }
}

impl FilePatch {
    /// Returns what the file holds afterwards.
    ///
    /// # Errors
    /// A hunk does not fit, or the file is not there, or is there and should not be.
    pub fn applied(&self, name: &str, before: Option<&[u8]>) -> Result<Vec<u8>, PatchFault> {
        let shown = self.old.as_ref().or(self.new.as_ref()).map_or(String::new(), RelPath::to_string);
        let content = match (&self.old, before) {
            (None, Some(_)) => return Err(PatchFault::Exists { name: name.into(), file: shown }),
            (None, None) => &[][..],
            (Some(_), None) => return Err(PatchFault::NoFile { name: name.into(), file: shown }),
            (Some(_), Some(content)) => content,
        };
        let lines: Vec<&[u8]> = content.split_inclusive(|byte| *byte == b'\n').collect();
        let mut after: Vec<u8> = Vec::new();
        let mut done = 0;
        let mut moved: isize = 0;
        for (index, hunk) in self.hunks.iter().enumerate() {
            // A hunk that only adds to an empty file stands at line 0.
            let wanted = if hunk.before.is_empty() { hunk.start } else { hunk.start.saturating_sub(1) };
            let near = wanted.saturating_add_signed(moved);
            let Some(place) = place_of(&lines, &hunk.before, near, done) else {
                let wants = hunk.before.iter().map(|line| format!("    {}", String::from_utf8_lossy(line).trim_end()));
                return Err(PatchFault::Hunk {
                    name: name.into(),
                    file: shown,
                    hunk: index + 1,
                    line: hunk.start,
                    wants: wants.collect::<Vec<_>>().join("\n"),
                });
            };
            moved = place.cast_signed() - wanted.cast_signed();
            lines[done..place].iter().for_each(|line| after.extend_from_slice(line));
            hunk.after.iter().for_each(|line| after.extend_from_slice(line));
            done = place + hunk.before.len();
        }
        lines[done..].iter().for_each(|line| after.extend_from_slice(line));
        Ok(after)
    }
}

/// Where lines stand, as near as can be to a place, and not before another one.
fn place_of(lines: &[&[u8]], wanted: &[Vec<u8>], near: usize, least: usize) -> Option<usize> {
    let last = lines.len().checked_sub(wanted.len())?;
    let fits = |place: usize| {
        place >= least && place <= last && wanted.iter().zip(&lines[place..]).all(|(want, line)| want == line)
    };
    (0..=lines.len()).find_map(|away| {
        let before = near.checked_sub(away).filter(|place| fits(*place));
        before.or_else(|| Some(near + away).filter(|place| fits(*place)))
    })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn texts() -> impl Strategy<Value = String> {
        let line = prop::sample::select(vec!["", "{", "}", "fog();"]);
        let ended = any::<bool>();
        (prop::collection::vec(line, 0..30), ended).prop_map(|(lines, ended)| {
            let text = lines.join("\n");
            if ended && !lines.is_empty() { text + "\n" } else { text }
        })
    }

    proptest! {
        #[test]
        fn a_difference_is_applied_and_taken_back(before in texts(), after in texts(), context in 0_usize..4) {
            prop_assume!(before != after);
            let text = similar::TextDiff::from_lines(&before, &after)
                .unified_diff()
                .context_radius(context)
                .header("a/lamp.c", "b/lamp.c")
                .to_string();
            let patch = Patch::parse("p", &text).expect("it was just written");
            let there = patch.files[0].applied("p", Some(before.as_bytes())).expect("it fits");
            prop_assert_eq!(String::from_utf8_lossy(&there), after.as_str(), "{}", text);
            let back = patch.reversed().files[0].applied("p", Some(after.as_bytes())).expect("it fits");
            prop_assert_eq!(String::from_utf8_lossy(&back), before.as_str(), "{}", text);
        }

        #[test]
        fn whatever_is_read_is_a_patch_or_told(text in "(--- a/x\n|\\+\\+\\+ b/x\n|@@ -1(,[0-9])? \\+1(,[0-9])? @@\n|[ +-]?[a{]?\n|\\\\ no end\n){0,12}") {
            if let Ok(patch) = Patch::parse("p", &text) {
                let _ = patch.files[0].applied("p", Some(b"a\n{\na\n"));
                prop_assert_eq!(patch.reversed().reversed(), patch);
            }
        }
    }
}
