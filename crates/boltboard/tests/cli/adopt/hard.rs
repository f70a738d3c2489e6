//! Builds that are hard to watch: no compile is lost, and what cannot be watched is told.

use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use super::Yard;
use crate::harness::Scratch;

/// Becomes another program from a thread of its own.
const THREAD: &str = r"
#include <pthread.h>
#include <unistd.h>
static void *run(void *words) { execvp(((char **)words)[0], words); return 0; }
int main(int count, char **words)
{
    pthread_t thread;
    (void)count;
    pthread_create(&thread, 0, run, words + 1);
    pthread_join(thread, 0);
    return 1;
}
";

fn yard(build: &str) -> Yard {
    let scratch = Scratch::new();
    scratch.write("mole/build.sh", build);
    for name in ["a", "b", "c", "d", "e", "f"] {
        scratch.write(&format!("mole/{name}.c"), &format!("int {name}(void) {{ return 1; }}\n"));
    }
    scratch.write("mole/main.c", "int main(void) { return 0; }\n");
    Yard { scratch, name: "mole" }
}

#[test]
fn threads_static_programs_and_long_commands_are_followed() {
    let yard = yard(
        "set -e\nmkdir -p out\n../thread cc -c a.c -o out/a.o\n../still cc -c main.c -o out/main.o\n/bin/true $(seq 1 60000)\nenv -i PATH=\"$PATH\" sh -c 'exec cc -o out/mole out/main.o out/a.o'\n",
    );
    yard.scratch.write("thread.c", THREAD);
    let compile = |words: &[&str]| {
        Command::new("cc").args(words).current_dir(yard.scratch.path()).stderr(Stdio::null()).status().expect("cc runs")
    };
    assert!(compile(&["-pthread", "thread.c", "-o", "thread"]).success());
    // Where there is no C library for it, the other one stands in.
    if !compile(&["-static", "-pthread", "thread.c", "-o", "still"]).success() {
        assert!(compile(&["-pthread", "thread.c", "-o", "still"]).success());
    }
    yard.watched().code(0).says(&["2 compiles", "1 link or archive"]);
    yard.run(&["adopt", "draw"]).code(0);
    yard.run(&["adopt", "prove"]).code(0).says(&["All 2 objects are the same"]);
}

#[test]
fn no_compile_is_lost_when_everything_runs_at_once() {
    let yard = yard(
        "mkdir -p out\nfor f in a b c d e f main; do (cc -c $f.c -o out/$f.o; cc -E $f.c > out/$f.i) & done\n(seq 1 20000 | sort -R | sort -n > /dev/null) &\nwait\ncc -o out/mole out/*.o\n",
    );
    for _ in 0..10 {
        yard.watched().code(0).says(&["7 compiles", "1 link or archive"]);
        std::fs::remove_dir_all(yard.tree().join("out")).expect("removed");
    }
}

#[test]
fn a_watch_that_is_killed_leaves_nothing_half_kept_and_nothing_running() {
    let yard = yard("mkdir -p out\ncc -c a.c -o out/a.o\necho $$ > out/pid\nexec sleep 600\n");
    let mut command = yard.scratch.command("");
    command.args(["adopt", "watch", "--", "sh", "build.sh"]).current_dir(yard.tree());
    let mut watch = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
    let until = Instant::now() + Duration::from_secs(60);
    let pid = loop {
        let told = std::fs::read_to_string(yard.tree().join("out/pid")).unwrap_or_default();
        if let Ok(pid) = told.trim().parse::<u32>() {
            break pid;
        }
        assert!(Instant::now() < until, "the build does not begin");
        std::thread::sleep(Duration::from_millis(20));
    };
    watch.kill().expect("killed");
    watch.wait().expect("it ended");
    let runs = || std::fs::read_to_string(format!("/proc/{pid}/cmdline")).is_ok_and(|words| words.contains("sleep"));
    while runs() {
        assert!(Instant::now() < until, "the build goes on without its watch");
        std::thread::sleep(Duration::from_millis(20));
    }
    yard.run(&["adopt", "seen"]).code(2).complains(&["no build called `build` was watched"]);
}

#[test]
fn signals_that_cannot_be_watched_are_told() {
    let yard = yard("mkdir -p out\ncc -c a.c -o out/a.o\ntrap : 40 2>/dev/null\nkill -40 $$\ncc -c b.c -o out/b.o\n");
    let told = yard.watched();
    told.says(&["Not all of it was seen"]);
}

#[test]
fn a_compile_that_a_cache_answers_is_known_by_its_words() {
    let yard = yard(
        "set -e\nmkdir -p out\n./cached cc -O1 -DSET -c a.c -o out/a.o\n./cached cc -O1 -c main.c -o out/main.o\ncc -o out/mole out/main.o out/a.o\n",
    );
    // It keeps what the compiler made, by the words.
    yard.scratch.script(
        "mole/cached",
        "for last; do :; done\nkept=../cache$(echo \"$@\" | tr -c a-zA-Z0-9.- _)\ntest -e $kept || { \"$@\"; cp $last $kept; exit; }\ncp $kept $last",
    );
    yard.watched().code(0).says(&["2 compiles"]);
    std::fs::remove_dir_all(yard.tree().join("out")).expect("removed");
    yard.watched().code(0).says(&["2 compiles"]);
    yard.run(&["adopt", "seen"]).code(0).says(&["no compiler ran for it", "cache"]);
    yard.run(&["adopt", "draw"]).code(0);
    yard.run(&["adopt", "prove"]).code(0).says(&["All 2 objects are the same"]);
}

/// Copies a file with calls of a processor of 32 bits, and needs no library for it.
#[cfg(target_arch = "x86_64")]
const NARROW: &str = r#"
static long call(long n, long a, long b, long c)
{
    long r;
    __asm__ volatile("int $0x80" : "=a"(r) : "a"(n), "b"(a), "c"(b), "d"(c) : "memory");
    return r;
}
void _start(void)
{
    char text[64];
    long from = call(5, (long)"a.c", 0, 0);
    long n = call(3, from, (long)text, 64);
    long to = call(5, (long)"copied.c", 01101, 0644);
    call(4, to, (long)text, n);
    call(1, 0, 0, 0);
}
"#;

#[test]
#[cfg(target_arch = "x86_64")]
fn a_program_of_another_architecture_runs_and_what_it_hides_is_told() {
    let yard = yard(
        "set -e\nmkdir -p out\n../narrow\ncc -c copied.c -o out/copied.o\ncc -c main.c -o out/main.o\ncc -o out/mole out/*.o\n",
    );
    yard.scratch.write("narrow.c", NARROW);
    let words = ["-m32", "-nostdlib", "-static", "-ffreestanding", "-fno-pie", "-no-pie", "-fno-stack-protector"];
    let mut compile = Command::new("cc");
    compile.args(words).args(["narrow.c", "-o", "narrow"]).current_dir(yard.scratch.path());
    let made = compile.stderr(Stdio::null()).status().expect("cc runs").success();
    let ran = made.then(|| Command::new(yard.scratch.at("narrow")).current_dir(yard.tree()).status());
    if !ran.is_some_and(|ran| ran.is_ok_and(|status| status.success())) {
        // Neither this compiler nor this kernel has to know of such programs.
        return;
    }
    std::fs::remove_file(yard.tree().join("copied.c")).expect("it copied");
    yard.watched().code(0).says(&["2 compiles", "one of its programs is made for another architecture"]);
    assert!(yard.tree().join("copied.c").is_file(), "it ran as it would unwatched");
    yard.run(&["adopt", "seen"]).code(0).says(&["made for another architecture"]);
}
