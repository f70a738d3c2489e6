//! A made-up tree like a kernel's: many folders, each with a list, options of its own, and sources that are a few lines long.

use std::fmt::Write as _;
use std::path::Path;

use boltboard_core::base::files::write_whole;

/// How large it is.
#[derive(Debug, Clone, Copy)]
pub struct Size {
    /// Folders with a list.
    pub folders: usize,
    /// Options, spread over the folders; half of them are modules.
    pub options: usize,
    /// Sources, likewise.
    pub sources: usize,
}

/// Folders in each folder above the last level.
const SPREAD: usize = 16;

const ROOT: &str = r#"format = 1
[tree]
name = "skerry-kernel"
version = "1"
more = ["**/boltboard.toml"]
[toolchain]
flags = ["-O0", "-ffreestanding", "-fno-pic"]
[header.config]
output = "generated/config.h"
prefix = "CONFIG_"
modules = { builtin = "*", loadable = "*_MODULE" }
[part.kernel]
kind = "program"
sources = ["start.c"]
lists = ["f0"]
link-flags = ["-nostdlib", "-static", "-no-pie"]
[part.kernel.modules]
form = "partial"
output = "modules/{folder}/{module}.ko"
flags = ["-DMODULE"]
"#;

/// Writes the tree into an empty folder.
///
/// # Errors
/// A file cannot be written.
pub fn write(root: &Path, size: Size) -> Result<(), Box<dyn std::error::Error>> {
    write_whole(&root.join("boltboard.toml"), ROOT.as_bytes())?;
    write_whole(&root.join("start.c"), b"void _start(void) { for (;;) ; }\n")?;
    let mut option = 0;
    let mut source = 0;
    for folder in 0..size.folders {
        let path = path_of(folder);
        let last = size.options * (folder + 1) / size.folders;
        let own: Vec<usize> = (option..last).collect();
        let (mut options, mut list) = (String::from("[option]\n"), String::new());
        let sources = size.sources * (folder + 1) / size.folders - source;
        for (at, number) in own.iter().enumerate() {
            let kind = if number % 2 == 0 { "module" } else { "switch" };
            let default = if kind == "switch" { "on" } else { ["off", "loadable", "builtin"][number / 2 % 3] };
            let requires = number.checked_sub(7).filter(|before| *before > 0 && kind == "switch").map_or(
                String::new(),
                |before| {
                    let other = before - (1 - before % 2);
                    format!(", requires = \"opt-{other}\"")
                },
            );
            writeln!(
                options,
                "opt-{number} = {{ kind = \"{kind}\", default = \"{default}\", summary = \"What unit {number} of folder {folder} does\"{requires} }}"
            )?;
            let share = sources * (at + 1) / own.len() - sources * at / own.len();
            let names: Vec<String> = (0..share).map(|file| format!("u{number}_{file}.c")).collect();
            for name in &names {
                let text = format!(
                    "#include <generated/config.h>\n#ifdef CONFIG_OPT_{number}\nint {}(void) {{ return {number}; }}\n#endif\nint {0}_there;\n",
                    name.trim_end_matches(".c")
                );
                write_whole(&root.join(&path).join(name), text.as_bytes())?;
            }
            let files: Vec<String> = names.iter().map(|name| format!("\"{name}\"")).collect();
            if !files.is_empty() {
                writeln!(list, "opt-{number} = [{}]", files.join(", "))?;
            }
        }
        let below: Vec<String> = (folder * SPREAD + 1..=folder * SPREAD + SPREAD)
            .filter(|child| *child < size.folders)
            .map(|child| format!("\"f{child}/\""))
            .collect();
        let always = format!("[list]\nalways = [{}]\n", below.join(", "));
        write_whole(&root.join(&path).join("boltboard.toml"), format!("{options}{always}{list}").as_bytes())?;
        option = last;
        source += sources;
    }
    Ok(())
}

/// Where a folder lies: each holds those that come next.
fn path_of(folder: usize) -> String {
    if folder == 0 { "f0".into() } else { format!("{}/f{folder}", path_of((folder - 1) / SPREAD)) }
}
