use std::io::{BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

use tar::{Builder, EntryType, Header};

use super::{AttemptFault, FetchFault, FetchFrom, FetchState, Fetched, GotFrom, UnpackFault};
use crate::base::{FileId, Place, RelPath, Sha256};
use crate::board::{Compression, FetchDef, FetchForm};

/// A server that answers each request as told; it keeps which parts were asked for.
struct Server {
    address: String,
    asked: Arc<Mutex<Vec<Option<u64>>>>,
}

impl Server {
    fn new(answer: impl Fn(&mut TcpStream, Option<u64>, usize) + Send + 'static) -> Server {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let asked: Arc<Mutex<Vec<Option<u64>>>> = Arc::default();
        let seen = Arc::clone(&asked);
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let Ok(mut stream) = stream else { return };
                let mut from = None;
                for line in BufReader::new(&stream).lines().map_while(Result::ok).take_while(|line| !line.is_empty()) {
                    let line = line.to_ascii_lowercase();
                    if let Some(rest) = line.strip_prefix("range: bytes=") {
                        from = rest.trim_end_matches('-').parse().ok();
                    }
                }
                let count = {
                    let mut seen = seen.lock().unwrap();
                    seen.push(from);
                    seen.len()
                };
                answer(&mut stream, from, count);
            }
        });
        Server { address, asked }
    }

    fn asked(&self) -> Vec<Option<u64>> {
        self.asked.lock().unwrap().clone()
    }
}

fn whole(stream: &mut TcpStream, content: &[u8]) {
    // A client that has seen enough goes away.
    let _ = write!(stream, "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n", content.len());
    let _ = stream.write_all(content);
}

fn part(stream: &mut TcpStream, content: &[u8], from: usize, until: usize) {
    let (last, size) = (content.len() - 1, content.len());
    let head = if from == 0 {
        format!("HTTP/1.1 200 OK\r\nContent-Length: {size}\r\n")
    } else {
        format!(
            "HTTP/1.1 206 Partial Content\r\nContent-Range: bytes {from}-{last}/{size}\r\nContent-Length: {}\r\n",
            size - from
        )
    };
    let _ = write!(stream, "{head}Connection: close\r\n\r\n");
    let _ = stream.write_all(&content[from..until]);
}

fn def(content: &[u8], from: &[&str], form: FetchForm) -> FetchDef {
    FetchDef {
        name: "tides".into(),
        summary: String::new(),
        when: None,
        from: from.iter().map(|address| format!("{address}/tides.bin")).collect(),
        size: content.len() as u64,
        sha256: Sha256::of(content),
        into: RelPath::parse("data/tides").unwrap(),
        form,
        folder: None,
        place: Place::new(FileId::new(0), 0..0),
    }
}

fn content() -> Vec<u8> {
    (0..300_000_u32).flat_map(u32::to_le_bytes).collect()
}

struct Bench {
    folder: tempfile::TempDir,
    fetched: Fetched,
}

impl Bench {
    fn new() -> Bench {
        let folder = tempfile::tempdir().unwrap();
        let fetched = Fetched::at(&folder.path().join("fetched"));
        Bench { folder, fetched }
    }

    fn get(&self, def: &FetchDef) -> Result<GotFrom, FetchFault> {
        self.fetched.get(def, &FetchFrom::default(), &mut |_| {})
    }

    fn fault(&self, def: &FetchDef) -> AttemptFault {
        match self.get(def) {
            Err(FetchFault::Nowhere { mut attempts, .. }) => attempts.remove(0).fault,
            other => panic!("{other:?}"),
        }
    }

    /// Everything that is kept.
    fn kept(&self) -> Vec<String> {
        let entries = std::fs::read_dir(self.folder.path().join("fetched")).into_iter().flatten();
        let mut names: Vec<String> = entries.map(|entry| entry.unwrap().file_name().into_string().unwrap()).collect();
        names.sort();
        names
    }
}

#[test]
fn what_is_cut_off_is_gone_on_with() {
    let content = content();
    let sent = content.clone();
    let server = Server::new(move |stream, from, count| {
        let from = usize::try_from(from.unwrap_or(0)).unwrap();
        let until = if count < 4 { from + 200_000 } else { sent.len() };
        part(stream, &sent, from, until);
    });
    let (bench, def) = (Bench::new(), def(&content, &[&server.address], FetchForm::File));
    let origin = bench.get(&def).unwrap();
    assert_eq!(origin, GotFrom::Address(format!("{}/tides.bin", server.address)));
    assert_eq!(server.asked(), [None, Some(200_000), Some(400_000), Some(600_000)]);
    assert_eq!(std::fs::read(bench.fetched.archive(&def)).unwrap(), content);
    assert_eq!(bench.get(&def).unwrap(), GotFrom::Kept);
    assert_eq!(server.asked().len(), 4);
}

