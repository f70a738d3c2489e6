use std::collections::BTreeMap;
use std::io::{PipeReader, PipeWriter, pipe};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;

use super::mirror::Mirror;
use super::serve::{ServeSettings, hold_allocation, serve_worker};
use super::talk::{Answer, Ask, Begin, FORMAT, Hello, Input, Work, announce, find_beginning, receive, send};
use crate::base::Digest;
use crate::launch::{Exit, RealLaunch};
use crate::step::Location;

/// A worker in a thread of this process.
struct Other {
    to: Option<PipeWriter>,
    from: PipeReader,
    hello: Hello,
    thread: JoinHandle<std::io::Result<()>>,
}

fn worker(folder: &Path) -> Other {
    let ((from_us, to), (from, to_us)) = (pipe().expect("a pipe"), pipe().expect("a pipe"));
    let settings =
        ServeSettings { folder: folder.into(), host: "fog".into(), cores: 2, processor: Digest::of(b"a processor") };
    let thread = std::thread::spawn(move || serve_worker(from_us, to_us, &settings, &Arc::new(RealLaunch::default())));
    let mut other = Other { to: Some(to), from, hello: empty_hello(), thread };
    find_beginning(&mut other.from).expect("it begins");
    match receive(&mut other.from).expect("a word") {
        Answer::Hello(hello) => other.hello = hello,
        other => panic!("{other:?}"),
    }
    other.say(&Ask::Begin(Begin { format: FORMAT, program: env!("CARGO_PKG_VERSION").into(), jobs: Some(1) }));
    other
}

fn empty_hello() -> Hello {
    Hello {
        format: 0,
        program: String::new(),
        host: String::new(),
        cores: 0,
        processor: Digest::default(),
        tree: PathBuf::new(),
        build: PathBuf::new(),
    }
}

impl Other {
    fn say(&mut self, ask: &Ask) {
        send(self.to.as_mut().expect("open"), ask).expect("said");
    }

    /// The next word that is more than a beat.
    fn hear(&mut self) -> Answer {
        loop {
            match receive(&mut self.from).expect("a word") {
                Answer::Beat => {}
                answer => return answer,
            }
        }
    }

    fn aside(&self, number: usize) -> PathBuf {
        self.hello.build.join("aside").join(number.to_string())
    }

    /// A step that runs a line of a shell.
    fn line(&self, number: u64, line: &str, inputs: Vec<Input>) -> Ask {
        let aside = self.aside(0);
        let work = Work {
            program: "/bin/sh".into(),
            arguments: vec!["-c".into(), line.replace("OUT", &aside.join("out").display().to_string())],
            environment: BTreeMap::from([("PATH".into(), "/usr/bin:/bin".into())]),
            folders: vec!["tree:include".into()],
            makes: vec![aside.join("out")],
            lists: [None, None],
            aside,
        };
        Ask::Work { number, inputs, work: Box::new(work) }
    }
}

fn input(at: &str, content: &[u8]) -> Input {
    Input { at: at.into(), content: Digest::of(content), modified: (1_000_000_000, 5), file: None }
}

#[test]
fn messages_come_as_they_were_sent_or_not_at_all() {
    let long = Ask::Content(b"lamp ".repeat(5000));
    let mut bytes = Vec::new();
    send(&mut bytes, &long).expect("sent");
    assert!(bytes.len() < 2000, "a long one is packed: {}", bytes.len());
    send(&mut bytes, &Ask::Beat).expect("sent");
    let mut from = &bytes[..];
    assert!(matches!(receive(&mut from).expect("whole"), Ask::Content(text) if text.len() == 25_000));
    assert!(matches!(receive(&mut from).expect("whole"), Ask::Beat));
    assert!(receive::<Ask>(&mut from).is_err(), "there is no more");
    for cut in 0..bytes.len() - 20 {
        assert!(receive::<Ask>(&mut &bytes[..cut]).is_err(), "cut off after {cut} bytes");
    }
    for at in 0..40 {
        let mut changed = bytes.clone();
        changed[at] ^= 0x41;
        assert!(receive::<Ask>(&mut &changed[..]).is_err(), "changed at {at}");
    }
    let mut greeted = b"Welcome to the lighthouse.\n".to_vec();
    announce(&mut greeted).expect("written");
    greeted.push(7);
    let mut from = &greeted[..];
    find_beginning(&mut from).expect("found");
    assert_eq!(from, [7]);
    assert!(find_beginning(&mut &vec![b'x'; 100_000][..]).is_err());
}

