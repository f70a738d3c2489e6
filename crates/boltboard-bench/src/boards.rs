//! Boards in the likeness of a kernel's: thousands of folders nested eight deep, a switch that opens each folder, long
//! chains of requirements, some choices of several, conflicts, picks, and a few options that thousands of others want.

use std::fmt::Write;
use std::path::{Path, PathBuf};

use fastrand::Rng;

/// How many options a folder defines.
const PER_FOLDER: usize = 10;
/// How deep folders nest.
const DEEPEST: usize = 8;
/// How many options are wanted from everywhere.
const HUBS: usize = 24;
/// How many needs there are.
const NEEDS: usize = 40;

const SUBJECTS: [&str; 32] = [
    "lamp", "lens", "horn", "bell", "siren", "radar", "sonar", "tide", "wave", "wind", "frost", "mast", "buoy",
    "cable", "relay", "pump", "valve", "motor", "clock", "chart", "log", "radio", "beacon", "flare", "hoist", "winch",
    "rudder", "anchor", "pilot", "harbour", "channel", "reef",
];
const SORTS: [&str; 24] = [
    "driver", "filter", "cache", "queue", "meter", "store", "bridge", "monitor", "codec", "guard", "probe", "router",
    "timer", "buffer", "switch", "stream", "parser", "mirror", "signal", "sampler", "gauge", "engine", "trace", "link",
];

/// One folder with its options.
struct Folder {
    path: PathBuf,
    depth: usize,
    opens: String,
}

/// Writes a board of `count` options below `root`; the same seed makes the same files. Returns the board files.
///
/// # Errors
/// A file cannot be written.
pub fn write_board(root: &Path, count: usize, seed: u64) -> std::io::Result<Vec<PathBuf>> {
    let mut made = Maker { rng: Rng::with_seed(seed), switches: Vec::new(), values: Vec::new(), number: 0 };
    let mut folders: Vec<Folder> = Vec::new();
    let mut files = Vec::new();
    std::fs::create_dir_all(root)?;
    let mut text = String::from(
        "format = 1\n\n[tree]\nname = \"kernel\"\nversion = \"1.0\"\nsummary = \"a made-up kernel\"\nmore = [\"**/boltboard.toml\"]\n\n\
         [header.options]\noutput = \"kernel/options.h\"\nguard = \"KERNEL_OPTIONS_H\"\nprefix = \"KN_\"\n\n",
    );
    for need in 0..NEEDS {
        // Most hosts have most needs; every eighth is lacking.
        let file = if need % 8 == 7 { format!("/nowhere/kernel-{need}.h") } else { "/etc/passwd".to_string() };
        let _ =
            write!(text, "[need.host-{need}]\nsummary = \"what drives number {need} stand on\"\nfile = \"{file}\"\n");
        let _ = write!(text, "packages = {{ debian = \"libhost{need}-dev\" }}\n\n");
    }
    for (hub, sort) in SORTS.iter().take(HUBS).enumerate() {
        let name = format!("core-{sort}");
        let _ = write!(text, "[option.{name}]\nkind = \"switch\"\nsummary = \"The {sort} of the core\"\n");
        text.push_str(if hub % 3 == 0 { "default = \"on\"\n\n" } else { "\n" });
        made.switches.push(name);
    }
    let file = root.join("boltboard.toml");
    std::fs::write(&file, text)?;
    files.push(file);
    let folder_count = count.saturating_sub(HUBS).div_ceil(PER_FOLDER);
    for index in 0..folder_count {
        let left = (count - HUBS - index * PER_FOLDER).min(PER_FOLDER);
        let parent = made.rng.usize(0..=folders.len());
        let parent = folders.get(parent).filter(|parent| parent.depth < DEEPEST);
        let name = format!("{}{index}", SUBJECTS[made.rng.usize(0..SUBJECTS.len())]);
        let (path, depth) = match parent {
            Some(parent) => (parent.path.join(&name), parent.depth + 1),
            None => (root.join(&name), 1),
        };
        let opens = format!("{name}-support");
        let text = made.folder(&name, &opens, parent.map(|parent| parent.opens.as_str()), left);
        std::fs::create_dir_all(&path)?;
        let file = path.join("boltboard.toml");
        std::fs::write(&file, text)?;
        files.push(file);
        folders.push(Folder { path, depth, opens });
    }
    Ok(files)
}

struct Maker {
    rng: Rng,
    /// Switches and modules so far; only these are required, so nothing leads back.
    switches: Vec<String>,
    /// Numbers so far.
    values: Vec<String>,
    number: usize,
}

