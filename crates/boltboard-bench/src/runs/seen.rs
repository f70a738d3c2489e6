//! Does what we say that a text can see hold all that a compiler looks at? For each C and C++ file of a folder, and for C that is made
//! to be nasty, the compiler lists the macros that it expands or tests (`-E -dU`); each of them must be among the names that we find.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench seen [FOLDER [FLAGS…]]`; without a folder only the nasty C is read.

use std::error::Error;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;

use boltboard_core::base::parse_dependencies;
use boltboard_core::reading::{Dialects, NameIndex, Standard, Tokens, Usage};

/// How many texts are made for each standard.
const ROUNDS: usize = 300;
/// How many that are missing are shown.
const SHOWN: usize = 20;

#[derive(Default)]
struct Tally {
    files: usize,
    refused: usize,
    names: usize,
    missing: Vec<String>,
}

pub fn measured(words: &[String]) -> Result<(), Box<dyn Error>> {
    let mut arguments = words.iter().cloned();
    let folder = arguments.next().map(PathBuf::from);
    let flags: Vec<String> = arguments.collect();
    if let Some(folder) = &folder {
        let mut files = Vec::new();
        sources(folder, &mut files);
        let mut tally = Tally::default();
        for file in &files {
            hold(file, folder, &flags, &mut tally)?;
        }
        tell(&folder.display().to_string(), &tally);
    }
    let scratch = tempfile::tempdir()?;
    let mut random = fastrand::Rng::with_seed(7);
    for standard in ["c90", "gnu90", "c99", "gnu11", "c2x", "gnu2x"] {
        let mut tally = Tally::default();
        for _ in 0..ROUNDS {
            let file = scratch.path().join("nasty.c");
            std::fs::write(&file, nasty(&mut random))?;
            std::fs::write(scratch.path().join("own.h"), nasty_header(&mut random))?;
            let flags = [format!("-std={standard}"), "-DVALUE=OPT_A".into(), "-DPIECE=OPT_".into(), "-fopenmp".into()];
            hold(&file, scratch.path(), &flags, &mut tally)?;
        }
        tell(&format!("nasty C, -std={standard}"), &tally);
    }
    Ok(())
}

fn tell(what: &str, tally: &Tally) {
    let Tally { files, refused, names, missing } = tally;
    println!(
        "{what}: {files} files, {refused} that the compiler refuses, {names} names looked at, {} missing",
        missing.len()
    );
    missing.iter().take(SHOWN).for_each(|name| println!("  missing {name}"));
}

fn sources(folder: &Path, files: &mut Vec<PathBuf>) {
    let mut entries: Vec<PathBuf> =
        std::fs::read_dir(folder).into_iter().flatten().filter_map(|entry| Some(entry.ok()?.path())).collect();
    entries.sort();
    for path in entries {
        if path.is_dir() && !path.is_symlink() {
            sources(&path, files);
        } else if path.extension().is_some_and(|ending| ["c", "cc", "cpp", "cxx"].iter().any(|known| ending == *known))
        {
            files.push(path);
        }
    }
}

/// Holds what we say against what the compiler says.
fn hold(file: &Path, folder: &Path, flags: &[String], tally: &mut Tally) -> Result<(), Box<dyn Error>> {
    let cxx = file.extension().is_some_and(|ending| ending != "c");
    let list = tempfile::NamedTempFile::new()?;
    let ran = Command::new(if cxx { "g++" } else { "gcc" })
        .args(flags)
        .args(["-E", "-dU", "-w", "-fno-canonical-system-headers", "-MD", "-MT", "x", "-MF"])
        .arg(list.path())
        .arg(file)
        .current_dir(folder)
        .output()?;
    tally.files += 1;
    if !ran.status.success() {
        tally.refused += 1;
        return Ok(());
    }
    let text = String::from_utf8_lossy(&ran.stdout).into_owned();
    let looked_at =
        text.lines().filter_map(|line| line.strip_prefix("#define ").or_else(|| line.strip_prefix("#undef ")));
    let names: std::collections::BTreeSet<&str> =
        looked_at.filter_map(|rest| rest.split([' ', '(']).next()).filter(|name| !name.is_empty()).collect();
    // What only the compiler defines carries no option.
    let own = predefined(cxx, flags)?;
    let names: std::collections::BTreeSet<&str> = names.into_iter().filter(|name| !own.contains(*name)).collect();
    let dialects = dialects(flags, cxx);
    let mut usage = Usage::default();
    for read in parse_dependencies(&std::fs::read(list.path())?).files {
        let bytes = std::fs::read(folder.join(read))?;
        usage.add(Arc::new(Tokens::of(&bytes, &dialects)));
    }
    for flag in flags {
        usage.add(Arc::new(Tokens::of(flag.strip_prefix("-D").unwrap_or(flag).as_bytes(), &dialects)));
    }
    let index = NameIndex::of(names.iter().copied());
    let seen = usage.seen(&index);
    tally.names += names.len();
    tally
        .missing
        .extend(names.iter().filter(|name| !seen.contains(**name)).map(|name| format!("{name} in {}", file.display())));
    Ok(())
}

