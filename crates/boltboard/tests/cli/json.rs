//! Every `--json` answer read back strictly: a changed or forgotten field fails here and in `docs/json.md`.

use std::collections::BTreeSet;

use serde_json::Value;

use crate::harness::{MINI, Scratch};

/// Checks the keys of an object; those that end in `?` may be null.
#[track_caller]
fn keys(value: &Value, want: &[&str]) {
    let object = value.as_object().unwrap_or_else(|| panic!("an object: {value}"));
    let found: BTreeSet<&str> = object.keys().map(String::as_str).collect();
    let wanted: BTreeSet<&str> = want.iter().map(|key| key.trim_end_matches('?')).collect();
    assert_eq!(found, wanted);
    for key in want {
        assert!(key.ends_with('?') || !object[*key].is_null(), "`{key}` is null in {value}");
    }
}

fn first<'a>(value: &'a Value, key: &str) -> &'a Value {
    &value[key][0]
}

#[test]
fn every_answer_has_just_its_documented_fields() {
    let tree = Scratch::with(MINI);
    tree.run("set horn=on").code(0);
    let documented =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json.md")).expect("docs/json.md");
    let answer = |words: &str| {
        let ran = tree.run(&format!("{words} --json"));
        assert!(ran.code == 0 || words.starts_with("compare"), "{ran:?}");
        let answer = ran.json();
        assert_eq!(answer["format"], 1, "{words}");
        for key in all_keys(&answer) {
            assert!(documented.contains(&format!("`{key}`")), "docs/json.md does not tell of `{key}` ({words})");
        }
        answer
    };
    let overview = answer("overview");
    keys(
        &overview,
        &[
            "format",
            "tree",
            "version",
            "summary",
            "sources",
            "source-bytes",
            "options",
            "needs",
            "missing",
            "parts",
            "profile",
            "add-ons",
            "to-fetch",
            "changes",
            "choices",
        ],
    );
    keys(first(&overview, "parts"), &["name", "kind", "made"]);
    let options = answer("options --level expert");
    keys(&options, &["format", "tree", "profile", "options"]);
    let option = ["name", "kind", "value", "origin", "applies", "section", "level", "derived", "summary"];
    for one in options["options"].as_array().expect("a list") {
        keys(one, &option);
        match one["origin"]["from"].as_str().expect("from") {
            "chosen" => keys(&one["origin"], &["from", "layer", "file", "line", "reason?"]),
            "pulled-in" => keys(&one["origin"], &["from", "by", "requirement"]),
            "blocked" => keys(&one["origin"], &["from", "would-be", "requirement", "by"]),
            other => assert_eq!(other, "default"),
        }
    }
    let show = answer("show horn");
    let more =
        ["format", "help", "accepts", "values", "requires", "applies-while?", "required-by", "macros", "file", "line"];
    keys(&show, &[&option[..], &more[..]].concat());
    let why = answer("why air");
    keys(&why, &["format", "option", "nodes"]);
    keys(first(&why, "nodes"), &["option", "value", "cause", "because"]);
    keys(&why["nodes"][0]["cause"], &["is", "requirement", "file", "line"]);
    assert_eq!(why["nodes"][0]["because"][0]["option"], why["nodes"][1]["option"]);
    assert_eq!(why["nodes"][1]["cause"]["is"], "chosen");
    assert_eq!(answer("why radio")["nodes"][0]["because"][0]["unmet"], "nowhere");
    let reach = answer("ways horn");
    keys(&reach, &["format", "option", "value", "outcome", "ways"]);
    assert_eq!(reach["outcome"], "already");
    let ways = answer("ways horn=off --try air=on");
    let way = ["choose", "give-up", "install", "install-command?", "allow", "moved", "steps?", "reused?", "work-ms?"];
    keys(first(&ways, "ways"), &way);
    keys(first(first(&ways, "ways"), "choose"), &["option", "value"]);
    let ways = answer("ways air=off");
    keys(first(first(&ways, "ways"), "give-up"), &["option", "value", "becomes"]);
    let ways = answer("ways horn --try horn=off");
    keys(first(first(&ways, "ways"), "moved"), &["option", "before", "after"]);
    let against = answer("why radio=on");
    keys(&against, &["format", "option", "value", "against"]);
    keys(first(&against, "against"), &["decided", "choices", "requirements", "unmet"]);
    keys(first(first(&against, "against"), "requirements"), &["option", "requirement", "file", "line"]);
    let checked = answer("profile check");
    keys(&checked, &["format", "profiles"]);
    keys(first(&checked, "profiles"), &["profile", "holds", "choices?", "no-effect", "problems", "for-other-hosts"]);
    let doubts = tree.run("lint --json").json();
    keys(&doubts, &["format", "findings", "accepted"]);
    keys(first(&doubts, "findings"), &["finding", "severity", "message", "file?", "line?", "requirements", "remedy"]);
    for key in all_keys(&doubts) {
        assert!(documented.contains(&format!("`{key}`")), "docs/json.md does not tell of `{key}` (lint)");
    }
    let survey = answer("survey");
    let head = [
        "format",
        "distribution",
        "release",
        "compiler",
        "target",
        "compiler-fault?",
        "host-compiler?",
        "wrappers",
        "environment?",
    ];
    keys(&survey, &[&head[..], &["needs", "gaps", "install?", "do-without?", "cost?"]].concat());
    let need =
        ["name", "state", "version?", "place?", "detail?", "source", "required", "provider?", "met-by", "needed-by"];
    keys(first(&survey, "needs"), &[&need[..], &["compile-flags", "link-flags", "copies", "evidence"]].concat());
    keys(first(first(&survey, "needs"), "evidence"), &["tried", "found", "command?", "program?", "words"]);
    let gap = [
        "need",
        "severity",
        "stops",
        "trouble",
        "lost",
        "packages",
        "packages-if-newer",
        "providers",
        "switch-off",
        "cost?",
    ];
    keys(first(&survey, "gaps"), &gap);
    keys(first(first(&survey, "gaps"), "lost"), &["option", "would-be", "is", "chosen"]);
    let costed = answer("survey --cost");
    keys(&costed["gaps"][0]["cost"], &["packages", "download-bytes?", "disk-bytes?", "fault?"]);
    let found = answer("survey --assume nowhere");
    assert_eq!(found["needs"][0]["source"], "assumed");
    tree.run("survey --save there.toml").code(0);
    let ran = tree.run("survey --against there.toml --assume nowhere=2 --json").code(1).json();
    keys(&ran, &["format", "differences"]);
    keys(first(&ran, "differences"), &["what", "need?", "variable?", "there", "here"]);
    let chains = answer("survey --toolchains");
    keys(&chains, &["format", "toolchains"]);
    keys(
        first(&chains, "toolchains"),
        &["language", "names", "version?", "wrapper?", "target?", "place?", "in-use", "fault?"],
    );
    let profiles = answer("profile list");
    keys(&profiles, &["format", "profiles"]);
    keys(first(&profiles, "profiles"), &["name", "source", "in-use"]);
    let shown = answer("profile show");
    keys(&shown, &["format", "profile", "layers", "choices"]);
    keys(first(&shown, "choices"), &["option", "value", "layer", "file", "line", "reason?"]);
    tree.run("build").code(0);
    tree.run("set depth=5").code(0);
    let preview = answer("preview");
    keys(
        &preview,
        &[
            "format",
            "profile",
            "jobs",
            "current",
            "expected-work-ms",
            "most-work-ms",
            "expectation-guessed",
            "steps",
            "stale",
            "put-right",
            "new-records",
        ],
    );
    keys(
        first(&preview, "steps"),
        &["step", "does", "source?", "part", "verdict", "reasons", "expected-ms", "may-be-same-text"],
    );
    let compile =
        preview["steps"].as_array().expect("steps").iter().find(|s| s["does"] == "compile").expect("a compile");
    keys(first(compile, "reasons"), &["reason", "option", "macro", "before", "now", "named-in"]);
    let ledger = answer("ledger");
    keys(&ledger, &["format", "builds"]);
    keys(
        first(&ledger, "builds"),
        &[
            "started-s",
            "profile",
            "outcome",
            "steps",
            "ran",
            "reused",
            "same-text",
            "flaky",
            "reasons",
            "wall-ms",
            "cpu-ms",
            "memory-bytes",
            "output-bytes",
            "disk",
            "slowest",
        ],
    );
    tree.run("profile new other").code(0);
    tree.run("build").code(0);
    let compare = answer("compare mine other");
    keys(
        &compare,
        &["format", "tree", "sides", "options", "causes", "values", "changes", "parts", "contents", "steps"],
    );
    keys(first(&compare, "causes"), &["kind", "name", "sides", "said", "moves"]);
    keys(first(&compare, "values"), &["option", "summary", "section", "sides", "causes"]);
    keys(first(first(&compare, "values"), "sides"), &["value", "origin", "applies"]);
    keys(first(&compare, "parts"), &["part", "sides"]);
    keys(first(first(&compare, "parts"), "sides"), &["state", "bytes?", "sections"]);
    keys(first(&compare, "contents"), &["part", "side", "left-sources", "right-sources", "flags"]);
    let steps = first(&compare, "steps");
    let lists = ["left-only", "right-only", "differ", "unknown"];
    let others = ["side", "same", "left-ms?", "right-ms?", "to-build", "never-built"];
    keys(steps, &[&lists[..], &others[..]].concat());
    keys(&steps["to-build"], &["run", "reused", "current", "expected-work-ms?"]);
    let merged = answer("profile merge mine mine other --into third");
    keys(&merged, &["format", "profile", "written", "joined"]);
    keys(first(&merged, "joined"), &["option", "base?", "left?", "right?", "outcome"]);
    keys(&answer("profile flatten mine --into flat"), &["format", "written", "shared", "values-compared"]);
    let carried = answer("carry mine --preview");
    let told = ["profile", "from", "to", "written", "below", "choices", "moved", "new", "changes"];
    keys(&carried, &[&["format"], &told[..], &["clashes", "earlier-known", "uncompared"]].concat());
    keys(first(&carried, "choices"), &["option", "value", "reason?", "fate", "now", "words", "near"]);
    let trial = tree.run("--json trial mine --runs 1 -- bin/mini").code(0).json();
    keys(&trial, &["format", "command", "variants", "least-seen-memory-bytes", "best"]);
    let quantities = ["wall-ms", "cpu-ms", "memory-bytes", "output-bytes", "code-bytes", "build-work-ms"];
    keys(first(&trial, "variants"), &[&["name", "profile", "tried", "failed?"], &quantities[..]].concat());
    let install = answer("install --preview");
    keys(&install, &["format", "files", "folders", "obsolete", "in-use", "actions", "manifest"]);
    keys(first(&install, "files"), &["path", "part", "mode", "step"]);
    tree.run(&format!("set prefix={}/to", tree.path().display())).code(0);
    tree.run("install").code(0);
    tree.run("set depth=8").code(0);
    tree.run("install").code(0);
    let back = answer("back");
    keys(&back, &["format", "tree", "prefix", "in-place", "keep", "keep-days?", "dropped", "generations"]);
    let one = ["number", "in-place", "installed-s", "profile", "version", "files", "options"];
    keys(first(&back, "generations"), &[&one[..], &["added", "changed", "removed"]].concat());
    keys(first(first(&back, "generations"), "options"), &["option", "before?", "after?"]);
    keys(
        &answer("back 1 --preview"),
        &["format", "from", "to", "done", "written", "removed", "kept", "in-use", "actions"],
    );
    keys(
        &answer("uninstall --preview"),
        &["format", "tree", "version", "profile", "patches", "compiler", "environment", "paths"],
    );
}

