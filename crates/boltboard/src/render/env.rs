//! What shells read so that they find what is installed.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use boltboard_core::install::{Manifest, SearchVariable};
use serde::Serialize;

use crate::commands::env::Shell;

type Paths = BTreeMap<SearchVariable, Vec<PathBuf>>;

/// The answer as JSON.
#[derive(Debug, Serialize)]
#[serde(rename_all = "kebab-case")]
pub struct EnvTold {
    format: u32,
    tree: String,
    version: String,
    prefix: PathBuf,
    /// Variables, with the folders that come first in each.
    variables: BTreeMap<String, Vec<PathBuf>>,
}

impl EnvTold {
    /// Puts the answer together.
    pub fn of(manifest: &Manifest, prefix: &Path, paths: &Paths) -> EnvTold {
        EnvTold {
            format: 1,
            tree: manifest.tree.clone(),
            version: manifest.version.clone(),
            prefix: prefix.to_path_buf(),
            variables: paths.iter().map(|(name, folders)| (name.name().to_string(), folders.clone())).collect(),
        }
    }
}

/// Writes what a shell reads. Reading it twice adds nothing; what takes it back takes out just these folders.
pub fn script(manifest: &Manifest, paths: &Paths, shell: Shell, undo: bool) -> String {
    let what = if undo { "No longer finds" } else { "Finds" };
    let mut text = match shell {
        Shell::Module => format!(
            "#%Module1.0\nmodule-whatis {}\nconflict {}\n",
            tcl_word(&format!("{} {}, profile {}", manifest.tree, manifest.version, manifest.profile)),
            tcl_word(&manifest.tree)
        ),
        Shell::Posix | Shell::Fish | Shell::Csh => format!("# {what} {} {}.\n", manifest.tree, manifest.version),
    };
    for (variable, folders) in paths {
        // The last one that is put in front comes first.
        for folder in folders.iter().rev() {
            text += &line(variable.name(), &folder.display().to_string(), shell, undo);
        }
    }
    text
}

fn line(name: &str, folder: &str, shell: Shell, undo: bool) -> String {
    match (shell, undo) {
        // A module file is taken back by whoever loaded it.
        (Shell::Module, _) => format!("prepend-path {name} {}\n", tcl_word(folder)),
        (Shell::Posix, false) => {
            let word = quoted(folder);
            // An empty part of MANPATH stands for the system's own manuals.
            let end = if name == "MANPATH" { ":" } else { "" };
            format!(
                "case \":${{{name}-}}:\" in *:{word}:*) ;; *) {name}={word}\"${{{name}:+:${name}}}\"{rest}; export {name} ;; esac\n",
                rest = if end.is_empty() {
                    String::new()
                } else {
                    format!("; case ${name} in *:*) ;; *) {name}=${name}: ;; esac")
                },
            )
        }
        (Shell::Posix, true) => {
            let word = quoted(folder);
            format!(
                "while case \":${{{name}-}}:\" in *:{word}:*) true ;; *) false ;; esac; do {name}=\":${name}:\"; {name}=\"${{{name}%%:{word}:*}}:${{{name}#*:{word}:}}\"; {name}=\"${{{name}#:}}\"; {name}=\"${{{name}%:}}\"; done\n"
            )
        }
        (Shell::Fish, false) => {
            let word = fish_word(folder);
            format!(
                "contains -- {word} ${name}; or set -gx {name} {word} ${name}{}\n",
                if name == "MANPATH" { "; contains -- '' $MANPATH; or set -gx MANPATH $MANPATH ''" } else { "" }
            )
        }
        (Shell::Fish, true) => {
            let word = fish_word(folder);
            format!("while set -l at (contains -i -- {word} ${name}); set -e {name}[$at]; end\n")
        }
        (Shell::Csh, false) => {
            let word = csh_word(folder);
            let end = if name == "MANPATH" { ":" } else { "" };
            format!(
                "if ( ! $?{name} ) setenv {name} {word}\"{end}\"\nif ( \":${{{name}}}:\" !~ *:{word}:* ) setenv {name} {word}\":${{{name}}}\"\n"
            )
        }
        (Shell::Csh, true) => {
            let pattern = folder.replace('|', "\\|");
            format!(
                "if ( $?{name} ) setenv {name} `printf '%s' \":${{{name}}}:\" | sed -e {} -e 's|^:||' -e 's|:$||'`\n",
                csh_word(&format!("s|:{}:|:|g", sed_text(&pattern)))
            )
        }
    }
}

/// A text as sed takes it literally.
fn sed_text(text: &str) -> String {
    let special = |c: char| if "\\.*[]^$/&".contains(c) { format!("\\{c}") } else { c.to_string() };
    text.chars().map(special).collect()
}

fn quoted(text: &str) -> String {
    // A pattern in quotes stands for itself.
    if text.chars().all(|c| c.is_ascii_alphanumeric() || "/._-+".contains(c)) {
        text.to_string()
    } else {
        format!("'{}'", text.replace('\'', "'\\''"))
    }
}

fn fish_word(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"))
}

fn csh_word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''").replace('!', "\\!"))
}

fn tcl_word(text: &str) -> String {
    let special = |c: char| if "\\{}[]$\"; ".contains(c) { format!("\\{c}") } else { c.to_string() };
    text.chars().map(special).collect()
}