#[test]
fn a_server_that_only_sends_all_is_asked_for_all() {
    let content = content();
    let sent = content.clone();
    let server = Server::new(move |stream, _, count| match count {
        1 => part(stream, &sent, 0, 100_000),
        _ => whole(stream, &sent),
    });
    let (bench, def) = (Bench::new(), def(&content, &[&server.address], FetchForm::File));
    bench.get(&def).unwrap();
    assert_eq!(std::fs::read(bench.fetched.archive(&def)).unwrap(), content);
}

#[test]
fn an_address_that_always_begins_anew_and_never_ends_is_left() {
    let content = content();
    let sent = content.clone();
    // Cut off now here, now there.
    let server = Server::new(move |stream, _, count| part(stream, &sent, 0, 100_000 + 50_000 * (count % 2)));
    let (bench, def) = (Bench::new(), def(&content, &[&server.address], FetchForm::File));
    assert!(matches!(bench.fault(&def), AttemptFault::Cut { .. }));
    assert!(server.asked().len() <= 4, "{:?}", server.asked());
}

#[test]
fn what_another_command_began_is_gone_on_with_and_thrown_away_where_it_was_of_another_file() {
    let content = content();
    let sent = content.clone();
    let server = Server::new(move |stream, from, _| {
        let from = usize::try_from(from.unwrap_or(0)).unwrap();
        part(stream, &sent, from, sent.len());
    });
    let (bench, def) = (Bench::new(), def(&content, &[&server.address], FetchForm::File));
    std::fs::create_dir(bench.folder.path().join("fetched")).unwrap();
    std::fs::write(bench.fetched.begun(&def), &content[..5000]).unwrap();
    bench.get(&def).unwrap();
    assert_eq!(server.asked(), [Some(5000)]);
    std::fs::remove_file(bench.fetched.archive(&def)).unwrap();
    std::fs::write(bench.fetched.begun(&def), b"something else").unwrap();
    bench.get(&def).unwrap();
    assert_eq!(server.asked()[1..], [Some(14), None]);
    assert_eq!(std::fs::read(bench.fetched.archive(&def)).unwrap(), content);
}

#[test]
fn wrong_bytes_are_never_kept_and_the_next_address_is_asked() {
    let content = content();
    let mut wrong = content.clone();
    wrong[777] ^= 1;
    let sent = content.clone();
    let spoilt = Server::new(move |stream, _, _| whole(stream, &wrong));
    let good = Server::new(move |stream, _, _| whole(stream, &sent));
    let bench = Bench::new();
    let alone = def(&content, &[&spoilt.address], FetchForm::File);
    assert!(matches!(bench.fault(&alone), AttemptFault::OtherContent(_)));
    assert_eq!(bench.kept(), ["lock"]);
    let both = def(&content, &[&spoilt.address, &good.address], FetchForm::File);
    assert_eq!(bench.get(&both).unwrap(), GotFrom::Address(format!("{}/tides.bin", good.address)));
}

#[test]
fn servers_that_lie_or_do_not_end_are_left() {
    let content = content();
    let endless = Server::new(|stream, _, _| {
        let _ = write!(stream, "HTTP/1.1 200 OK\r\nConnection: close\r\n\r\n");
        while stream.write_all(&[7; 4096]).is_ok() {}
    });
    let size = content.len() as u64;
    let bench = Bench::new();
    assert_eq!(bench.fault(&def(&content, &[&endless.address], FetchForm::File)), AttemptFault::TooLong(size));
    let other = Server::new(|stream, _, _| whole(stream, b"short"));
    let fault = bench.fault(&def(&content, &[&other.address], FetchForm::File));
    assert_eq!(fault, AttemptFault::OtherSize { got: 5, wanted: size });
    let none = Server::new(|stream, _, _| {
        let _ = write!(stream, "HTTP/1.1 404 Not Found\r\nContent-Length: 0\r\nConnection: close\r\n\r\n");
    });
    assert_eq!(bench.fault(&def(&content, &[&none.address], FetchForm::File)), AttemptFault::Status(404));
    let silent = Server::new(|_, _, _| {});
    assert!(matches!(bench.fault(&def(&content, &[&silent.address], FetchForm::File)), AttemptFault::Unreachable(_)));
    let again = Server::new(|stream, _, _| {
        let _ = write!(stream, "HTTP/1.1 206 Partial Content\r\nContent-Range: bytes 9-10/{}\r\n\r\n", 1_200_000);
    });
    assert!(matches!(bench.fault(&def(&content, &[&again.address], FetchForm::File)), AttemptFault::Unreachable(_)));
}