/// Checks that all fields of an answer are told of.
#[track_caller]
fn documented(answer: &Value) {
    let page =
        std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/json.md")).expect("docs/json.md");
    for key in all_keys(answer) {
        assert!(page.contains(&format!("`{key}`")), "docs/json.md does not tell of `{key}`");
    }
}

const BUILT: [&str; 21] = [
    "format",
    "profile",
    "outcome",
    "outputs",
    "output-bytes",
    "wall-ms",
    "cpu-ms",
    "steps",
    "away",
    "ran",
    "reused",
    "from-others",
    "same-text",
    "written",
    "current",
    "not-done",
    "removed",
    "flaky",
    "put-right",
    "failures",
    "verified?",
];

#[test]
fn commands_that_act_answer_too() {
    let tree = Scratch::with(MINI);
    let board = tree.read("boltboard.toml");
    tree.write("boltboard.toml", &format!("{board}\n[test.passes]\ncommand = [\"true\"]\n"));
    let answer = |words: &str, code: i32| {
        let ran = tree.run(&format!("{words} --json")).code(code);
        assert_eq!(ran.err, "", "{words}: an answer in JSON is all that there is");
        let answer = ran.json();
        documented(&answer);
        answer
    };
    let moved = ["format", "profile", "saved", "recorded", "removed", "values", "gained-effect", "lost-effect"];
    let set = answer("set horn=on", 0);
    keys(&set, &moved);
    keys(first(&set, "values"), &["option", "before?", "after", "origin", "applies"]);
    assert_eq!((&set["saved"], &set["recorded"][0]), (&true.into(), &"horn=on".into()));
    let again = answer("set horn=on", 0);
    assert_eq!((again["recorded"][0].as_str(), again["values"].as_array().map(Vec::len)), (Some("horn=on"), Some(0)));
    assert_eq!(answer("set depth=4 --preview", 0)["saved"], false);
    assert_eq!(answer("unset horn", 0)["removed"][0], "horn");
    let build = answer("build", 0);
    keys(&build, &BUILT);
    assert_eq!((&build["outcome"], build["ran"].as_u64()), (&"done".into(), Some(4)));
    let program = "boltboard-work/builds/mine/out/bin/mini";
    // A record holds names of the tree itself.
    let inspected = tree.run(&format!("inspect {program} --json")).code(0).json();
    keys(&inspected, &["format", "files"]);
    keys(first(&inspected, "files"), &["file", "loaded", "records", "problem?"]);
    keys(first(first(&inspected, "files"), "records"), &["member?", "standing", "record?", "problem?"]);
    let asked = answer(&format!("inspect --has horn {program}"), 1);
    keys(first(&asked, "answers"), &["file", "question", "yes", "value"]);
    let made = answer(&format!("inspect --profile again {program}"), 0);
    let fields = ["format", "profile", "tree-version", "here", "choices", "patches", "moved", "stands", "differ"];
    keys(&made, &fields);
    let current = answer("build", 0);
    keys(&current, &BUILT);
    assert_eq!((current["ran"].as_u64(), &current["current"]), (Some(0), &current["steps"]));
    let verified = answer("build --verify", 0);
    keys(&verified["verified"], &["same", "files", "differences", "dropped"]);
    assert_eq!(verified["verified"]["same"], true);
    let test = answer("test", 0);
    keys(&test, &["format", "passed", "failed", "unchanged", "left-out", "tests"]);
    keys(first(&test, "tests"), &["test", "outcome", "why?", "wall-ms", "said", "log?", "command"]);
    answer(&format!("set prefix={}/to", tree.path().display()), 0);
    let installed = answer("install", 0);
    let fields = ["format", "written", "unchanged", "kept", "folders", "not-given", "removed", "in-use", "manifest"];
    keys(&installed, &[&fields[..], &["generation", "unready", "actions"]].concat());
    let checked = answer("install --check", 1);
    keys(&checked, &["format", "unready", "smoke"]);
    keys(first(&checked, "unready"), &["what", "file?", "library?", "first?", "user?", "port?"]);
    let gone = ["format", "tree", "version", "removed", "left", "doubted", "in-use", "gone", "actions"];
    keys(&answer("uninstall", 0), &gone);
    tree.write("src/main.c", "int main(void) { return wrong; }\n");
    let failed = answer("build", 1);
    keys(&failed, &BUILT);
    let failure = ["step", "does", "source?", "part", "cause", "file?", "line?", "column?", "message?", "said", "log?"];
    keys(first(&failed, "failures"), &[&failure[..], &["command", "because?"]].concat());
    assert_eq!((&failed["failures"][0]["line"], &failed["outcome"]), (&1.into(), &"failed".into()));
    keys(&answer("test", 1), &BUILT);
}

