//! The wait of somebody who surveys a host for the first time, and of everybody after: 200 checks in a mix as trees have them,
//! joined into few runs of the compiler, against the same checks with a run of the compiler each; then the same survey again,
//! with its memo read from disk, against the bare status look-ups of the files that its answers depend on. Both sides use the
//! same number of jobs. Prints the ratios.
//!
//! `cargo build --release --workspace && target/release/boltboard-bench asks`

use std::error::Error;
use std::fmt::Write as _;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use boltboard_core::board::Machine;
use boltboard_core::definitions::{Outside, read_tree};
use boltboard_core::launch::{Job, Launch, LaunchError, Outcome, RealLaunch};
use boltboard_core::survey::{
    CompilerFault, CompilerSearch, Compilers, Facts, Host, Joining, Language, ProbeMemo, Prober, Tools, Wishes,
    identify, kept_facts, survey,
};

type Result<T> = std::result::Result<T, Box<dyn Error>>;

const HEADERS: &str = "stdio.h stdlib.h string.h strings.h unistd.h fcntl.h errno.h signal.h time.h math.h limits.h float.h \
    locale.h wchar.h wctype.h ctype.h assert.h setjmp.h stdarg.h stddef.h stdint.h inttypes.h sys/types.h sys/stat.h sys/time.h \
    sys/socket.h sys/wait.h sys/mman.h sys/ioctl.h sys/select.h sys/resource.h sys/uio.h sys/un.h netinet/in.h netinet/tcp.h \
    arpa/inet.h netdb.h poll.h pthread.h semaphore.h dlfcn.h dirent.h pwd.h grp.h termios.h utime.h syslog.h sched.h regex.h \
    glob.h sys/sysctl.h sys/loadavg.h sys/procset.h ndir.h sys/mkdev.h port.h sys/event.h mach/mach.h windows.h conio.h sys/statvfs.h";
const FUNCTIONS: &str = "fork mmap munmap socket select poll epoll_create1 pipe2 accept4 dup3 openat fstatat unlinkat renameat \
    getrandom getentropy clock_gettime nanosleep posix_memalign strlcpy strlcat arc4random explicit_bzero memmem memrchr \
    strchrnul strndup strsignal vasprintf getline fmemopen open_memstream fdopendir sendmmsg recvmmsg inotify_init1 timerfd_create \
    eventfd signalfd memfd_create copy_file_range kqueue port_create pledge unveil setproctitle getpeereid issetugid \
    pthread_create";
const IN_HEADERS: &str = "stdio.h:printf stdlib.h:realpath string.h:strerror_r unistd.h:getpid time.h:gmtime_r stdlib.h:abs \
    sys/stat.h:fstat sys/socket.h:recvmsg signal.h:sigaction stdlib.h:reallocarray";
const TYPES: &str = "time.h:struct tm|sys/stat.h:struct stat|stdint.h:uint64_t|sys/types.h:ssize_t|sys/socket.h:socklen_t|\
    sys/socket.h:struct sockaddr_storage|netinet/in.h:struct in6_addr|stdint.h:__int24_t|time.h:struct timespec|\
    sys/types.h:off64_t|signal.h:sigset_t|sys/resource.h:struct rusage|sys/stat.h:struct stat64x|locale.h:locale_x|\
    termios.h:struct termios|pthread.h:pthread_spinlock_t|stddef.h:max_align_t|sys/un.h:struct sockaddr_un|\
    poll.h:struct pollfd|wchar.h:mbstate_t";
const MEMBERS: &str = "time.h:struct tm.tm_gmtoff|time.h:struct tm.tm_zone|sys/stat.h:struct stat.st_mtim|\
    sys/stat.h:struct stat.st_mtimespec|sys/stat.h:struct stat.st_blksize|sys/stat.h:struct stat.st_birthtime|\
    dirent.h:struct dirent.d_type|sys/socket.h:struct sockaddr.sa_len|pwd.h:struct passwd.pw_gecos|\
    sys/un.h:struct sockaddr_un.sun_len";
