//! Dependency files, as compilers write them.

/// Reads a dependency file as compilers write it: `target: file file \` with blanks escaped.
pub fn parse_dependencies(text: &str) -> Vec<String> {
    let Some(colon) = text.find(": ").or_else(|| text.find(":\\")) else { return Vec::new() };
    let mut files = Vec::new();
    let mut file = String::new();
    let mut chars = text[colon + 1..].chars().peekable();
    while let Some(c) = chars.next() {
        match (c, chars.peek()) {
            ('\\', Some('\n')) => {
                chars.next();
                end(&mut file, &mut files);
            }
            ('\\', Some(' ' | '#' | '\\' | ':')) => file.extend(chars.next()),
            ('$', Some('$')) => file.extend(chars.next()),
            (' ' | '\t' | '\r', _) => end(&mut file, &mut files),
            // The first rule ends here; further ones only guard against removed headers.
            ('\n', _) => break,
            (c, _) => file.push(c),
        }
    }
    end(&mut file, &mut files);
    files
}

fn end(file: &mut String, files: &mut Vec<String>) {
    if !file.is_empty() {
        files.push(std::mem::take(file));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn dependency_files_are_read_with_their_escapes() {
        for (case, text, want) in [
            ("one line", "x.o: a.c b.h\n", vec!["a.c", "b.h"]),
            ("joined lines", "x.o: a.c \\\n  b.h \\\n /usr/include/c.h\n", vec!["a.c", "b.h", "/usr/include/c.h"]),
            ("a blank and a dollar", "x.o: a\\ b.c c$$d.h\n", vec!["a b.c", "c$d.h"]),
            ("a hash", "x.o: a\\#b.h\n", vec!["a#b.h"]),
            ("further rules", "x.o: a.c b.h\n\nb.h:\n", vec!["a.c", "b.h"]),
            ("nothing", "", vec![]),
        ] {
            assert_eq!(parse_dependencies(text), want, "{case}");
        }
    }
}