#[test]
fn folders_are_asked_first_and_what_was_got_can_be_carried_away() {
    let content = content();
    let (bench, def) = (Bench::new(), def(&content, &["http://127.0.0.1:9"], FetchForm::File));
    let folder = bench.folder.path().join("carried");
    std::fs::create_dir(&folder).unwrap();
    std::fs::write(folder.join("tides.bin"), &content[1..]).unwrap();
    let sources = FetchFrom { folders: vec![folder.clone()], mirrors: vec![], offline: true };
    let Err(FetchFault::Nowhere { attempts, .. }) = bench.fetched.get(&def, &sources, &mut |_| {}) else { panic!() };
    assert!(matches!(attempts[0].fault, AttemptFault::OtherSize { .. }));
    std::fs::write(folder.join("tides.bin"), &content).unwrap();
    let origin = bench.fetched.get(&def, &sources, &mut |_| {}).unwrap();
    assert_eq!(origin, GotFrom::Folder(folder.join("tides.bin")));
    let away = bench.folder.path().join("away");
    assert_eq!(std::fs::read(bench.fetched.copy_to(&def, &away).unwrap()).unwrap(), content);
    // What was spoilt since is got anew.
    std::fs::remove_file(bench.fetched.archive(&def)).unwrap();
    std::fs::write(bench.fetched.archive(&def), vec![0; content.len()]).unwrap();
    assert_eq!(bench.fetched.get(&def, &sources, &mut |_| {}).unwrap(), origin);
}

/// An archive made by hand, because the crate refuses to make bad ones.
#[derive(Default)]
struct Pack(Vec<u8>);

impl Pack {
    fn entry(mut self, kind: EntryType, name: &str, link: &str, content: &[u8]) -> Pack {
        let mut header = Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o4777);
        header.set_size(content.len() as u64);
        let old = header.as_old_mut();
        old.name[..name.len()].copy_from_slice(name.as_bytes());
        old.linkname[..link.len()].copy_from_slice(link.as_bytes());
        header.set_cksum();
        let mut builder = Builder::new(Vec::new());
        builder.append(&header, content).unwrap();
        let bytes = builder.into_inner().unwrap();
        // Without the two empty blocks that end it.
        self.0.extend_from_slice(&bytes[..bytes.len() - 1024]);
        self
    }

    fn file(self, name: &str, content: &str) -> Pack {
        self.entry(EntryType::Regular, name, "", content.as_bytes())
    }

    fn done(mut self) -> Vec<u8> {
        self.0.extend_from_slice(&[0; 1024]);
        self.0
    }
}

fn unpacked(bench: &Bench, archive: &[u8], form: FetchForm, folder: Option<&str>) -> Result<FetchDef, UnpackFault> {
    let mut def = def(archive, &[], form);
    def.folder = folder.map(|folder| RelPath::parse(folder).unwrap());
    let carried = bench.folder.path().join("carried");
    std::fs::create_dir_all(&carried).unwrap();
    std::fs::write(carried.join(def.sha256.to_string()), archive).unwrap();
    let sources = FetchFrom { folders: vec![carried], ..FetchFrom::default() };
    match bench.fetched.get(&def, &sources, &mut |_| {}) {
        Ok(_) => Ok(def),
        Err(FetchFault::Unpack { fault, .. }) => Err(fault),
        Err(other) => panic!("{other}"),
    }
}

#[test]
fn archives_of_each_form_are_unpacked_once_for_each_digest() {
    use std::os::unix::fs::PermissionsExt;
    let tar = Pack::default()
        .entry(EntryType::Directory, "lib-1/", "", b"")
        .file("lib-1/src/a.c", "int a;\n")
        .entry(EntryType::Symlink, "lib-1/src/b.c", "a.c", b"")
        .entry(EntryType::Symlink, "lib-1/sub/up", "../src", b"")
        .entry(EntryType::Link, "lib-1/c.c", "lib-1/src/a.c", b"")
        .file("notes", "not taken\n")
        .done();
    let gzip = {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        encoder.write_all(&tar).unwrap();
        encoder.finish().unwrap()
    };
    let xz = {
        let mut encoder = liblzma::write::XzEncoder::new(Vec::new(), 1);
        encoder.write_all(&tar).unwrap();
        encoder.finish().unwrap()
    };
    let zstd = zstd::encode_all(&tar[..], 1).unwrap();
    let forms = [(Compression::None, tar), (Compression::Gzip, gzip), (Compression::Xz, xz), (Compression::Zstd, zstd)];
    for (compression, archive) in forms {
        let bench = Bench::new();
        let def = unpacked(&bench, &archive, FetchForm::Tar(compression), Some("lib-1")).unwrap();
        let root = bench.folder.path().join("fetched").join(def.kept_as());
        let text = |name: &str| std::fs::read_to_string(root.join(name)).unwrap();
        assert_eq!(text("src/a.c"), "int a;\n");
        assert_eq!(text("src/b.c"), "int a;\n");
        assert_eq!(text("sub/up/a.c"), "int a;\n");
        assert_eq!(text("c.c"), "int a;\n");
        assert!(!root.join("notes").exists());
        let mode = std::fs::metadata(root.join("src/a.c")).unwrap().permissions().mode();
        assert_eq!(mode & 0o7777, 0o555, "whatever the archive says");
        // Half an archive is none, and leaves nothing. Without compression, half of the files are a whole archive.
        if compression == Compression::None {
            continue;
        }
        let bench = Bench::new();
        let half = &archive[..archive.len() / 2];
        assert!(unpacked(&bench, half, FetchForm::Tar(compression), Some("lib-1")).is_err());
        assert!(bench.kept().iter().all(|name| !name.contains("unpacked") && !name.starts_with(".new")));
    }
}

