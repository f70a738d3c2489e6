//! Getting bytes: from a file, or over HTTP (RFC 9110), going on where it was cut off.

use std::fs::File;
use std::io::{Read, Write};
use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError, SyncSender, sync_channel};
use std::time::Duration;

use ureq::Agent;

use crate::base::files::remove_file;
use crate::base::{FileError, Sha256, web};
use crate::board::FetchDef;

/// How long a server may take to answer a connection.
const CONNECT: Duration = Duration::from_secs(15);
/// How long nothing may come.
const IDLE: Duration = Duration::from_secs(30);
/// How often in a row an address may give nothing.
const FRUITLESS: usize = 2;
/// How many bytes are handed on at once.
const PIECE: usize = 1 << 16;

/// What is told while something is got.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FetchProgress {
    /// So many bytes of it are there.
    Bytes(u64),
    /// It is there and is unpacked.
    Unpacking,
}

/// Something that was tried.
#[derive(Debug)]
pub struct Attempt {
    /// A file or an address.
    pub from: String,
    /// Why that gave nothing.
    pub fault: AttemptFault,
}

/// Why a file or an address gave nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AttemptFault {
    /// There is no such file.
    #[error("not there")]
    Absent,
    /// It cannot be read or reached.
    #[error("{0}")]
    Unreachable(String),
    /// The server answered with something else.
    #[error("the server answers {0}")]
    Status(u16),
    /// It ended too early, also when it was gone on with.
    #[error("it was cut off after {got} of {wanted} bytes")]
    Cut {
        /// How much is there.
        got: u64,
        /// How much was wanted.
        wanted: u64,
    },
    /// Nothing came for a while.
    #[error("nothing came for {} s, after {got} bytes", IDLE.as_secs())]
    Stalled {
        /// How much is there.
        got: u64,
    },
    /// It has another size.
    #[error("it has {got} bytes there, and {wanted} are wanted")]
    OtherSize {
        /// Its size.
        got: u64,
        /// The size of the definition.
        wanted: u64,
    },
    /// It does not end where it should.
    #[error("it has more than the {0} bytes that are wanted")]
    TooLong(u64),
    /// Its content is another one.
    #[error("its content is another one: its SHA-256 digest is {0}")]
    OtherContent(String),
}

/// Takes a file of this machine. The outer error is one of our own places.
pub(super) fn from_file(file: &Path, fetch: &FetchDef, begun: &Path) -> Result<Result<(), AttemptFault>, FileError> {
    let size = match std::fs::metadata(file) {
        Ok(status) if status.is_file() => status.len(),
        Ok(_) => return Ok(Err(AttemptFault::Unreachable("it is no file".into()))),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Err(AttemptFault::Absent)),
        Err(e) => return Ok(Err(AttemptFault::Unreachable(e.to_string()))),
    };
    if size != fetch.size {
        return Ok(Err(AttemptFault::OtherSize { got: size, wanted: fetch.size }));
    }
    remove_file(begun)?;
    std::fs::copy(file, begun).map_err(FileError::on("write", begun))?;
    checked(begun, fetch)
}

/// Holds what is there against the definition; what is something else is thrown away.
fn checked(begun: &Path, fetch: &FetchDef) -> Result<Result<(), AttemptFault>, FileError> {
    let digest = Sha256::of_file(begun).map_err(FileError::on("read", begun))?;
    if digest == fetch.sha256 {
        let file = File::open(begun).map_err(FileError::on("read", begun))?;
        file.sync_all().map_err(FileError::on("write", begun))?;
        return Ok(Ok(()));
    }
    remove_file(begun)?;
    Ok(Err(AttemptFault::OtherContent(digest.to_string())))
}

/// Gets it from an address, and goes on as long as more comes.
pub(super) fn from_address(
    address: &str,
    fetch: &FetchDef,
    begun: &Path,
    told: &mut dyn FnMut(FetchProgress),
) -> Result<Result<(), AttemptFault>, FileError> {
    // Progress is what was never there before: an address that always begins anew and is cut off at some place makes none.
    let (mut fruitless, mut most) = (0, 0);
    let length = |place: &Path| std::fs::metadata(place).map_or(0, |status| status.len());
    loop {
        let before = length(begun);
        most = most.max(before);
        let resumed = before > 0;
        let ended = if before == fetch.size && resumed { Ok(()) } else { once(address, fetch, begun, told)? };
        match ended {
            Ok(()) => match checked(begun, fetch)? {
                // What was begun may have been of another file.
                Err(AttemptFault::OtherContent(_)) if resumed => {}
                answer => return Ok(answer),
            },
            Err(fault @ (AttemptFault::Cut { .. } | AttemptFault::Stalled { .. } | AttemptFault::Unreachable(_))) => {
                fruitless = if length(begun) > most { 0 } else { fruitless + 1 };
                if fruitless >= FRUITLESS {
                    return Ok(Err(fault));
                }
            }
            Err(fault) => return Ok(Err(fault)),
        }
    }
}

