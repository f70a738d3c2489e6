//! The keys of what comes before and after a build: what is fetched, services, metadata of libraries, short runs, actions.

use super::keys::{
    Shape::{Condition, Conditional, Entries, Number, Numbers, Text, Texts, Word},
    TableKeys, key,
};

pub(super) const SERVICE: TableKeys = TableKeys {
    name: "service",
    written: "[service.NAME]",
    says: "A program that the system's service manager runs. Its unit, its user and its folders are made from the values and installed.",
    keys: &[
        key("summary", Text, "one line about it"),
        key("program", Text, "the part; an installed program"),
        key("when", Condition, "it is there only while this holds"),
        key("arguments", Conditional, "what the program is called with"),
        key("environment", Texts, "`NAME=VALUE`"),
        key("user", Text, "the user that it runs as, with a group of the same name; the administrator without it"),
        key(
            "folders",
            Entries(&["when", "folder", "mode"]),
            "folders that it keeps its things in, of its user: absolute paths, or `{ when, folder, mode }`",
        ),
        key("listens", Conditional, "ports that it listens on: a number, or `udp:` and a number"),
        key("files", Conditional, "files that must be there and that its user must be able to read"),
        key(
            "ready",
            Word(&["runs", "tells", "ended"]),
            "it counts as started when it `runs` (unless told otherwise), `tells` the manager, or has `ended`",
        ),
        key(
            "again",
            Word(&["failed", "always", "never"]),
            "when it is started again after its end: when it `failed`, unless told otherwise",
        ),
        key("install", Text, "below which folder its files are installed; `${prefix}/lib` unless told otherwise"),
    ],
};

pub(super) const METADATA: TableKeys = TableKeys {
    name: "metadata",
    written: "[metadata.NAME]",
    says: "What libraries tell those who build on them: their metadata file (`NAME.pc`), made from the values and from what was found.",
    keys: &[
        key("summary", Text, "one line about it"),
        key("libraries", Texts, "the parts; installed libraries"),
        key("when", Condition, "it is there only while this holds"),
        key("include", Conditional, "folders that their users search for headers"),
        key("flags", Conditional, "further flags of their users' compiles"),
        key("public-needs", Conditional, "needs that the headers have as well; all others are for static use only"),
        key("install", Text, "the folder that it is installed in; `${prefix}/lib/pkgconfig` unless told otherwise"),
    ],
};

pub(super) const KIT: TableKeys = TableKeys {
    name: "kit",
    written: "[kit.NAME]",
    says: "What add-ons are built against where the sources of the tree are not: its definitions and values, headers and finished parts, installed as a folder.",
    keys: &[
        key("summary", Text, "one line about it"),
        key(
            "parts",
            Conditional,
            "the parts that add-ons can use: libraries, and programs that they bring modules for; what these use comes along",
        ),
        key("headers", Texts, "headers of the sources, by pattern"),
        key("when", Condition, "it is there only while this holds"),
        key(
            "open",
            Texts,
            "options that whoever builds against it chooses anew; all others have the values of the tree",
        ),
        key(
            "interface",
            Texts,
            "options that what is built against it depends on: with other values it does not fit any more",
        ),
        key("install", Text, "the folder that it is installed as; `${prefix}/lib/TREE/kit` unless told otherwise"),
    ],
};

pub(super) const SMOKE: TableKeys = TableKeys {
    name: "smoke",
    written: "[smoke.NAME]",
    says: "A short run that shows that an installed program works: `install --check` makes it, in a clean environment and an empty folder.",
    keys: &[
        key("summary", Text, "one line about it"),
        key("when", Condition, "it is made only while this holds"),
        key("program", Text, "the part; an installed program"),
        key("arguments", Conditional, "what the program is called with"),
        key("says", Conditional, "texts that must stand in what it says"),
        key("silent-on", Conditional, "texts that must not"),
        key("success", Numbers, "exit codes that mean that it works"),
        key("limit-seconds", Number, "how long it may take; 20 unless told otherwise"),
    ],
};

pub(super) const ADD_ON: TableKeys = TableKeys {
    name: "add-on",
    written: "[add-on]",
    says: "What a folder outside of the tree is that brings more to its board. It has a switch of its name, which is on unless something stands against it, and a section.",
    keys: &[
        key("name", Text, "its name, which its switch and its section have as well"),
        key("version", Text, "its version"),
        key("summary", Text, "one line about it"),
        key("about", Text, "more about it, for packages"),
        key("maintainer", Text, "who answers for its packages, as in `Name <address>`"),
        key("license", Text, "its licence, as SPDX writes it"),
        key("homepage", Text, "where it is at home"),
        key("tree", Text, "the tree that it is for"),
        key("tree-versions", Text, "the versions of the tree that it fits: `>= 2.4, < 4`"),
        key("requires", Texts, "what its switch requires of the tree's options"),
        key("needs", Texts, "what its switch needs of the host"),
        key("more", Texts, "further files of it, by pattern"),
    ],
};

pub(super) const FETCH: TableKeys = TableKeys {
    name: "fetch",
    written: "[fetch.NAME]",
    says: "Data or sources that the tree uses and does not carry: `boltboard fetch` gets them, before a build. What lies in the tree at that place is taken instead.",
    keys: &[
        key("summary", Text, "one line about it"),
        key("when", Condition, "it is wanted only while this holds"),
        key("from", Texts, "addresses that have it, in the order in which they are asked"),
        key("size", Number, "its size in bytes"),
        key("sha256", Text, "the SHA-256 digest of its content"),
        key("into", Text, "where it counts as lying: a file, or the folder of what was unpacked"),
        key(
            "unpack",
            Word(&["no", "tar", "tar.gz", "tar.xz", "tar.zst"]),
            "what it is unpacked as; by the ending of its name unless told otherwise",
        ),
        key("folder", Text, "the folder of the archive that is taken; all of it unless told otherwise"),
    ],
};

pub(super) const ACTION: TableKeys = TableKeys {
    name: "action",
    written: "[action.NAME]",
    says: "What is done once files are in place: a program with its arguments, never through a shell, and never for a package.",
    keys: &[
        key("summary", Text, "one line about it"),
        key("run", Texts, "what is run after an installation, and after going back"),
        key("undo", Texts, "what is run after a removal; nothing where it is not told"),
        key("when", Condition, "it is done only while this holds"),
        key("by", Word(&["anyone", "root"]), "who can do it; `anyone` unless told otherwise"),
        key(
            "absent",
            Word(&["skip", "fail"]),
            "where the program is not there: it is left out and told, or nothing is installed",
        ),
    ],
};
