//! Which flags of a foreign file are passed on to compilers and linkers: those that only say what is compiled and linked.
//!
//! What makes a tool write, load or run something else, or take its words from elsewhere, is not: a metadata file of some folder in a
//! person's search path could overwrite their files, or bring code into the compiler.

/// Words that begin so are not passed on, to a compiler or as a link's words.
const REFUSED: &[&str] = &[
    "@",
    "-o",
    "-c",
    "-S",
    "-E",
    "-x",
    "-d",
    "-M",
    "-B",
    "-T",
    "-v",
    "-###",
    "-specs",
    "--specs",
    "-wrapper",
    "-aux",
    "-iplugindir",
    "-save-temps",
    "--save-temps",
    "-print-",
    "--print-",
    "--help",
    "--target-help",
    "--version",
    "--output",
    "--coverage",
    "-gsplit-dwarf",
    "-fplugin",
    "-fpass-plugin",
    "-fdump",
    "-fprofile",
    "-fauto-profile",
    "-ftest-coverage",
    "-fsave-",
    "-fopt-info",
    "-fmodule",
    "-fdiagnostics-",
    "-fstack-usage",
    "-fcallgraph-info",
    "-fada-spec",
    "-fltrans",
    "-flinker-output",
    "-Xclang",
];

/// Words of a linker that begin so, behind `-Wl,` or `-Xlinker`.
const OF_LINKERS: &[&str] = &["@", "-o", "-M", "-T", "-c", "-dT"];

/// The same by their long names, which a linker takes after one dash or two.
const LONG_OF_LINKERS: &[&str] = &[
    "output",
    "print-map",
    "Map",
    "script",
    "mri-script",
    "default-script",
    "plugin",
    "out-implib",
    "dependency-file",
    "cref",
    "retain-symbols-file",
    "just-symbols",
];

/// Flags whose next word is not one of its own.
const PAIRED: &[&str] = &[
    "-I",
    "-L",
    "-l",
    "-D",
    "-U",
    "-isystem",
    "-idirafter",
    "-iquote",
    "-include",
    "-imacros",
    "-u",
    "-z",
    "-framework",
    "-arch",
    "--param",
];

/// What the flags are for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum For {
    /// Compiles.
    Compile,
    /// Links.
    Link,
}

/// Returns the first flag that is not passed on.
pub(super) fn refused(flags: &[String], purpose: For) -> Option<&str> {
    let mut words = flags.iter().map(String::as_str);
    while let Some(word) = words.next() {
        if PAIRED.contains(&word) {
            words.next();
            continue;
        }
        let bad = match word.strip_prefix("-Wl,") {
            Some(list) => list.split(',').any(of_linker),
            None if word == "-Xlinker" => words.next().is_some_and(of_linker),
            // The assembler and the preprocessor are given nothing by name.
            None if word.starts_with("-Wa,") || word.starts_with("-Wp,") => !is_define(word),
            None if matches!(word, "-Xassembler" | "-Xpreprocessor") => true,
            None if word.starts_with('-') => begins(word, REFUSED),
            None => word.starts_with('@') || purpose == For::Compile || !is_library(word),
        };
        if bad {
            return Some(word);
        }
    }
    None
}

fn begins(word: &str, with: &[&str]) -> bool {
    with.iter().any(|start| word.starts_with(start))
}

fn of_linker(word: &str) -> bool {
    begins(word, OF_LINKERS) || word.starts_with('-') && begins(word.trim_start_matches('-'), LONG_OF_LINKERS)
}

/// `-Wp,-D_FORTIFY_SOURCE=2` only defines a macro.
fn is_define(word: &str) -> bool {
    word.strip_prefix("-Wp,").is_some_and(|list| list.split(',').all(|w| w.starts_with("-D") || w.starts_with("-U")))
}

/// Whether a linker would take a file for a library or an object, going by its name.
fn is_library(word: &str) -> bool {
    let name = word.rsplit('/').next().unwrap_or(word);
    name.ends_with(".a") || name.ends_with(".o") || name.ends_with(".so") || name.contains(".so.")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> Vec<String> {
        text.split(' ').map(str::to_string).collect()
    }

    #[test]
    fn what_writes_loads_or_reads_elsewhere_is_refused() {
        for text in [
            "-o /tmp/x",
            "-o/tmp/x",
            "@/tmp/words",
            "-I/a -fplugin=evil.so",
            "-specs=/tmp/specs",
            "--specs=x",
            "-wrapper sh,-c",
            "-B/tmp",
            "-B /tmp",
            "-MF x",
            "-MD",
            "-save-temps",
            "-fdump-tree-all=/tmp/x",
            "-fmodule-mapper=|sh",
            "-Wl,-o,x",
            "-Wl,--script=x",
            "-Wl,-z,now,-plugin,x.so",
            "-Wl,--Map=x",
            "-Wl,-script,x",
            "-Wl,-dependency-file=x",
            "-Xlinker -Map=x",
            "-Xlinker @x",
            "-Wa,-o,x",
            "-Wp,-MD,x",
            "-T script",
            "evil.c",
        ] {
            for purpose in [For::Compile, For::Link] {
                assert!(refused(&words(text), purpose).is_some(), "{text}");
            }
        }
        assert_eq!(refused(&words("-I/a -fplugin=e.so -lz"), For::Link), Some("-fplugin=e.so"));
    }

    #[test]
    fn what_libraries_say_of_themselves_is_passed_on() {
        for text in [
            "-I/usr/include/x -DNAME -D NAME=1 -pthread -isystem /opt/o -std=c++17 -mms-bitfields -fno-exceptions",
            "-Wp,-D_FORTIFY_SOURCE=2 -include config.h -Wno-x -O2 -g -msse2 -fopenmp",
        ] {
            assert_eq!(refused(&words(text), For::Compile), None, "{text}");
        }
        for text in [
            "-L/usr/lib -lssl -l crypto -Wl,-rpath,/opt/lib -Wl,--as-needed -Wl,-z,now -rdynamic -static -shared -pie",
            "/usr/lib/libx.a libz.so.1 -Xlinker -rpath=/x -framework Core -Wl,--export-dynamic -Wl,-Bsymbolic -lm",
        ] {
            assert_eq!(refused(&words(text), For::Link), None, "{text}");
        }
        assert_eq!(refused(&words("/usr/lib/libx.a"), For::Compile), Some("/usr/lib/libx.a"));
    }
}