#[test]
fn a_worker_asks_for_what_it_lacks_once_and_runs_a_step_when_it_has_all() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut other = worker(folder.path());
    assert_eq!((other.hello.host.as_str(), other.hello.cores), ("fog", 2));
    let inputs = vec![input("tree:a/one.txt", b"one"), input("made:two.txt", b"two"), input("tree:same.txt", b"one")];
    let made = other.hello.build.join("made/two.txt").display().to_string();
    let line = format!("cat a/one.txt {made} same.txt > OUT; test -d include && echo seen >&2");
    other.say(&other.line(7, &line, inputs.clone()));
    let Answer::Wants { number: 7, mut contents } = other.hear() else { panic!("it wants contents") };
    let mut wanted = vec![Digest::of(b"one"), Digest::of(b"two")];
    wanted.sort();
    contents.sort();
    assert_eq!(contents, wanted, "each once");
    other.say(&Ask::Content(b"one".to_vec()));
    other.say(&Ask::Content(b"two".to_vec()));
    let Answer::Done { number: 7, done: Ok(done) } = other.hear() else { panic!("it is done") };
    assert_eq!((done.exit, done.stderr.as_slice()), (Exit::Code(0), &b"seen\n"[..]));
    assert_eq!(done.made[0].content, b"onetwoone");
    // It keeps what it was sent, also for later ones.
    other.say(&other.line(8, "cat a/one.txt > OUT", inputs.clone()));
    assert!(matches!(other.hear(), Answer::Done { number: 8, done: Ok(_) }));
    other.say(&other.line(9, "cat a/one.txt > OUT; exit 3", vec![]));
    let Answer::Done { done: Ok(done), .. } = other.hear() else { panic!("it is done") };
    assert_eq!((done.exit, done.made.len()), (Exit::Code(3), 0), "a step that fails hands nothing over");
    other.say(&Ask::End);
    other.thread.join().expect("no panic").expect("well");
    assert_eq!(std::fs::read_dir(folder.path().join("runs")).expect("there").count(), 0);
    // The next one finds what was kept.
    let mut next = worker(folder.path());
    next.say(&next.line(1, "cat a/one.txt > OUT", inputs));
    assert!(matches!(next.hear(), Answer::Done { number: 1, done: Ok(_) }));
    // Nobody listens any more.
    drop(next.to.take());
    next.thread.join().expect("no panic").expect("well");
}

#[test]
fn what_is_gone_or_spoilt_by_then_is_asked_for_again() {
    let folder = tempfile::tempdir().expect("a folder");
    let inputs = vec![input("tree:one.txt", b"one"), input("tree:two.txt", b"two")];
    let kept = |content: &[u8]| {
        let name = Digest::of(content).to_string();
        folder.path().join("contents").join(&name[..2]).join(&name[2..])
    };
    let mut other = worker(folder.path());
    let wants = |other: &mut Other, wanted: &[u8]| {
        let Answer::Wants { contents, .. } = other.hear() else { panic!("it wants contents") };
        assert_eq!(contents, [Digest::of(wanted)]);
    };
    let done = |other: &mut Other, number: u64| match other.hear() {
        Answer::Done { number: of, done: Ok(done) } => {
            assert_eq!((of, &done.made[0].content[..]), (number, &b"onetwo"[..]))
        }
        answer => panic!("{answer:?}"),
    };
    let line = "cat one.txt two.txt > OUT";
    // One is there when the step comes, and taken away by another worker while the other one is on its way.
    std::fs::create_dir_all(kept(b"one").parent().expect("a folder")).expect("made");
    std::fs::write(kept(b"one"), "one").expect("written");
    other.say(&other.line(1, line, inputs.clone()));
    wants(&mut other, b"two");
    std::fs::remove_file(kept(b"one")).expect("removed");
    other.say(&Ask::Content(b"two".to_vec()));
    wants(&mut other, b"one");
    other.say(&Ask::Content(b"one".to_vec()));
    done(&mut other, 1);
    drop(other.to.take());
    other.thread.join().expect("no panic").expect("well");
    // One is not what it says.
    std::fs::write(kept(b"one"), "sand").expect("written");
    let mut next = worker(folder.path());
    next.say(&next.line(2, line, inputs));
    wants(&mut next, b"one");
    next.say(&Ask::Content(b"one".to_vec()));
    done(&mut next, 2);
    drop(next.to.take());
    next.thread.join().expect("no panic").expect("well");
}

