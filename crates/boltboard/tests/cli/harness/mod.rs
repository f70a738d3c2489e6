//! A scratch tree, and the program run on it in a sealed environment.

pub mod objects;
pub mod vouching;
pub mod web;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

/// A tree in a folder of its own, removed when dropped.
pub struct Scratch {
    folder: tempfile::TempDir,
}

/// What a run left behind.
#[derive(Debug)]
pub struct Ran {
    /// The exit code; -1 when a signal ended it.
    pub code: i32,
    /// Standard output, with the scratch folder written as `TREE`.
    pub out: String,
    /// Standard error, likewise.
    pub err: String,
}

/// Tries all cases beside each other; the first that fails is told, once all have ended.
pub fn at_once<T: Send>(cases: impl IntoIterator<Item = T>, each: impl Fn(T) + Sync) {
    std::thread::scope(|scope| {
        let tried: Vec<_> = cases.into_iter().map(|case| scope.spawn(|| each(case))).collect();
        for case in tried {
            if let Err(failed) = case.join() {
                std::panic::resume_unwind(failed);
            }
        }
    });
}

impl Ran {
    /// Checks the exit code; shows everything when it is another one.
    #[track_caller]
    pub fn code(self, want: i32) -> Ran {
        assert_eq!(self.code, want, "\nstdout:\n{}\nstderr:\n{}", self.out, self.err);
        self
    }

    /// Checks that standard output holds each of these.
    #[track_caller]
    pub fn says(self, texts: &[&str]) -> Ran {
        for text in texts {
            assert!(self.out.contains(text), "no {text:?} in stdout:\n{}\nstderr:\n{}", self.out, self.err);
        }
        self
    }

    /// How many steps a build ran, as its closing line says.
    pub fn ran(&self) -> usize {
        let steps = |part: &str| {
            let part = part.trim().trim_end_matches('.');
            let number = part.strip_suffix(" steps ran").or_else(|| part.strip_suffix(" step ran"));
            number.and_then(|number| number.parse().ok())
        };
        self.out.split(['\n', ':', ',', ';', '(']).find_map(steps).unwrap_or(0)
    }

    /// Checks how many steps a build ran.
    pub fn steps(self, want: usize) -> Ran {
        assert_eq!(self.ran(), want, "\n{}\n{}", self.out, self.err);
        self
    }

    /// Checks that standard error holds each of these.
    #[track_caller]
    pub fn complains(self, texts: &[&str]) -> Ran {
        for text in texts {
            assert!(self.err.contains(text), "no {text:?} in stderr:\n{}\nstdout:\n{}", self.err, self.out);
        }
        self
    }

    /// Reads standard output as JSON.
    #[track_caller]
    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|e| panic!("{e} in:\n{}", self.out))
    }
}

impl Scratch {
    /// Makes an empty folder.
    pub fn new() -> Scratch {
        Scratch { folder: tempfile::Builder::new().prefix("bolt").tempdir().expect("a scratch folder") }
    }

    /// Makes a folder in the memory of this machine; `None` where there is none to be had.
    pub fn in_memory() -> Option<Scratch> {
        Some(Scratch { folder: tempfile::Builder::new().prefix("bolt").tempdir_in("/dev/shm").ok()? })
    }

    /// Makes a tree of these files.
    pub fn with(files: &[(&str, &str)]) -> Scratch {
        let scratch = Scratch::new();
        files.iter().for_each(|(path, text)| scratch.write(path, text));
        scratch
    }

    /// Makes a copy of the demo tree.
    pub fn skerry() -> Scratch {
        let scratch = Scratch::new();
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/skerry"), scratch.path());
        scratch
    }

    /// Makes a copy of the demo tree in its later version.
    pub fn later_skerry() -> Scratch {
        let scratch = Scratch::skerry();
        copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/skerry-3.0"), scratch.path());
        scratch
    }

    /// Makes a copy of all files, with their times, in a folder of its own.
    pub fn copy(&self) -> Scratch {
        let other = Scratch::new();
        self.copy_to(&other);
        other
    }