const MACROS: &str = "fcntl.h:O_CLOEXEC fcntl.h:O_DIRECT fcntl.h:O_EXLOCK sys/socket.h:SO_REUSEPORT sys/socket.h:SO_NOSIGPIPE \
    sys/mman.h:MAP_ANONYMOUS sys/mman.h:MAP_HUGETLB signal.h:SA_RESTART limits.h:PATH_MAX limits.h:IOV_MAX";
const SIZES: &str = "int|long|long long|void *|size_t";
const FLAGS: &str = "-Wall -Wextra -Wshadow -Wno-unused-parameter -fno-strict-aliasing -fstack-protector-strong -fvisibility=hidden \
    -fno-common -fno-plt -ffast-math -funroll-loops -fwrapv -fno-omit-frame-pointer -mno-such-thing -fno-such-thing \
    -Wno-such-thing -fzero-init-everything -Wmost-of-all -O2 -g3";
const LINK_FLAGS: &str = "-Wl,--as-needed -Wl,-z,relro -Wl,-z,now -Wl,--no-such-thing -rdynamic";
const LIBRARIES: &str = "m dl pthread rt util c resolv crypt nosuchlib1 nosuchlib2";

/// Writes the board of 200 checks.
fn board() -> String {
    let mut text = String::from("format = 1\n[tree]\nname = \"asks\"\nversion = \"1\"\n");
    let mut count = 0;
    let mut add = |line: String| {
        count += 1;
        let _ = write!(text, "[need.n{count}]\n{line}\n");
    };
    HEADERS.split_whitespace().for_each(|header| add(format!("header = \"{header}\"")));
    FUNCTIONS.split_whitespace().for_each(|name| add(format!("function = \"{name}\"")));
    let pairs = |list: &str, parted: char, key: &str| -> Vec<String> {
        let one = |pair: &str| {
            let (header, thing) = pair.trim().split_once(':').unwrap_or_default();
            format!("header = \"{header}\"\n{key} = \"{thing}\"")
        };
        list.split(parted).filter(|pair| !pair.trim().is_empty()).map(one).collect()
    };
    pairs(IN_HEADERS, ' ', "function").into_iter().for_each(&mut add);
    pairs(TYPES, '|', "type").into_iter().for_each(&mut add);
    pairs(MEMBERS, '|', "member").into_iter().for_each(&mut add);
    pairs(MACROS, ' ', "macro").into_iter().for_each(&mut add);
    SIZES.split('|').for_each(|of| {
        let header = if of == "size_t" { "header = \"stddef.h\"\n" } else { "" };
        add(format!("{header}size = {{ of = \"{of}\", value = \">= 4\" }}"));
    });
    FLAGS.split_whitespace().for_each(|flag| add(format!("flag = \"{flag}\"")));
    LINK_FLAGS.split_whitespace().for_each(|flag| add(format!("link-flag = \"{flag}\"")));
    LIBRARIES.split_whitespace().for_each(|name| add(format!("link = \"{name}\"")));
    text
}

/// Counts what it starts.
struct Counting {
    inner: RealLaunch,
    started: AtomicUsize,
}

impl Launch for Counting {
    fn run(&self, job: &Job) -> std::result::Result<Outcome, LaunchError> {
        self.started.fetch_add(1, Ordering::Relaxed);
        self.inner.run(job)
    }
}