/// The macros that the compiler defines by itself.
fn predefined(cxx: bool, flags: &[String]) -> Result<std::collections::BTreeSet<String>, Box<dyn Error>> {
    let standards = flags.iter().filter(|flag| flag.starts_with("-std=") || flag.starts_with("-f"));
    let (program, language) = if cxx { ("g++", "c++") } else { ("gcc", "c") };
    let ran = Command::new(program).args(standards).args(["-E", "-dM", "-x", language, "/dev/null"]).output()?;
    let text = String::from_utf8_lossy(&ran.stdout).into_owned();
    let names = text.lines().filter_map(|line| line.strip_prefix("#define ")?.split([' ', '(']).next());
    Ok(names.map(str::to_string).collect())
}

fn dialects(flags: &[String], cxx: bool) -> Dialects {
    let named = flags.iter().rev().find_map(|flag| Standard::named(flag.strip_prefix("-std=")?));
    let own = if cxx { Standard::Cxx17 } else { Standard::C99 { extended: true } };
    Dialects::of(&[named.unwrap_or(own)])
}

/// One of some texts.
fn one<'t>(random: &mut fastrand::Rng, texts: &[&'t str]) -> &'t str {
    texts[random.usize(..texts.len())]
}

/// A text in which macros are named in ways that are easily overlooked.
fn nasty(random: &mut fastrand::Rng) -> String {
    const LINES: [&str; 26] = [
        "#include \"own.h\"\n",
        "#define CAT_(a, b) a##b\n#define CAT(a, b) CAT_(a, b)\n",
        "??=define TRI(a, b) a ??=??= b\n",
        "%:define DIG(a, b) a %:%: b\n",
        "int a@ = CAT(OPT_, A);\n",
        "int b@ = CAT(PIECE, B);\n",
        "int c@ = VALUE;\n",
        "int d@ = OPT\\\n_A;\n",
        "int e@ = OPT\\ \n_B;\n",
        "int f@ = 4 //* */ OPT_A\n;\n",
        "const char *g@ = R\"x(\" \"b\"; int x@ = OPT_B; const char *z@ = \")x\";\n",
        "int h@ = 1'000 + OPT_A; int i@ = 1'0;\n",
        "// a comment ??/\nOPT_C\n",
        "/* a comment *\\\n/ OPT_D /* */\n",
        "#if defined OPT_A && OPT_B\n#elif CAT(OPT_, C)\n#endif\n",
        "#ifdef OPT_D\n#endif\n#ifndef OPT_E\n#endif\n",
        "_Pragma(\"omp parallel for num_threads(OPT_A)\")\n",
        "#pragma omp parallel num_threads(OPT_B)\n",
        "int j@ = CAT(OPT_, __LINE__);\n#define OPT_1 OPT_A\n#define OPT_2 OPT_B\n",
        "int k@ = CAT(OPT_, __COUNTER__);\n#define OPT_0 OPT_D\n",
        "int l@ = CAT(OPT_, __SIZEOF_POINTER__);\n#define OPT_8 OPT_C\n",
        "#define STR_(x) #x\n#define STR(x) STR_(x)\nconst char *m@ = STR(OPT_E);\n",
        "const char *n@ = \"OPT_A\" \"\\\"\" ; int o@ = OPT_B;\n",
        "#error_not OPT_A\n",
        "long p@ = __INT64_C(OPT_);\n#define OPT_L OPT_B\n",
        "int q@ = '\\'' + OPT_C + '\"' + OPT_D;\n",
    ];
    let mut text = String::from("#define CAT_(a, b) a##b\n#define CAT(a, b) CAT_(a, b)\n#include \"own.h\"\n");
    for number in 0..random.usize(3..12) {
        text.push_str(&one(random, &LINES).replace('@', &number.to_string()));
    }
    text
}

fn nasty_header(random: &mut fastrand::Rng) -> String {
    let mut text = String::new();
    for name in ["A", "B", "C", "D", "E"] {
        let value = one(random, &["1", "OPT_B", "CAT(OPT_, C)", "PIECE", "(OPT_D + 1)", "OPT_ ## E"]);
        if random.bool() {
            text.push_str(&format!("#define OPT_{name} {value}\n"));
        }
    }
    text
}