impl Maker {
    fn folder(&mut self, name: &str, opens: &str, parent: Option<&str>, options: usize) -> String {
        let mut text = format!("default-section = \"{name}\"\n\n[section.{name}]\ntitle = \"The {name}\"\n");
        if let Some(parent) = parent {
            let _ = writeln!(text, "in = \"{}\"", parent.trim_end_matches("-support"));
        }
        let _ = write!(text, "\n[option.{opens}]\nkind = \"switch\"\nsummary = \"Everything about the {name}\"\n");
        if let Some(parent) = parent {
            let _ = writeln!(text, "requires = \"{parent}\"");
        }
        text.push_str("default = \"on\"\n");
        let first = self.switches.len();
        for _ in 1..options {
            self.option(&mut text, name, opens, first);
        }
        self.switches.push(opens.to_string());
        text
    }

    fn option(&mut self, text: &mut String, folder: &str, opens: &str, first: usize) {
        self.number += 1;
        let sort = SORTS[self.rng.usize(0..SORTS.len())];
        let name = format!("{folder}-{sort}-{}", self.number);
        let subject = SUBJECTS[self.rng.usize(0..SUBJECTS.len())];
        let _ = write!(text, "\n[option.{name}]\nsummary = \"The {subject} {sort} of the {folder}\"\n");
        if self.rng.usize(0..10) < 6 {
            let _ = writeln!(
                text,
                "help = \"\"\"\nDrives the {subject} {sort} that stands in the {folder}. Say yes when your station has one;\n\
                 nothing else looks at it unless a {sort} is asked for by name.\n\"\"\""
            );
        }
        let level = self.rng.usize(0..10);
        if level > 3 {
            let _ = writeln!(text, "level = \"{}\"", if level > 6 { "expert" } else { "tuning" });
        }
        match self.rng.usize(0..100) {
            0..80 => self.switch(text, &name, opens, first),
            80..90 => {
                let _ = write!(text, "kind = \"number\"\nrange = [0, 4096]\ndefault = {}\n", self.rng.usize(0..64));
                let _ = writeln!(text, "requires = \"{opens}\"");
                self.values.push(name);
            }
            90..95 => {
                let other = self.earlier(first);
                let _ = write!(
                    text,
                    "kind = \"pick\"\nvalues = [\"plain\", {{ name = \"fast\", requires = \"{other}\" }}, \"small\"]\n"
                );
                let _ = writeln!(text, "requires = \"{opens}\"");
            }
            95..98 => {
                let _ = write!(text, "kind = \"size\"\nrange = [\"4KiB\", \"16MiB\"]\ndefault = \"64KiB\"\n");
            }
            _ => {
                let _ = write!(text, "kind = \"text\"\ndefault = \"{subject}\"\n");
            }
        }
    }

    fn switch(&mut self, text: &mut String, name: &str, opens: &str, first: usize) {
        let module = self.rng.usize(0..100) < 60;
        let _ = writeln!(text, "kind = \"{}\"", if module { "module" } else { "switch" });
        let mut required = vec![opens.to_string()];
        for _ in 0..self.rng.usize(0..4) {
            required.push(if self.rng.usize(0..3) == 0 { self.hub() } else { self.earlier(first) });
        }
        match self.rng.usize(0..100) {
            0..8 => required.push(format!("({} or {})", self.earlier(first), self.earlier(first))),
            8..12 => required.push(format!("not {}", self.earlier(first))),
            12..16 if !self.values.is_empty() => {
                let value = &self.values[self.rng.usize(0..self.values.len())];
                required.push(format!("{value} >= {}", self.rng.usize(1..32)));
            }
            _ => {}
        }
        let _ = writeln!(text, "requires = \"{}\"", required.join(" and "));
        if self.rng.usize(0..100) < 2 {
            let _ = writeln!(text, "conflicts = \"{}\"", self.earlier(first));
        }
        if self.rng.usize(0..100) < 3 {
            let _ = writeln!(text, "needs = \"host-{}\"", self.rng.usize(0..NEEDS));
        }
        let on = if module { "loadable" } else { "on" };
        match self.rng.usize(0..100) {
            0..30 => {
                let _ = writeln!(text, "default = \"{on}\"");
            }
            30..38 => {
                let when = self.hub();
                let _ = writeln!(text, "default = [{{ when = \"{when}\", value = \"{on}\" }}]");
            }
            _ => {}
        }
        self.switches.push(name.to_string());
    }

    fn hub(&mut self) -> String {
        // Few of the few are wanted by most.
        let (a, b) = (self.rng.usize(0..HUBS), self.rng.usize(0..HUBS));
        self.switches[a.min(b)].clone()
    }

    /// Mostly one of the neighbours, now and then one from far away.
    fn earlier(&mut self, first: usize) -> String {
        let near = self.rng.usize(0..4) > 0 && first < self.switches.len();
        let from = if near { first } else { 0 };
        self.switches[self.rng.usize(from..self.switches.len())].clone()
    }
}