#[test]
fn archives_that_reach_out_are_refused_and_leave_nothing() {
    let form = FetchForm::Tar(Compression::None);
    let pack = Pack::default;
    let link = EntryType::Symlink;
    let bad = [
        pack().file("../evil", "x"),
        pack().file("a/../../evil", "x"),
        pack().file("/evil", "x"),
        pack().entry(link, "l", "/etc", b""),
        pack().entry(link, "l", "../outside", b""),
        pack().entry(link, "a/l", "../../outside", b""),
        pack().entry(link, "l", "a/../../outside", b""),
        // A link, and a file through it.
        pack().entry(link, "l", "a", b"").file("l/evil", "x"),
        // The second one leads out only because the first one is a link.
        pack().file("x/y/f", "x").entry(link, "d", "x/y", b"").entry(link, "e", "d/../../../outside", b""),
        pack().entry(EntryType::Link, "h", "/etc/passwd", b""),
        pack().entry(EntryType::Link, "h", "../f", b""),
        pack().entry(EntryType::Link, "h", "not-there", b""),
        pack().entry(link, "l", "a", b"").entry(EntryType::Link, "h", "l", b""),
        pack().entry(EntryType::Fifo, "pipe", "", b""),
        pack().entry(EntryType::Char, "null", "", b""),
        pack().entry(EntryType::Block, "disk", "", b""),
    ];
    for (index, archive) in bad.into_iter().enumerate() {
        let bench = Bench::new();
        let fault = unpacked(&bench, &archive.done(), form, None).expect_err("refused");
        assert!(matches!(fault, UnpackFault::Leaves(_) | UnpackFault::Odd(_)), "{index}: {fault:?}");
        assert!(bench.kept().iter().all(|name| !name.contains("unpacked") && !name.starts_with(".new")), "{index}");
        let outside: Vec<_> = std::fs::read_dir(bench.folder.path()).unwrap().collect();
        assert_eq!(outside.len(), 2, "{index}: only what was carried here and what was fetched");
    }
    let bench = Bench::new();
    let fault = unpacked(&bench, &pack().file("lib-2/a", "x").done(), form, Some("lib-1")).expect_err("not in it");
    assert!(fault.to_string().contains("there is no folder `lib-1` in it; it has: lib-2"), "{fault}");
    assert!(unpacked(&bench, b"no archive at all", form, None).is_err());
}

#[test]
fn what_grows_without_end_is_stopped() {
    // Two gibibytes of nothing, in some hundred kilobytes.
    let mut header = Header::new_gnu();
    header.set_entry_type(EntryType::Regular);
    header.set_path("zeros").unwrap();
    header.set_size(2 << 30);
    header.set_cksum();
    let mut encoder = zstd::stream::write::Encoder::new(Vec::new(), 1).unwrap();
    encoder.write_all(header.as_bytes()).unwrap();
    let archive = encoder.finish().unwrap();
    let fault = unpacked(&Bench::new(), &archive, FetchForm::Tar(Compression::Zstd), None).expect_err("stopped");
    assert!(matches!(fault, UnpackFault::TooMuch(_)), "{fault:?}");
}

#[test]
fn what_the_tree_has_is_its_own() {
    let tree = crate::testing::TestTree::new("", &[]);
    let board = tree.board();
    let (bench, def) = (Bench::new(), def(b"x", &["http://127.0.0.1:9"], FetchForm::File));
    assert_eq!(bench.fetched.state(&def, &board.tree), FetchState::Absent);
    std::fs::create_dir_all(bench.folder.path().join("fetched")).unwrap();
    std::fs::write(bench.fetched.begun(&def), "").unwrap();
    assert_eq!(bench.fetched.state(&def, &board.tree), FetchState::Absent);
    let place = tree.root().join("data");
    std::fs::create_dir_all(&place).unwrap();
    std::fs::write(place.join("tides"), "mine").unwrap();
    assert_eq!(bench.fetched.state(&def, &board.tree), FetchState::InTree);
}
