//! Paths as texts: those of a watched build lie on no machine that is at hand, and are compared as they are spelt.

use std::path::{Component, Path, PathBuf};

/// The last name of a path.
pub(super) fn base_name(path: &str) -> &str {
    path.rsplit_once('/').map_or(path, |(_, name)| name)
}

/// The folder that a path lies in, empty for one that names none.
pub(super) fn folder_name(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// A name without its ending, and the ending without its dot.
pub(super) fn stem_and_ending(path: &str) -> (&str, &str) {
    let name = base_name(path);
    name.rsplit_once('.').unwrap_or((name, ""))
}

/// The rest of a path below a folder, if it lies there.
pub(super) fn below<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    path.strip_prefix(folder)?.strip_prefix('/')
}

/// A path spelt from the root, as whoever named it from a folder meant it.
pub(super) fn absolute(folder: &str, path: &str) -> String {
    let mut spelt = PathBuf::new();
    for part in Path::new(folder).join(path).components() {
        match part {
            Component::CurDir => {}
            Component::ParentDir => {
                spelt.pop();
            }
            other => spelt.push(other),
        }
    }
    spelt.to_string_lossy().into_owned()
}

/// The way from one folder to a place, with `/` between its steps.
pub(super) fn relative_to(from: &Path, to: &Path) -> String {
    let (mut a, mut b) = (from.components().peekable(), to.components().peekable());
    while a.peek().is_some() && a.peek() == b.peek() {
        a.next();
        b.next();
    }
    let mut steps: Vec<String> = a.map(|_| "..".to_string()).collect();
    steps.extend(b.map(|part| part.as_os_str().to_string_lossy().into_owned()));
    if steps.is_empty() { ".".into() } else { steps.join("/") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_spelt_from_the_root_and_from_each_other() {
        for (folder, path, want) in
            [("/a/b", "c.c", "/a/b/c.c"), ("/a/b", "../c.c", "/a/c.c"), ("/a", "./b/../c", "/a/c"), ("/a", "/x", "/x")]
        {
            assert_eq!(absolute(folder, path), want);
        }
        for (from, to, want) in
            [("/a/b", "/a/c/d", "../c/d"), ("/a", "/a/b", "b"), ("/a", "/a", "."), ("/a/b", "/", "../..")]
        {
            assert_eq!(relative_to(Path::new(from), Path::new(to)), want, "{from} to {to}");
        }
    }

    #[test]
    fn names_are_taken_apart() {
        assert_eq!((base_name("/a/b.tar.c"), folder_name("/a/b"), folder_name("b")), ("b.tar.c", "/a", ""));
        assert_eq!((stem_and_ending("/a/b.tar.c"), stem_and_ending("/a.d/b")), (("b.tar", "c"), ("b", "")));
        assert_eq!((below("/a/b/c", "/a/b"), below("/a/bc", "/a/b"), below("/a", "/a")), (Some("c"), None, None));
    }
}