#[test]
fn a_worker_writes_nowhere_but_below_its_own_folder() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut other = worker(folder.path());
    let outside = folder.path().join("outside");
    std::fs::write(&outside, "of others").expect("written");
    for place in [outside.clone(), other.aside(0).join("../../../../../outside"), other.hello.build.join("aside")] {
        let Ask::Work { number, inputs, mut work } = other.line(3, "echo x > OUT", vec![]) else { panic!("a step") };
        work.makes = vec![place.clone()];
        other.say(&Ask::Work { number, inputs, work });
        let Answer::Done { done: Err(why), .. } = other.hear() else { panic!("{} is refused", place.display()) };
        assert!(why.contains("is no place for a result"), "{why}");
    }
    assert_eq!(std::fs::read_to_string(&outside).expect("there"), "of others", "it is not removed either");
    // A place for a file that is none of the tree's ends it: whoever asks for that is no build of ours.
    other.say(&other.line(4, "true", vec![input("system:/tmp/x", b"x")]));
    let Answer::Wants { .. } = other.hear() else { panic!("it wants it") };
    other.say(&Ask::Content(b"x".to_vec()));
    let ended = other.thread.join().expect("no panic");
    assert!(ended.expect_err("refused").to_string().contains("no place for a file of a build"));
}

#[test]
fn a_worker_tells_what_is_otherwise_there() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut other = worker(&folder.path().join("kept"));
    let file = folder.path().join("lamp.h");
    std::fs::write(&file, "lamp").expect("written");
    let look = |content: &[u8]| (Location::System(file.clone()).kept(), Digest::of(content));
    let absent = |name: &str| vec![folder.path().join(name)];
    for (case, looks, absent, want) in [
        ("all is as there", vec![look(b"lamp")], absent("fog.h"), None),
        ("another content", vec![look(b"fog")], absent("fog.h"), Some("lamp.h")),
        ("it is not there", vec![("system:/nowhere/sea.h".into(), Digest::of(b"sea"))], vec![], Some("/nowhere/sea.h")),
        ("something lies there", vec![look(b"lamp")], absent("lamp.h"), Some("lamp.h")),
        ("no look at all", vec![("nothing".into(), Digest::of(b""))], vec![], Some("nothing")),
    ] {
        other.say(&Ask::Holds { number: 5, looks, absent });
        let Answer::Holds { number: 5, differs } = other.hear() else { panic!("an answer") };
        match want {
            None => assert_eq!(differs, None, "{case}"),
            Some(want) => assert!(differs.as_deref().is_some_and(|told| told.ends_with(want)), "{case}: {differs:?}"),
        }
    }
    other.say(&Ask::End);
    other.thread.join().expect("no panic").expect("well");
}