/// What a server answers.
enum Answer {
    /// What follows begins at this byte of a whole of this size, where that is known.
    Begins(u64, Option<u64>),
    Piece(Vec<u8>),
    Failed(AttemptFault),
    End,
}

/// One request. What comes is added to what is there.
fn once(
    address: &str,
    fetch: &FetchDef,
    begun: &Path,
    told: &mut dyn FnMut(FetchProgress),
) -> Result<Result<(), AttemptFault>, FileError> {
    let failed = || FileError::on("write", begun);
    let mut file = File::options().append(true).create(true).open(begun).map_err(failed())?;
    let mut got = file.metadata().map_err(failed())?.len();
    if got > fetch.size {
        file.set_len(0).map_err(failed())?;
        got = 0;
    }
    // A reader that waits for a server cannot be stopped, but it can be left alone.
    let (sender, receiver) = sync_channel(16);
    let (wanted, from) = (address.to_string(), got);
    std::thread::spawn(move || request(&wanted, from, &sender));
    let answer = take(&receiver, fetch, &mut file, &mut got, told).map_err(failed())?;
    Ok(answer)
}

fn take(
    receiver: &Receiver<Answer>,
    fetch: &FetchDef,
    file: &mut File,
    got: &mut u64,
    told: &mut dyn FnMut(FetchProgress),
) -> std::io::Result<Result<(), AttemptFault>> {
    loop {
        // The first answer includes finding the server.
        let answer = match receiver.recv_timeout(IDLE + CONNECT) {
            Ok(answer) => answer,
            Err(RecvTimeoutError::Timeout) => return Ok(Err(AttemptFault::Stalled { got: *got })),
            Err(RecvTimeoutError::Disconnected) => return Ok(Err(AttemptFault::Cut { got: *got, wanted: fetch.size })),
        };
        match answer {
            Answer::Begins(at, size) => {
                if let Some(size) = size.filter(|size| *size != fetch.size) {
                    return Ok(Err(AttemptFault::OtherSize { got: size, wanted: fetch.size }));
                }
                if at != *got {
                    file.set_len(0)?;
                    *got = 0;
                }
                if at != *got {
                    return Ok(Err(AttemptFault::Unreachable(
                        "the server sends another part than was asked for".into(),
                    )));
                }
                told(FetchProgress::Bytes(*got));
            }
            Answer::Piece(bytes) => {
                *got += bytes.len() as u64;
                if *got > fetch.size {
                    file.set_len(0)?;
                    return Ok(Err(AttemptFault::TooLong(fetch.size)));
                }
                file.write_all(&bytes)?;
                told(FetchProgress::Bytes(*got));
            }
            Answer::Failed(fault) => return Ok(Err(fault)),
            Answer::End if *got == fetch.size => return Ok(Ok(())),
            Answer::End => return Ok(Err(AttemptFault::Cut { got: *got, wanted: fetch.size })),
        }
    }
}

/// Asks a server, and hands on what it answers until nobody takes it any more.
fn request(address: &str, from: u64, sender: &SyncSender<Answer>) {
    let agent: Agent = Agent::config_builder()
        .http_status_as_error(false)
        .timeout_connect(Some(CONNECT))
        .timeout_recv_response(Some(IDLE))
        .user_agent(web::USER_AGENT)
        .build()
        .into();
    // Digests are of the bytes as they are.
    let mut request = agent.get(address).header("Accept-Encoding", "identity");
    if from > 0 {
        request = request.header("Range", format!("bytes={from}-"));
    }
    let mut response = match request.call() {
        Ok(response) => response,
        Err(error) => {
            let _ = sender.send(Answer::Failed(AttemptFault::Unreachable(web::told(&error))));
            return;
        }
    };
    let header = |name: &str| response.headers().get(name).and_then(|value| value.to_str().ok());
    let begins = match response.status().as_u16() {
        200 => Answer::Begins(0, header("Content-Length").and_then(|text| text.parse().ok())),
        206 => match header("Content-Range").and_then(range) {
            Some((at, size)) => Answer::Begins(at, size),
            None => Answer::Failed(AttemptFault::Unreachable("the server does not say which part it sends".into())),
        },
        other => Answer::Failed(AttemptFault::Status(other)),
    };
    let goes_on = matches!(begins, Answer::Begins(..));
    if sender.send(begins).is_err() || !goes_on {
        return;
    }
    let mut body = response.body_mut().as_reader();
    loop {
        let mut piece = vec![0; PIECE];
        let answer = match body.read(&mut piece) {
            Ok(0) => Answer::End,
            Ok(read) => {
                piece.truncate(read);
                Answer::Piece(piece)
            }
            // What came so far is gone on from.
            Err(_) => return,
        };
        let ended = matches!(answer, Answer::End);
        if sender.send(answer).is_err() || ended {
            return;
        }
    }
}

/// Reads `bytes FIRST-LAST/SIZE`.
fn range(text: &str) -> Option<(u64, Option<u64>)> {
    let (part, size) = text.strip_prefix("bytes ")?.split_once('/')?;
    let (first, _) = part.split_once('-')?;
    Some((first.trim().parse().ok()?, size.trim().parse().ok()))
}
