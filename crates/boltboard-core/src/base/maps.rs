//! The files that a process has in memory, as the kernel lists them in `/proc/NUMBER/maps`.

/// A file in memory.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MappedFile<'t> {
    /// Where in memory, as the kernel writes it.
    pub range: &'t str,
    /// The file, by the name that it had.
    pub path: &'t str,
    /// Whether that name is another file's by now, or nobody's.
    pub is_gone: bool,
    /// Whether it is code there.
    pub is_code: bool,
}

/// Reads the list; what is no file is left out.
pub fn mapped_files(maps: &str) -> impl Iterator<Item = MappedFile<'_>> {
    maps.lines().filter_map(|line| {
        let (range, rest) = line.split_once(' ')?;
        let named = &rest[rest.find('/')?..];
        let gone = named.strip_suffix(" (deleted)");
        let path = gone.unwrap_or(named);
        Some(MappedFile { range, path, is_gone: gone.is_some(), is_code: rest.starts_with("r-x") })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_told_from_other_memory() {
        let maps = "5-6 r--p 0 08:01 5 /usr/bin/a b\n7-8 r-xp 0 08:01 6 /usr/lib/x.so (deleted)\n9-a rw-p 0 00:00 0 [heap]\nb-c rw-p 0 00:00 0\n\n";
        let found: Vec<_> = mapped_files(maps).map(|one| (one.range, one.path, one.is_gone, one.is_code)).collect();
        assert_eq!(found, [("5-6", "/usr/bin/a b", false, false), ("7-8", "/usr/lib/x.so", true, true)]);
    }
}