pub fn measured(_: &[String]) -> Result<()> {
    let folder = tempfile::tempdir()?;
    std::fs::write(folder.path().join("boltboard.toml"), board())?;
    let reading = read_tree(folder.path(), None, &Outside::default());
    for problem in &reading.problems {
        eprintln!("{}", problem.fault);
    }
    let board = reading.board.ok_or("the board of checks is wrong")?;
    let search_path = std::env::var("PATH")?;
    let launch = Counting { inner: RealLaunch::default(), started: AtomicUsize::new(0) };
    let who = ProbeMemo::default();
    let nothing = std::collections::BTreeMap::new();
    let search = CompilerSearch {
        search_path: &search_path,
        sysroot: None,
        never_below: &[],
        environment: &nothing,
        launch: &launch,
        memo: &who,
    };
    let c = identify("cc", Language::C, search)?;
    println!("{} checks with {}", board.needs.len(), c.short_version());
    let tools = Tools {
        target: Compilers {
            c: Ok(c),
            cxx: Err(CompilerFault::Absent { name: "c++".into() }),
            fortran: Err(CompilerFault::Absent { name: "gfortran".into() }),
        },
        host: None,
        environment: Default::default(),
        search_path: search_path.clone(),
        variables: Default::default(),
        epoch: Default::default(),
        processor: Default::default(),
    };
    let jobs = std::thread::available_parallelism().map_or(1, usize::from);
    let one = |joining: Joining, memo: &ProbeMemo| -> Result<(Duration, usize, Facts)> {
        let mut host = Host {
            search_path: search_path.clone(),
            environment: Default::default(),
            metadata_folders: Vec::new(),
            sysroot: None,
            aside: "/opt".into(),
            never_below: Vec::new(),
            scratch: std::path::PathBuf::new(),
            jobs,
        };
        let before = launch.started.load(Ordering::Relaxed);
        let started = Instant::now();
        let wishes = Wishes::default();
        let prober = Prober {
            host: &host,
            own_host: &host,
            machine: Machine::Target,
            tools: &tools,
            launch: &launch,
            memo,
            joining,
        };
        if let Some(facts) = kept_facts(&board, &wishes, prober) {
            return Ok((started.elapsed(), 0, facts));
        }
        let scratch = tempfile::tempdir()?;
        host.scratch = scratch.path().to_path_buf();
        let facts = survey(
            &board,
            &wishes,
            Prober {
                host: &host,
                own_host: &host,
                machine: Machine::Target,
                tools: &tools,
                launch: &launch,
                memo,
                joining,
            },
        );
        Ok((started.elapsed(), launch.started.load(Ordering::Relaxed) - before, facts))
    };
    let (mut joined, mut alone) = (Vec::new(), Vec::new());
    let mut memo = ProbeMemo::default();
    for _ in 0..3 {
        let (time, alone_runs, apart) = one(Joining::Alone, &ProbeMemo::default())?;
        alone.push(time);
        memo = ProbeMemo::default();
        let (time, joined_runs, together) = one(Joining::Together, &memo)?;
        joined.push(time);
        let differ = apart.iter().zip(together.iter()).filter(|(a, b)| a.is_met() != b.is_met());
        let differ: Vec<String> = differ.map(|(a, _)| format!("{:?}", board.needs[a.need].check)).collect();
        let met = together.iter().filter(|fact| fact.is_met()).count();
        println!(
            "alone {alone_runs} runs, joined {joined_runs} runs; {met} met; verdicts that differ: {}",
            differ.len()
        );
        differ.iter().for_each(|check| println!("  {check}"));
    }
    let (alone, joined) = (median(&mut alone), median(&mut joined));
    println!("alone {alone:?}, joined {joined:?}: joined ÷ alone = {:.3}", joined.as_secs_f64() / alone.as_secs_f64());

    let kept = folder.path().join("probes.json");
    memo.save(&kept)?;
    let places = memo.places();
    let (mut again, mut bare, mut loads) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..21 {
        let started = Instant::now();
        let there = places.iter().filter(|place| std::fs::metadata(place).is_ok()).count();
        bare.push(started.elapsed());
        std::hint::black_box(there);
        let started = Instant::now();
        let memo = ProbeMemo::load(&kept);
        loads.push(started.elapsed());
        let (_, runs, facts) = one(Joining::Together, &memo)?;
        again.push(started.elapsed());
        std::hint::black_box(facts);
        if runs > 0 {
            return Err(format!("the second survey ran {runs} processes").into());
        }
    }
    let (again, bare, load) = (median(&mut again), median(&mut bare), median(&mut loads));
    println!(
        "again {again:?} ({load:?} of it to read the memo), {} bare status look-ups {bare:?}: again ÷ bare = {:.2}",
        places.len(),
        again.as_secs_f64() / bare.as_secs_f64()
    );
    Ok(())
}

fn median(times: &mut [Duration]) -> Duration {
    times.sort();
    times[times.len() / 2]
}