    /// Copies all files, with their times, into another tree.
    pub fn copy_to(&self, other: &Scratch) {
        let all = format!("{}/.", self.path().display());
        let copied = Command::new("cp").arg("-a").arg(all).arg(other.path()).status();
        assert!(copied.expect("cp runs").success());
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn at(&self, path: &str) -> PathBuf {
        self.folder.path().join(path)
    }

    pub fn write(&self, path: &str, text: &str) {
        let path = self.at(path);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("the folder can be made");
        std::fs::write(&path, text).expect("the file can be written");
    }

    pub fn read(&self, path: &str) -> String {
        std::fs::read_to_string(self.at(path)).unwrap_or_else(|e| panic!("{path}: {e}"))
    }

    /// Replaces a text in a file; it must be there.
    #[track_caller]
    pub fn edit(&self, path: &str, old: &str, new: &str) {
        let text = self.read(path);
        assert!(text.contains(old), "{path} has no {old:?}");
        self.write(path, &text.replacen(old, new, 1));
    }

    /// Makes a shell script that can be run.
    pub fn script(&self, path: &str, text: &str) {
        self.write(path, &format!("#!/bin/sh\n{text}\n"));
        self.set_mode(path, 0o755);
    }

    /// Gives a file other permission bits.
    pub fn set_mode(&self, path: &str, mode: u32) {
        use std::os::unix::fs::PermissionsExt;
        std::fs::set_permissions(self.at(path), std::fs::Permissions::from_mode(mode)).expect("permissions");
    }

    /// Prepares the program with these words, in the tree's folder, with nothing of this environment but `PATH`.
    pub fn command(&self, words: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_boltboard"));
        command
            .args(words.split_whitespace())
            .current_dir(self.path())
            .env_clear()
            .env("PATH", std::env::var("PATH").unwrap_or_default())
            .env("COLUMNS", "120")
            .env("BOLTBOARD_RELEASE_FILE", concat!(env!("CARGO_MANIFEST_DIR"), "/tests/cli/harness/os-release"))
            .stdin(Stdio::null());
        command
    }

    /// Sets the time at which a file claims to have been changed.
    pub fn set_time(&self, file: &str, time: std::time::SystemTime) {
        let open = std::fs::File::options().append(true).open(self.at(file));
        open.and_then(|file| file.set_modified(time)).expect("time set");
    }

    /// Runs the program with these words.
    #[track_caller]
    pub fn run(&self, words: &str) -> Ran {
        self.ran(&mut self.command(words))
    }

    /// The same with a variable set; `TREE` in its value stands for this folder.
    #[track_caller]
    pub fn run_with(&self, words: &str, name: &str, value: &str) -> Ran {
        let value = value.replace("TREE", &self.path().display().to_string());
        self.ran(self.command(words).env(name, value))
    }

    /// Runs a prepared command.
    #[track_caller]
    pub fn ran(&self, command: &mut Command) -> Ran {
        let output = command.stdout(Stdio::piped()).stderr(Stdio::piped()).output().expect("the program starts");
        self.told(&output)
    }

    /// Takes what a process left behind. What it accepted, its schema accepts.
    #[track_caller]
    pub fn told(&self, output: &Output) -> Ran {
        if output.status.success() {
            crate::schema::accepts(self.path());
        }
        let real = self.path().canonicalize().unwrap_or_else(|_| self.path().to_path_buf());
        let text = |bytes: &[u8]| {
            let text = String::from_utf8_lossy(bytes).into_owned();
            text.replace(&real.display().to_string(), "TREE").replace(&self.path().display().to_string(), "TREE")
        };
        let ran =
            Ran { code: output.status.code().unwrap_or(-1), out: text(&output.stdout), err: text(&output.stderr) };
        // A warning shows a line of the file that `#line` names, which is beside the rules of what a text can see.
        let is_unexpected =
            |line: &&str| line.contains("did not expect this") && !line.contains("it looks for other.c");
        assert_eq!(ran.err.lines().find(is_unexpected), None, "something was not reckoned with");
        ran
    }

    /// Returns all files that a build made for its users, with their content.
    pub fn outputs(&self, profile: &str) -> Vec<(String, Vec<u8>)> {
        let root = self.at("boltboard-work/builds").join(profile);
        let mut files = Vec::new();
        for folder in ["parts", "out", "made", "objects"] {
            collect(&root.join(folder), &root, &mut files);
        }
        files.sort();
        files
    }

    /// Checks that the build in use equals, file by file, a clean one made elsewhere of the tree as it is now.
    #[track_caller]
    pub fn equals_clean(&self) {
        let clean = self.copy();
        for made in ["builds", "store"] {
            std::fs::remove_dir_all(clean.at("boltboard-work").join(made)).expect("removed");
        }
        clean.run("build").code(0);
        let (here, there) = (self.outputs("mine"), clean.outputs("mine"));
        let names = |files: &[(String, Vec<u8>)]| files.iter().map(|f| f.0.clone()).collect::<Vec<_>>();
        assert_eq!(names(&here), names(&there), "the same files");
        let different: Vec<&String> = here.iter().zip(&there).filter(|(a, b)| a.1 != b.1).map(|(a, _)| &a.0).collect();
        assert!(different.is_empty(), "{different:?} differ from a clean build");
    }

    /// Asks the compiler itself what each compile reads: by source and object, its flags but for macros, and its text after
    /// preprocessing.
    pub fn texts(&self) -> BTreeMap<(String, String), (Vec<String>, Vec<u8>)> {
        let answer = self.run("export compile-commands").code(0);
        let entries = answer.out.replace("TREE", &self.path().display().to_string());
        let entries: serde_json::Value = serde_json::from_str(&entries).expect("a compilation database");
        let of_entry = |entry: &serde_json::Value| {
            let text = |value: &serde_json::Value| value.as_str().unwrap_or_default().to_string();
            let object = text(&entry["output"]);
            let words: Vec<String> = entry["arguments"].as_array().expect("words").iter().map(text).collect();
            let is_flag = |word: &&String| !["-c", "-o", &object].contains(&word.as_str());
            let (program, flags) = words.split_first().expect("a compiler");
            let flags: Vec<String> = flags.iter().filter(is_flag).cloned().collect();
            let told = Command::new(program).args(&flags).arg("-E").current_dir(self.path()).output().expect("it runs");
            let flags = flags.into_iter().filter(|word| !word.starts_with("-D")).collect();
            ((text(&entry["file"]), object), (flags, told.stdout))
        };
        entries.as_array().expect("a list").iter().map(of_entry).collect()
    }

    /// Returns the steps that a preview lists under a verdict, as `verb source-or-name`.
    pub fn previewed(&self, verdict: &str) -> Vec<String> {
        let answer = self.run("preview --json").code(0).json();
        let steps = answer["steps"].as_array().expect("steps");
        let named = |step: &serde_json::Value| {
            let subject = step["source"].as_str().or(step["step"].as_str()).unwrap_or_default();
            format!("{} {subject}", step["does"].as_str().unwrap_or_default())
        };
        steps.iter().filter(|s| s["verdict"] == verdict).map(named).collect()
    }
}

pub fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("the demo tree").filter_map(Result::ok) {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            if entry.file_name() != "boltboard-work" {
                copy(&entry.path(), &target);
            }
        } else {
            std::fs::copy(entry.path(), &target).expect("copied");
        }
    }
}

fn collect(folder: &Path, root: &Path, files: &mut Vec<(String, Vec<u8>)>) {
    let Ok(entries) = std::fs::read_dir(folder) else { return };
    for path in entries.filter_map(Result::ok).map(|e| e.path()) {
        let name = path.strip_prefix(root).expect("below the root").display().to_string();
        if path.is_symlink() {
            let target = std::fs::read_link(&path).expect("a link");
            files.push((name, target.display().to_string().into_bytes()));
        } else if path.is_dir() {
            collect(&path, root, files);
        } else {
            files.push((name, std::fs::read(&path).expect("readable")));
        }
    }
}

/// A small tree: three C files, a library, four options, a module, a generator.
pub const MINI: &[(&str, &str)] = &[
    ("boltboard.toml", include_str!("mini/boltboard.toml")),
    ("src/main.c", include_str!("mini/main.c")),
    ("src/horn.c", include_str!("mini/horn.c")),
    ("src/depth.c", include_str!("mini/depth.c")),
    ("src/mini.h", include_str!("mini/mini.h")),
    ("tools/names.sh", include_str!("mini/names.sh")),
];

/// The search path of the tests themselves.
pub fn usual_path() -> String {
    std::env::var("PATH").expect("a path")
}
