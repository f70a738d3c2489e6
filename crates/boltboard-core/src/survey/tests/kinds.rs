//! One need of each kind, joined and alone.

use super::*;

/// One of each kind that every machine can answer, most of them twice: once yes, once no.
pub(super) const KINDS: &str = r#"
[need.header]
header = "stdio.h"
[need.no-header]
header = "surely/nowhere.h"
[need.function]
function = ["printf", "fopen"]
[need.no-function]
function = "surely_no_function"
[need.declared]
header = "string.h"
function = "strlen"
[need.no-declared]
header = "string.h"
function = "surely_no_function"
[need.type]
header = "time.h"
type = "struct tm"
[need.no-type]
header = "time.h"
type = "struct surely_nothing"
[need.no-type-either]
header = "time.h"
type = "surely_nothing_t"
[need.own-headers-only]
header = "stddef.h"
type = "FILE"
[need.member]
header = "time.h"
member = "struct tm.tm_year"
[need.no-member]
header = "time.h"
member = "struct tm.surely_nothing"
[need.macro]
header = "limits.h"
macro = "INT_MAX"
[need.no-macro]
header = "limits.h"
macro = "SURELY_NOTHING"
[need.value]
header = "limits.h"
macro = { name = "CHAR_BIT", value = "= 8" }
[need.no-value]
header = "limits.h"
macro = { name = "CHAR_BIT", value = "> 8" }
[need.size]
size = { of = "long long", value = ">= 8" }
[need.no-size]
size = [{ of = "char", value = "= 1" }, { of = "char", value = "= 2" }]
[need.alignment]
alignment = { of = "char", value = "= 1" }
[need.flag]
flag = ["-O2", "-fno-common", "-Wno-unused"]
[need.no-flag]
flag = "-fsurely-nothing"
[need.no-warning]
flag = "-Wno-surely-nothing"
[need.standard]
standard = "c11"
[need.no-standard]
standard = "c77"
[need.link-flag]
link-flag = "-rdynamic"
[need.no-link-flag]
link-flag = "-Wl,--surely-nothing"
[need.code]
code = "static int twice(int x) { return 2 * x; } int use(void) { return twice(2); }"
[need.no-code]
code = "int broken( { }"
[need.link]
link = "m"
[need.no-link]
link = "surely_nothing"
[need.file]
file = "/etc/passwd"
[need.no-file]
file = "/surely/nowhere"
[need.device]
device = "/dev/null"
[need.no-device]
device = "/etc/passwd"
[need.any]
any-of = ["no-header", "header", "link"]
[need.no-any]
any-of = ["no-header", "no-link"]
[need.all]
all-of = ["header", "any"]
[need.no-all]
all-of = ["header", "no-link", "no-header"]
"#;

#[test]
fn each_kind_is_answered_joined_as_alone_and_a_second_time_by_nobody() {
    let bench = Bench::new(KINDS);
    let (joined, joined_runs) = bench.counted(Joining::Together);
    let other = Bench::new(KINDS);
    let (alone, alone_runs) = other.counted(Joining::Alone);
    for (_, need) in bench.tree.board().needs.iter() {
        let state = bench.state(&joined, &need.name);
        let first = if need.name.starts_with("no-") || need.name == "own-headers-only" { "found" } else { "Absent" };
        assert!(!state.starts_with(first), "{}: {state}", need.name);
        let kind = |state: &str| state.split([' ', '{']).next().unwrap_or_default().to_string();
        assert_eq!(kind(&state), kind(&other.state(&alone, &need.name)), "{}", need.name);
    }
    assert!(joined_runs * 2 < alone_runs, "{joined_runs} runs joined, {alone_runs} alone");
    let (again, runs) = bench.counted(Joining::Together);
    assert_eq!(runs, 0, "a second survey runs nothing");
    for (_, need) in bench.tree.board().needs.iter() {
        assert_eq!(bench.state(&again, &need.name), bench.state(&joined, &need.name));
    }
}