#[test]
fn errors_are_answers_too() {
    let tree = Scratch::with(MINI);
    let error = |words: &str, code: i32, kind: &str| {
        let ran = tree.run(&format!("{words} --json")).code(code);
        assert_eq!(ran.err, "", "{words}");
        let answer = ran.json();
        documented(&answer);
        keys(&answer, &["format", "errors", "exit"]);
        assert_eq!(answer["exit"], code);
        let first = first(&answer, "errors").clone();
        keys(&first, &["kind", "message", "places", "notes", "near", "remedies", "next", "clash?"]);
        assert_eq!(first["kind"], kind, "{words}");
        first
    };
    let unknown = error("show hron", 2, "usage");
    assert_eq!(unknown["near"][0], "horn");
    keys(first(&unknown, "next"), &["command", "gives"]);
    error("optoins", 2, "usage");
    let clash = error("set radio=on", 4, "clash");
    keys(&clash["clash"], &["decided", "choices", "requirements", "unmet"]);
    assert_eq!(clash["clash"]["unmet"][0], "nowhere");
    error("build --work /proc/sys/bolt", 7, "file");
    error("survey --facts nowhere.toml", 2, "usage");
    error("profile use nothing", 3, "profile");
    tree.edit("boltboard.toml", "format = 1", "format = 99");
    let wrong = error("overview", 3, "definitions");
    keys(first(&wrong, "places"), &["file", "line", "column"]);
    std::fs::remove_file(tree.at("boltboard.toml")).expect("removed");
    error("overview", 2, "usage");
}

fn all_keys(value: &Value) -> BTreeSet<String> {
    match value {
        Value::Object(object) => object
            .iter()
            .flat_map(|(key, inner)| [BTreeSet::from([key.clone()]), all_keys(inner)].into_iter().flatten())
            .collect(),
        Value::Array(list) => list.iter().flat_map(all_keys).collect(),
        _ => BTreeSet::new(),
    }
}

#[test]
fn the_same_question_gives_the_same_bytes() {
    let tree = Scratch::with(MINI);
    for words in ["overview --json", "options --json", "preview --json", "survey --json"] {
        assert_eq!(tree.run(words).out, tree.run(words).out, "{words}");
    }
}
