//! Reading installed metadata files (`.pc`): version and flags of a library.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// The largest file that is read, in bytes.
const MAX_FILE: u64 = 1024 * 1024;
/// How long a text may become when its variables are filled in.
const MAX_TEXT: usize = 64 * 1024;
/// How deep libraries may require each other.
const MAX_DEPTH: usize = 32;

/// What a library says of itself, with what it requires joined in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Metadata {
    /// The file.
    pub file: PathBuf,
    /// The version.
    pub version: String,
    /// Flags for compiles.
    pub compile_flags: Vec<String>,
    /// Flags for links.
    pub link_flags: Vec<String>,
}

/// Why metadata cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MetadataFault {
    /// No folder has a file of that name.
    #[error("no {0}.pc")]
    Absent(String),
    /// The file cannot be read.
    #[error("cannot read {file}: {reason}")]
    Unreadable {
        /// The file.
        file: String,
        /// What is wrong.
        reason: String,
    },
    /// It requires a library that is not there.
    #[error("{by}.pc requires {name}, and there is no {name}.pc")]
    RequiredAbsent {
        /// What requires it.
        by: String,
        /// What is not there.
        name: String,
    },
    /// Libraries require each other in a ring, or too deep.
    #[error("{0}.pc leads back to itself or nests too deep")]
    Ring(String),
}

impl Metadata {
    /// Reads a library's metadata and that of what it requires.
    ///
    /// # Errors
    /// See [`MetadataFault`].
    pub fn read(name: &str, folders: &[PathBuf]) -> Result<Metadata, MetadataFault> {
        read_at(name, folders, &mut Vec::new())
    }
}

fn read_at(name: &str, folders: &[PathBuf], open: &mut Vec<String>) -> Result<Metadata, MetadataFault> {
    if open.iter().any(|n| n == name) || open.len() > MAX_DEPTH {
        return Err(MetadataFault::Ring(name.into()));
    }
    let found = folders.iter().map(|folder| folder.join(format!("{name}.pc"))).find(|path| path.is_file());
    let Some(file) = found else {
        return Err(match open.last() {
            Some(by) => MetadataFault::RequiredAbsent { by: by.clone(), name: name.into() },
            None => MetadataFault::Absent(name.into()),
        });
    };
    let fields = fields(&file)?;
    let field = |key: &str| fields.get(key).map_or("", String::as_str);
    let mut metadata = Metadata {
        version: field("Version").to_string(),
        compile_flags: words(field("Cflags")),
        link_flags: words(field("Libs")),
        file,
    };
    open.push(name.into());
    for required in required_names(field("Requires")) {
        let below = read_at(&required, folders, open)?;
        metadata.compile_flags.extend(below.compile_flags);
        metadata.link_flags.extend(below.link_flags);
    }
    open.pop();
    Ok(metadata)
}

fn fields(file: &Path) -> Result<BTreeMap<String, String>, MetadataFault> {
    let unreadable = |reason: String| MetadataFault::Unreadable { file: file.display().to_string(), reason };
    let status = std::fs::metadata(file).map_err(|e| unreadable(e.to_string()))?;
    if status.len() > MAX_FILE {
        return Err(unreadable("it is larger than 1 MiB".into()));
    }
    let text = std::fs::read_to_string(file).map_err(|e| unreadable(e.to_string()))?;
    let folder = file.parent().unwrap_or(Path::new("/"));
    let mut variables: BTreeMap<String, String> = BTreeMap::new();
    variables.insert("pcfiledir".into(), folder.display().to_string());
    let mut fields = BTreeMap::new();
    for line in text.replace("\\\n", " ").lines() {
        let line = line.split('#').next().unwrap_or("").trim();
        let Some(at) = line.find(['=', ':']) else { continue };
        let (key, value) = (line[..at].trim().to_string(), line[at + 1..].trim());
        let value = filled(value, &variables).map_err(unreadable)?;
        if line[at..].starts_with('=') {
            variables.insert(key, value);
        } else {
            fields.insert(key, value);
        }
    }
    Ok(fields)
}

/// Fills in `${name}`. Variables hold filled-in text already, so no text can refer to itself.
fn filled(text: &str, variables: &BTreeMap<String, String>) -> Result<String, String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some(start) = rest.find("${") {
        out.push_str(&rest[..start]);
        let end = rest[start..].find('}').ok_or("a `${` is never closed")?;
        let name = &rest[start + 2..start + end];
        out.push_str(variables.get(name).ok_or_else(|| format!("the variable `{name}` is not set"))?);
        rest = &rest[start + end + 1..];
        if out.len() > MAX_TEXT {
            return Err("its variables grow beyond all bounds".into());
        }
    }
    out.push_str(rest);
    Ok(out)
}

fn words(text: &str) -> Vec<String> {
    text.split_whitespace().map(str::to_string).collect()
}

/// Names in a `Requires` list; limits on their versions are left to the next look at them.
fn required_names(text: &str) -> Vec<String> {
    let mut names = Vec::new();
    let mut words = text.split([' ', '\t', ',']).filter(|w| !w.is_empty());
    while let Some(word) = words.next() {
        if word.starts_with(['<', '>', '=', '!']) {
            words.next();
        } else {
            names.push(word.to_string());
        }
    }
    names
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder(files: &[(&str, &str)]) -> (tempfile::TempDir, Vec<PathBuf>) {
        let folder = tempfile::tempdir().unwrap();
        for (name, text) in files {
            std::fs::write(folder.path().join(name), text).unwrap();
        }
        let folders = vec![folder.path().to_path_buf()];
        (folder, folders)
    }

    #[test]
    fn joins_variables_and_required_libraries() {
        let (_keep, folders) = folder(&[
            (
                "top.pc",
                "prefix=/opt/t\nlib=${prefix}/lib\nVersion: 1.4\nRequires: low >= 2, \nLibs: -L${lib} -ltop\nCflags: -I${prefix}/include # a note\n",
            ),
            ("low.pc", "Version: 2.0\nLibs: -llow\n"),
        ]);
        let top = Metadata::read("top", &folders).unwrap();
        assert_eq!(top.version, "1.4");
        assert_eq!(top.link_flags, ["-L/opt/t/lib", "-ltop", "-llow"]);
        assert_eq!(top.compile_flags, ["-I/opt/t/include"]);
    }

    #[test]
    fn bad_files_are_named_not_followed() {
        let double: String = (0..40).map(|n| format!("v{}=${{v{n}}}${{v{n}}}\n", n + 1)).collect();
        let (_keep, folders) = folder(&[
            ("ring-a.pc", "Version: 1\nRequires: ring-b\n"),
            ("ring-b.pc", "Version: 1\nRequires: ring-a\n"),
            ("lost.pc", "Version: 1\nRequires: nowhere\n"),
            ("unset.pc", "Libs: -L${nothing}\n"),
            ("bomb.pc", &format!("v0=xxxxxxxxxx\n{double}Libs: ${{v40}}\n")),
        ]);
        for (name, want) in [
            ("absent", "no absent.pc"),
            ("ring-a", "ring-a.pc leads back"),
            ("lost", "lost.pc requires nowhere"),
            ("unset", "the variable `nothing` is not set"),
            ("bomb", "grow beyond all bounds"),
        ] {
            let fault = Metadata::read(name, &folders).expect_err(name).to_string();
            assert!(fault.contains(want), "{name}: {fault}");
        }
    }
}
