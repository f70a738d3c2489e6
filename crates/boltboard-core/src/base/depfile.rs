//! Dependency files, as compilers write them.

use std::os::unix::ffi::OsStringExt;
use std::path::PathBuf;

/// What a dependency file names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Dependencies {
    /// The files, in order.
    pub files: Vec<PathBuf>,
    /// Whether the list says more than one rule, as it does when a name holds a line's end: then the files are not all.
    pub goes_on: bool,
}

/// Reads a dependency file as compilers write it: `target: file file \` with blanks escaped.
pub fn parse_dependencies(text: &[u8]) -> Dependencies {
    let Some(colon) = text.windows(2).position(|pair| pair == b": " || pair == b":\\") else {
        return Dependencies::default();
    };
    let mut all = Dependencies::default();
    let mut file = Vec::new();
    let mut rest = &text[colon + 1..];
    while let Some((c, after)) = rest.split_first() {
        rest = after;
        match (*c, rest.first()) {
            (b'\\', Some(b'\n')) => {
                rest = &rest[1..];
                end(&mut file, &mut all.files);
            }
            // Before a blank, each one stands twice, and one more before the blank itself; elsewhere they stand as they are.
            (b'\\', _) => {
                let more = rest.iter().take_while(|c| **c == b'\\').count();
                let next = rest.get(more);
                if matches!(next, Some(b' ' | b'\t')) {
                    file.extend(std::iter::repeat_n(b'\\', more.div_ceil(2)));
                    file.extend(next);
                    rest = &rest[more + 1..];
                } else if more == 0 && matches!(next, Some(b'#' | b':')) {
                    file.extend(next);
                    rest = &rest[1..];
                } else {
                    file.extend(std::iter::repeat_n(b'\\', more + 1));
                    rest = &rest[more..];
                    if rest.first() == Some(&b'\n') {
                        file.pop();
                    }
                }
            }
            (b'$', Some(b'$')) => {
                file.push(b'$');
                rest = &rest[1..];
            }
            (b' ' | b'\t' | b'\r', _) => end(&mut file, &mut all.files),
            // The first rule ends here.
            (b'\n', _) => {
                all.goes_on = !rest.trim_ascii().is_empty();
                break;
            }
            (c, _) => file.push(c),
        }
    }
    end(&mut file, &mut all.files);
    all
}

fn end(file: &mut Vec<u8>, files: &mut Vec<PathBuf>) {
    if !file.is_empty() {
        files.push(std::ffi::OsString::from_vec(std::mem::take(file)).into());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dependency_files_are_read_with_their_escapes() {
        for (case, text, want, goes_on) in [
            ("one line", "x.o: a.c b.h\n", vec!["a.c", "b.h"], false),
            (
                "joined lines",
                "x.o: a.c \\\n  b.h \\\n /usr/include/c.h\n",
                vec!["a.c", "b.h", "/usr/include/c.h"],
                false,
            ),
            ("a blank and a dollar", "x.o: a\\ b.c c$$d.h\n", vec!["a b.c", "c$d.h"], false),
            ("a tab", "x.o: a\\\tb.c\n", vec!["a\tb.c"], false),
            ("a hash", "x.o: a\\#b.h\n", vec!["a#b.h"], false),
            ("backslashes", "x.o: a\\b.h c\\\\\\ d.h\n", vec!["a\\b.h", "c\\ d.h"], false),
            ("further rules", "x.o: a.c b.h\n\nb.h:\n", vec!["a.c", "b.h"], true),
            ("nothing", "", vec![], false),
        ] {
            let want = Dependencies { files: want.into_iter().map(PathBuf::from).collect(), goes_on };
            assert_eq!(parse_dependencies(text.as_bytes()), want, "{case}");
        }
    }
}
