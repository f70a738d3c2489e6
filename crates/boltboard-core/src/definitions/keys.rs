//! Every key that definitions can hold, in one table: the reader is held to it, and the reference and the schema are made of it.

use super::delivery_keys;

/// A table of a definition file.
#[derive(Debug, Clone, Copy)]
pub struct TableKeys {
    /// Its name in the reader, as in `option`.
    pub name: &'static str,
    /// How it is written.
    pub written: &'static str,
    /// What it is, one line.
    pub says: &'static str,
    /// Its keys.
    pub keys: &'static [Key],
}

/// A key.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Its name.
    pub name: &'static str,
    /// What stands under it.
    pub shape: Shape,
    /// What it says, one line.
    pub says: &'static str,
}

/// What can stand under a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// A text.
    Text,
    /// One of these words.
    Word(&'static [&'static str]),
    /// A text, or a list of texts.
    Texts,
    /// A text, or a list whose members are texts or `{ when, add }`.
    Conditional,
    /// A condition.
    Condition,
    /// `true` or `false`.
    Flag,
    /// A whole number.
    Number,
    /// Whole numbers.
    Numbers,
    /// A table of texts by free names.
    Named,
    /// A table with some of these keys.
    Entry(&'static [&'static str]),
    /// A text, a table with some of these keys, or a list of such.
    Entries(&'static [&'static str]),
    /// What a table of this name holds.
    Like(&'static str),
    /// Tables by free names, each as the table of this name.
    NamedLike(&'static str),
    /// What the key's line says.
    Free,
}

pub(super) const fn key(name: &'static str, shape: Shape, says: &'static str) -> Key {
    Key { name, shape, says }
}

use Shape::{
    Condition, Conditional, Entries, Entry, Flag, Free, Like, Named, NamedLike, Number, Numbers, Text, Texts, Word,
};

/// All tables.
pub const TABLES: &[TableKeys] = &[
    TableKeys {
        name: "a board",
        written: "the file itself",
        says: "What stands before all tables. `format` and `[tree]` belong into the root file.",
        keys: &[
            key("format", Number, "1"),
            key("add-on", Like("add-on"), "`[add-on]`, in the root file of an add-on, where a tree has `[tree]`"),
            key("default-section", Text, "the section of this file's options that name none"),
            key(
                "lists",
                NamedLike("list"),
                "`[lists.\"sub/folder\"]`: as `[list]`, for a folder below that has no file of its own",
            ),
            key("folders", NamedLike("folder"), "`[folders.\"sub/folder\"]`: as `[folder]`, beside such a list"),
            key(
                "accept",
                Free,
                "`[[accept]]`: `finding`, `files`, `reason`: a finding of `lint` that is known for these files",
            ),
        ],
    },
    TableKeys {
        name: "tree",
        written: "[tree]",
        says: "What the tree is. In the root file.",
        keys: &[
            key("name", Text, "its name"),
            key("version", Text, "its version"),
            key("summary", Text, "one line about it"),
            key("about", Text, "more about it, for packages"),
            key("maintainer", Text, "who answers for its packages, as in `Name <address>`"),
            key("license", Text, "its licence, as SPDX writes it: `MIT OR Apache-2.0`"),
            key("homepage", Text, "where it is at home"),
            key("more", Texts, "further files, by pattern"),
            key("sources", Text, "the folder of the sources, where these files lie outside of it"),
        ],
    },
    delivery_keys::ADD_ON,
    TableKeys {
        name: "toolchain",
        written: "[toolchain], [host-toolchain]",
        says: "How everything is compiled: for the machine that the tree is built for, and for the one that builds.",
        keys: &[
            key("c-compiler", Text, "`cc` unless told otherwise"),
            key("cxx-compiler", Text, "`c++` unless told otherwise"),
            key("fortran-compiler", Text, "`gfortran` unless told otherwise"),
            key("assembler", Text, "what assembles `.asm` sources; `nasm` unless told otherwise"),
            key(
                "environment-from",
                Text,
                "a script that sets the environment of the compilers, as their makers ship one",
            ),
            key("environment-modules", Texts, "environment modules of a cluster, loaded in this order"),
            key("sysroot", Text, "the folder that stands for `/` of a cross compiler's target"),
            key("flags", Conditional, "of every compile"),
            key("c-flags", Conditional, "of C compiles"),
            key("cxx-flags", Conditional, "of C++ compiles"),
            key("fortran-flags", Conditional, "of Fortran compiles"),
            key("asm-flags", Conditional, "of compiles of `.s` and `.S`"),
            key("assembler-flags", Conditional, "of the assembler of `.asm`"),
            key("link-flags", Conditional, "of every link"),
        ],
    },
    TableKeys {
        name: "section",
        written: "[section.NAME]",
        says: "A titled group of options.",
        keys: &[key("title", Text, "its title"), key("in", Text, "the section that it lies in")],
    },
    TableKeys {
        name: "option",
        written: "[option.NAME]",
        says: "One thing to decide.",
        keys: &[
            key(
                "kind",
                Word(&["switch", "module", "pick", "number", "size", "text", "path", "words"]),
                "what values it accepts",
            ),
            key("summary", Text, "one line about it"),
            key("help", Text, "more about it"),
            key("section", Text, "where it is listed"),
            key("level", Word(&["everyday", "tuning", "expert"]), "who it is for"),
            key("derived", Flag, "nobody chooses it: its value follows from its default and from what requires it"),
            key(
                "default",
                Free,
                "a value, a text to fill in, or a list of `{ when, value }` of which the first counts that holds",
            ),
            key(
                "values",
                Entries(&["name", "summary", "requires", "conflicts", "needs"]),
                "of a pick: texts, or `{ name, summary, requires, conflicts, needs }`; of words: the allowed ones",
            ),
            key("range", Free, "of a number or size: its ends"),
            key(
                "requires",
                Texts,
                "conditions that must hold while it is on; for other kinds: it applies only while they hold",
            ),
            key("conflicts", Texts, "conditions that must not hold while it is on"),
            key("needs", Texts, "needs that must be met while it is on"),
            key(
                "macro",
                Entries(&["name", "form", "value", "when", "header", "parts", "sets"]),
                "how it is called in the code: a name, `{ name, form, value, when, header, parts, sets }`, or a list of these",
            ),
            key("accept", Named, "findings of `lint` that are known: `{ FINDING = \"reason\" }`"),
            key(
                "serves",
                Texts,
                "devices that it serves: patterns over the names that the kernel gives them, as in `usb:v1209p*`",
            ),
            key(
                "shown-by",
                Texts,
                "what shows that it is used: names of programs, shared objects or modules that run, or paths of files",
            ),
            key("since", Text, "the first version of the tree that has it"),
            key("was", Texts, "names that it had in earlier versions"),
            key(
                "changed",
                Entry(&["in", "values", "times", "per"]),
                "how its values changed: `{ in = \"3.0\", values = { old = \"new\" } }`, or `times` and `per` for numbers",
            ),
        ],
    },
    TableKeys {
        name: "split",
        written: "[split.NAME]",
        says: "An option of earlier versions that is several options now.",
        keys: &[
            key("since", Text, "the first version without it"),
            key("note", Text, "a word to people"),
            key(
                "into",
                Free,
                "choices that mean the same, for each value that it had: `{ on = [\"first=on\", \"second=on\"] }`; `\"*\"` is any value, `${value}` the one that it had",
            ),
        ],
    },
    TableKeys {
        name: "gone",
        written: "[gone.NAME]",
        says: "An option of earlier versions that is no more.",
        keys: &[
            key("since", Text, "the first version without it"),
            key("note", Text, "what to use instead, or why nothing is needed"),
        ],
    },
    TableKeys {
        name: "header",
        written: "[header.NAME]",
        says: "A generated header with the macros of options.",
        keys: &[
            key("output", Text, "where sources include it from"),
            key("guard", Text, "its include guard"),
            key("prefix", Text, "what macros begin with: option `fog-horn` becomes `PREFIX` and `FOG_HORN`"),
            key("style", Word(&["one-or-absent", "one-or-zero"]), "how an option that is off shows"),
            key(
                "modules",
                Entry(&["builtin", "loadable", "either"]),
                "macros of modules, with `*` for the usual name: `{ builtin = \"*\", loadable = \"*_MODULE\" }`, also `either`",
            ),
            key("first", Flag, "read before everything else, so that a shipped copy stays without effect"),
        ],
    },
    TableKeys {
        name: "need",
        written: "[need.NAME]",
        says: "Something that the host must have. Everything in the table must be met; a list means all of it.",
        keys: super::needs::KEYS,
    },
    TableKeys {
        name: "set",
        written: "[set.NAME]",
        says: "What several parts share, written once. Parts and folders name it in `sets`.",
        keys: &[
            key("summary", Text, "one line about it"),
            key("flags", Conditional, "flags of compiles"),
            key("defines", Conditional, "macros, each only for files that name it"),
            key("include", Conditional, "folders searched for headers"),
            key("public-include", Conditional, "folders searched also by those that use the part"),
            key("link-flags", Conditional, "flags of links"),
            key("libraries", Conditional, "libraries, without `-l`"),
            key("needs", Conditional, "needs whose flags are used"),
            key("uses", Conditional, "parts"),
        ],
    },
    TableKeys {
        name: "part",
        written: "[part.NAME]",
        says: "Something that is made.",
        keys: &[
            key(
                "kind",
                Word(&[
                    "program",
                    "static-library",
                    "shared-library",
                    "module",
                    "objects",
                    "partial-link",
                    "generated",
                    "data",
                ]),
                "what it is",
            ),
            key("summary", Text, "one line about it"),
            key("for", Word(&["target", "host"]), "the machine that it is made for"),
            key("when", Condition, "it is made only while this holds"),
            key(
                "sources",
                Entries(&["when", "add", "made", "modules", "flags", "without"]),
                "patterns, or `{ when, add, made, modules, flags, without }`; `beside:FILE` lies beside the root definition file",
            ),
            key("except", Texts, "patterns that do not count"),
            key("sets", Conditional, "sets, before what the part says itself"),
            key("include", Conditional, "folders searched by its own sources"),
            key("public-include", Conditional, "folders searched also by the sources of parts that use it"),
            key(
                "uses",
                Entries(&["when", "add", "link"]),
                "parts that it is linked with or comes after: names, or `{ when, add, link = \"whole\" or \"together\" }`",
            ),
            key("lists", Conditional, "folders whose `[list]` belongs to it, in the order of the link"),
            key(
                "modules",
                Entry(&[
                    "form",
                    "output",
                    "symbol",
                    "flags",
                    "builtin-flags",
                    "link-flags",
                    "link-reads",
                    "stub",
                    "install",
                    "install-as",
                    "mode",
                    "role",
                ]),
                "how the modules in these lists are made: `form`, `output`, `symbol`, `flags`, `builtin-flags`, `link-flags`, `link-reads`, `stub`, `install`",
            ),
            key(
                "exports",
                Entries(&["marked"]),
                "what modules can use: `\"dynamic\"`, a file with names, `{ marked = \"…\" }`, `\"unchecked\"`",
            ),
            key("flags", Conditional, "flags of its compiles"),
            key("defines", Conditional, "`NAME` or `NAME=VALUE`, each only for files that name it"),
            key(
                "position-independent",
                Flag,
                "whether its code can lie anywhere; without it, where something needs it",
            ),
            key("link-flags", Conditional, "flags of its link"),
            key("link-reads", Texts, "files that its link reads, beside those that its flags name"),
            key("libraries", Conditional, "libraries, without `-l`"),
            key("needs", Conditional, "needs whose flags it uses; it cannot be made while one is not met"),
            key(
                "values",
                Free,
                "values that its own texts can name as `${value:NAME}`: a text, or a list of `{ when, value }`",
            ),
            key("output", Entries(&["file", "left"]), "where its file lies; of a command: files, or `{ file, left }`"),
            key("below", Text, "of data: the folder whose inner folders its files keep; else they lie side by side"),
            key("names", Texts, "further names of its file, beside it"),
            key("license", Text, "its licence, where it is not the tree's, as SPDX writes it"),
            key("install", Text, "the folder that it is installed in"),
            key("install-as", Text, "its name there"),
            key(
                "empty-folders",
                Entries(&["folder", "mode", "owner"]),
                "empty folders that are made there: names, or `{ folder, mode, owner = \"user:group\" }`",
            ),
            key("mode", Text, "permission bits, as in `755`"),
            key("role", Word(&["plain", "config"]), "a file of kind config that a person has edited is kept"),
            key("abi", Text, "of a shared library: the version of its interface"),
            key("option", Text, "of a module: the option that decides about it"),
            key("program", Text, "of a module: its program"),
            key("symbol", Text, "of a module: the symbol that registers it"),
            key("form", Word(&["shared", "partial"]), "of a module: a shared object, or one relocatable object"),
            key("command", Conditional, "of a generated part: a program with its arguments"),
            key("pipe", Free, "further commands, each a list; one reads what the one before writes"),
            key("stdin", Text, "the file that the first command reads as standard input, or `${part:NAME}`"),
            key("stdout", Text, "the file that receives the standard output of the last"),
            key("reads", Texts, "patterns of what it reads of the sources"),
            key("folder", Text, "the folder that it runs in; that of the definition unless told otherwise"),
            key(
                "scratch",
                Entries(&["file", "as"]),
                "it runs in an empty folder, in which these files lie: names, or `{ file, as }`",
            ),
            key("environment", Texts, "`NAME=VALUE`, or `NAME` to pass it on"),
            key("success", Numbers, "exit codes that mean success"),
            key("template", Text, "of a generated part: a file with `@NAME@` in it"),
            key("mark", Text, "the sign around names in the template, `@` unless told otherwise"),
            key("preprocess", Text, "of a generated part: a file that goes through the preprocessor"),
            key("assembly", Text, "of a generated part: a source that is compiled to assembly"),
            key(
                "module-table",
                Entry(&["program", "output", "head", "declare", "open", "entry", "close"]),
                "of a generated part: `program`, `output`, `head`, `declare`, `open`, `entry`, `close`",
            ),
            key(
                "record",
                Entry(&["output", "function", "macro", "of"]),
                "of a generated part: a header with a `function` that returns the program's record, or with a `macro` that is the text of the record of the part `of`",
            ),
            key("accept", Named, "findings of `lint` that are known"),
        ],
    },
    TableKeys {
        name: "each",
        written: "[each.NAME]",
        says: "One part, or one test, or both for each file of a pattern. `{stem}`, `{file}` and `{name}` are filled in everywhere.",
        keys: &[
            key("files", Texts, "the patterns"),
            key("except", Texts, "patterns that do not count"),
            key("name", Text, "the name of each; `{stem}` unless told otherwise"),
            key("part", Like("part"), "what a part says; its source is the file unless it names `sources`"),
            key("test", Like("test"), "what a test says"),
        ],
    },
    TableKeys {
        name: "list",
        written: "[list]",
        says: "What this folder gives to the part that names it in `lists`: a line for each option or condition, and `always`. Lines are linked in their order.",
        keys: &[key("always", Free, "files, `folder/`, or `{ sources, flags, without }`")],
    },
    TableKeys {
        name: "folder",
        written: "[folder]",
        says: "What is for all of this folder's list, and of the lists below it.",
        keys: &[
            key("sets", Conditional, "sets, before what it says itself"),
            key("flags", Conditional, "flags of compiles"),
            key("defines", Conditional, "macros, each only for files that name it"),
            key("include", Conditional, "folders searched for headers"),
            key("public-include", Conditional, "likewise"),
            key("link-flags", Conditional, "flags of links"),
            key("libraries", Conditional, "libraries, without `-l`"),
            key("needs", Conditional, "needs whose flags are used"),
        ],
    },
    TableKeys {
        name: "test",
        written: "[test.NAME]",
        says: "One of the tree's own tests.",
        keys: &[
            key("command", Texts, "a program with its arguments; `${part:NAME}` is what a part makes"),
            key("summary", Text, "one line about it"),
            key("when", Condition, "it is there only while this holds"),
            key("needs", Texts, "needs that only it has; it is not there while one is not met"),
            key("parts", Texts, "further parts that it runs"),
            key("environment", Texts, "`NAME=VALUE`, or `NAME` to pass it on"),
            key("scratch", Flag, "it runs in an empty folder of its own, not in that of outputs"),
            key("stdin", Text, "the file that it reads as standard input"),
            key("stdout", Text, "the file that holds what it must write"),
            key("success", Numbers, "exit codes that mean that it passed"),
            key("after", Texts, "tests that have ended before it starts"),
            key("locks", Texts, "names of what only one test uses at a time"),
            key("alone", Flag, "no other test runs beside it"),
            key("slow", Flag, "it runs only with `--slow`, or by its name"),
            key("limit-seconds", Number, "how long it may run; 60 unless told otherwise"),
        ],
    },
    delivery_keys::SERVICE,
    delivery_keys::METADATA,
    delivery_keys::KIT,
    delivery_keys::SMOKE,
    delivery_keys::ACTION,
    delivery_keys::FETCH,
];

/// Returns the keys of a table by its name in the reader.
pub(super) fn table(name: &str) -> Option<&'static TableKeys> {
    TABLES.iter().find(|table| table.name == name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_key_stands_once_in_its_table() {
        for table in TABLES {
            let mut names: Vec<&str> = table.keys.iter().map(|key| key.name).collect();
            names.sort_unstable();
            let all = names.len();
            names.dedup();
            assert_eq!(names.len(), all, "{}", table.name);
        }
    }
}