#[test]
fn files_lie_there_with_their_times_and_names() {
    let folder = tempfile::tempdir().expect("a folder");
    let mut mirror = Mirror::open(folder.path(), "fog").expect("opened");
    let named = |at: &str, content: &[u8], file| Input { file: Some(file), ..input(at, content) };
    for content in [&b"once"[..], b"other"] {
        mirror.keep(content).expect("kept");
    }
    let inputs = [
        named("tree:a.h", b"once", (1, 2)),
        named("tree:deep/b.h", b"once", (1, 2)),
        named("tree:c.h", b"once", (1, 3)),
    ];
    assert_eq!(mirror.missing(&inputs), []);
    mirror.lay_out(&inputs).expect("laid out");
    let status = |name: &str| std::fs::metadata(mirror.folders.tree.join(name)).expect("there");
    assert_eq!((status("a.h").mtime(), status("a.h").mtime_nsec()), (1_000_000_000, 5));
    assert_eq!(status("a.h").ino(), status("deep/b.h").ino(), "one file of two names");
    assert_ne!(status("a.h").ino(), status("c.h").ino(), "another file that says the same");
    assert!(!mirror.would_change(&inputs));
    let changed = [named("tree:a.h", b"other", (1, 2))];
    assert!(mirror.would_change(&changed));
    mirror.lay_out(&changed).expect("laid out");
    let text = |name: &str| std::fs::read_to_string(mirror.folders.tree.join(name)).expect("there");
    assert_eq!((text("a.h").as_str(), text("deep/b.h").as_str()), ("other", "once"), "only what was named");
    // What was spoilt there is asked for again.
    let kept = folder.path().join("contents");
    let place = std::fs::read_dir(kept).expect("there").map(|one| one.expect("one").path());
    let files = place.flat_map(|place| std::fs::read_dir(place).expect("there").map(|one| one.expect("one").path()));
    files.for_each(|file| std::fs::write(file, "spoilt").expect("written"));
    let fresh = [named("tree:d.h", b"once", (1, 9))];
    let told = mirror.lay_out(&fresh).expect_err("spoilt").to_string();
    assert!(told.contains("spoilt"), "{told}");
    assert_eq!(mirror.missing(&fresh), [Digest::of(b"once")]);
}

#[test]
fn what_killed_workers_left_is_cleared_and_what_others_can_write_is_not_used() {
    let folder = tempfile::tempdir().expect("a folder");
    let gone = Mirror::open(folder.path(), "fog").expect("opened");
    let own = gone.folders.tree.parent().expect("a folder").file_name().expect("a name").to_string_lossy().into_owned();
    drop(gone);
    let elsewhere = Mirror::open(folder.path(), "lamp").expect("opened");
    let of_other = elsewhere.folders.tree.parent().expect("a folder").join("lock");
    // Its lock cannot be seen from here.
    std::fs::remove_file(&of_other).expect("removed");
    std::fs::write(&of_other, "").expect("written");
    let left =
        folder.path().join("runs").join(format!("{}left", own.rsplit_once('-').expect("parts").0.to_string() + "-"));
    std::fs::create_dir_all(&left).expect("made");
    std::fs::write(left.join("lock"), "").expect("written");
    let first = Mirror::open(folder.path(), "fog").expect("opened");
    assert!(!left.exists(), "nobody holds it");
    assert!(elsewhere.folders.tree.is_dir(), "what another machine has is not cleared here");
    let second = Mirror::open(folder.path(), "fog").expect("opened");
    assert!(first.folders.tree.is_dir() && second.folders.tree.is_dir(), "two at once");
    let odd = folder.path().join("a b");
    assert!(Mirror::open(&odd, "fog").expect_err("odd").to_string().contains("characters"));
    let open = folder.path().join("open");
    std::fs::create_dir(&open).expect("made");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o777);
    std::fs::set_permissions(&open, mode).expect("mode set");
    assert!(Mirror::open(&open, "fog").expect_err("open").to_string().contains("others can write"));
}

#[test]
fn an_allocation_is_held_as_long_as_somebody_listens() {
    let ((from, to), mut said) = (pipe().expect("a pipe"), Vec::new());
    drop(to);
    hold_allocation(from, &mut said, "42").expect("held");
    assert_eq!(said, b"42\n");
}
