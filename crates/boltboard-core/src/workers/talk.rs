//! What is said between a build and its workers: frames of a length, a short digest and a packed message.

use std::collections::BTreeMap;
use std::io::{Error, ErrorKind, Read, Result, Write};
use std::path::PathBuf;

use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use crate::base::{Digest, DigestOf};
use crate::launch::Exit;

/// The version of all that is said; both sides must have the same.
pub(super) const FORMAT: u32 = 1;
/// What a worker writes first. What shells and their greetings wrote before it is skipped.
const MARK: &[u8] = b"\0boltboard worker begins\0";
/// How much may come before that, in bytes.
const MOST_BEFORE: usize = 64 * 1024;
/// The largest frame, in bytes.
const MOST: usize = 1 << 28;
/// From how many bytes on a frame is compressed.
const COMPRESSED_FROM: usize = 4096;
/// How hard: the fastest way.
const LEVEL: i32 = 1;
/// The bytes before each frame's own: its length, how long it is when unpacked (none where it is as it is), and its digest.
const HEAD: usize = 16;

/// What a build says.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Ask {
    /// The first word.
    Begin(Begin),
    /// A content that is wanted.
    Content(Vec<u8>),
    /// A step.
    Work {
        /// Stands for it.
        number: u64,
        /// Files that are to lie there and were not named before.
        inputs: Vec<Input>,
        /// What is to be run.
        work: Box<Work>,
    },
    /// Does all of this hold there?
    Holds {
        /// Stands for the question.
        number: u64,
        /// What was looked at, in kept form, with what stands for it here.
        looks: Vec<(String, Digest)>,
        /// Places of the host where nothing lies.
        absent: Vec<PathBuf>,
    },
    /// All is well.
    Beat,
    /// There is nothing more to do.
    End,
}

/// How a build begins.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Begin {
    /// [`FORMAT`].
    pub format: u32,
    /// The version of the program.
    pub program: String,
    /// How many steps the worker runs at once; as many as it has processors without.
    pub jobs: Option<u32>,
}

/// What a worker says.
#[derive(Debug, Serialize, Deserialize)]
pub(super) enum Answer {
    /// The first word.
    Hello(Hello),
    /// Contents that it does not have.
    Wants {
        /// The step.
        number: u64,
        /// The contents.
        contents: Vec<Digest>,
    },
    /// A step's record: it is said last, and nothing counts without it.
    Done {
        /// The step.
        number: u64,
        /// What came of it; or why it was not run.
        done: std::result::Result<Done, String>,
    },
    /// An answer to a question.
    Holds {
        /// Stands for the question.
        number: u64,
        /// The first thing that does not hold.
        differs: Option<String>,
    },
    /// All is well.
    Beat,
}

/// What a worker is.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Hello {
    /// The version of what is said.
    pub format: u32,
    /// The version of the program.
    pub program: String,
    /// The machine's name for itself.
    pub host: String,
    /// How many processors it has for us.
    pub cores: u32,
    /// Stands for its processor, which counts where a compiler is asked for code for whatever it runs on.
    pub processor: Digest,
    /// Where the tree's files lie there.
    pub tree: PathBuf,
    /// Where those of the build lie there.
    pub build: PathBuf,
}

/// A step to run.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Work {
    /// Its program.
    pub program: PathBuf,
    /// Its arguments, by the worker's own places.
    pub arguments: Vec<String>,
    /// Its whole environment.
    pub environment: BTreeMap<String, String>,
    /// Folders that are to be there, in kept form.
    pub folders: Vec<String>,
    /// The folder aside, below the worker's build.
    pub aside: PathBuf,
    /// What it makes, below that.
    pub makes: Vec<PathBuf>,
    /// Where it lists what it reads, and what its assembler takes in, below that.
    pub lists: [Option<PathBuf>; 2],
}

/// A file that is to lie with a worker.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Input {
    /// Where, in kept form.
    pub at: String,
    /// What it holds.
    pub content: Digest,
    /// When it was changed, in seconds and nanoseconds: compilers tell files that may be read only once by that.
    pub modified: (i64, u32),
    /// Stands for the file itself where one has several names: compilers tell them by that, too.
    pub file: Option<(u64, u64)>,
}

/// What came of a step.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Done {
    /// How it ended.
    pub exit: Exit,
    /// What it wrote to standard output.
    pub stdout: Vec<u8>,
    /// What it wrote to standard error.
    pub stderr: Vec<u8>,
    /// How long it ran, in microseconds.
    pub wall_us: u64,
    /// Its processor time, in microseconds.
    pub cpu_us: u64,
    /// The most memory that it held, in bytes.
    pub memory: u64,
    /// What it read by its own lists, as these spell it, with what it held.
    pub read: Vec<(PathBuf, Digest)>,
    /// The lists.
    pub lists: [Option<Vec<u8>>; 2],
    /// What it made, where it ended well.
    pub made: Vec<Made>,
}

/// A file that a step made.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Made {
    /// Its content.
    pub content: Vec<u8>,
    /// Its permission bits.
    pub mode: u32,
}

fn wrong(why: &str) -> Error {
    Error::new(ErrorKind::InvalidData, why)
}

/// Writes what goes before everything else.
pub(super) fn announce(to: &mut impl Write) -> Result<()> {
    to.write_all(MARK)?;
    to.flush()
}

/// Skips what comes before a worker's first word. Returns it, where there is anything.
///
/// # Errors
/// It ends before, or there is too much of it.
pub(super) fn find_beginning(from: &mut impl Read) -> Result<()> {
    let mut before = Vec::new();
    let mut byte = [0];
    while !before.ends_with(MARK) {
        if before.len() > MOST_BEFORE + MARK.len() {
            return Err(wrong("what answers there is no worker"));
        }
        from.read_exact(&mut byte)?;
        before.push(byte[0]);
    }
    Ok(())
}

/// Stands for a frame.
fn sealed(unpacked: u32, body: &[u8]) -> [u8; 8] {
    let mut digest = DigestOf::default();
    digest.add(&unpacked.to_le_bytes());
    digest.add(body);
    digest.end().short()
}

/// Sends a message.
///
/// # Errors
/// The other side is gone, or the message is too large.
pub(super) fn send<T: Serialize>(to: &mut impl Write, message: &T) -> Result<()> {
    let plain = postcard::to_stdvec(message).map_err(|_| wrong("a message cannot be packed"))?;
    if plain.len() > MOST {
        return Err(wrong("a message is too large"));
    }
    let whole = u32::try_from(plain.len()).map_err(|_| wrong("a message is too large"))?;
    let (unpacked, body) = match plain.len() {
        small if small < COMPRESSED_FROM => (0, plain),
        _ => (whole, zstd::bulk::compress(&plain, LEVEL)?),
    };
    let length = u32::try_from(body.len()).map_err(|_| wrong("a message is too large"))?;
    let mut frame = Vec::with_capacity(HEAD + body.len());
    frame.extend(length.to_le_bytes());
    frame.extend(unpacked.to_le_bytes());
    frame.extend(sealed(unpacked, &body));
    frame.extend(body);
    to.write_all(&frame)?;
    to.flush()
}

/// Receives a message.
///
/// # Errors
/// The other side is gone, or what it sends is none.
pub(super) fn receive<T: DeserializeOwned>(from: &mut impl Read) -> Result<T> {
    let mut head = [0; HEAD];
    from.read_exact(&mut head)?;
    let number = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]) as usize;
    let (length, unpacked) = (number(0), number(4));
    if length > MOST || unpacked > MOST {
        return Err(wrong("a message is too large"));
    }
    let mut body = Vec::new();
    // No more room is taken than what really comes.
    let came = from.take(length as u64).read_to_end(&mut body)?;
    if came < length {
        return Err(ErrorKind::UnexpectedEof.into());
    }
    if sealed(u32::try_from(unpacked).unwrap_or(u32::MAX), &body) != head[8..] {
        return Err(wrong("a message was changed on its way"));
    }
    if unpacked > 0 {
        body = zstd::bulk::decompress(&body, unpacked)?;
    }
    postcard::from_bytes(&body).map_err(|_| wrong("a message cannot be read"))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn framed(message: &Vec<u8>) -> Vec<u8> {
        let mut bytes = Vec::new();
        send(&mut bytes, message).expect("it is sent");
        bytes
    }

    proptest! {
        #[test]
        fn messages_arrive_as_they_were_sent_one_after_the_other(
            messages in prop::collection::vec((any::<u8>(), prop_oneof![0_usize..50, 4000_usize..9000]), 0..6),
        ) {
            let messages: Vec<Vec<u8>> = messages.into_iter().map(|(byte, length)| vec![byte; length]).collect();
            let bytes: Vec<u8> = messages.iter().flat_map(framed).collect();
            let mut from = &bytes[..];
            for message in &messages {
                prop_assert_eq!(&receive::<Vec<u8>>(&mut from).expect("it came"), message);
            }
            prop_assert!(receive::<Vec<u8>>(&mut from).is_err(), "there is nothing more");
        }

        #[test]
        fn what_is_changed_or_cut_off_on_its_way_is_no_message(
            message in prop::collection::vec(any::<u8>(), 0..6000), at in any::<prop::sample::Index>(), turns in 1_u8..,
        ) {
            let whole = framed(&message);
            let at = at.index(whole.len());
            prop_assert!(receive::<Vec<u8>>(&mut &whole[..at]).is_err());
            let mut changed = whole.clone();
            changed[at] ^= turns;
            // A length that has become another leads to what is not there, or to a digest that does not fit.
            prop_assert!(receive::<Vec<u8>>(&mut &changed[..]).is_err(), "byte {} of {}", at, whole.len());
        }

        #[test]
        fn a_beginning_is_found_behind_whatever_a_shell_says(before in prop::collection::vec(any::<u8>(), 0..300), rest in any::<[u8; 4]>()) {
            let mut bytes = before;
            announce(&mut bytes).expect("written");
            bytes.extend(rest);
            let mut from = &bytes[..];
            find_beginning(&mut from).expect("it is there");
            prop_assert_eq!(from, &rest[..]);
        }
    }

    #[test]
    fn what_is_too_large_is_not_believed() {
        let head = [&u32::MAX.to_le_bytes()[..], &[0; HEAD - 4]].concat();
        assert_eq!(receive::<Vec<u8>>(&mut &head[..]).unwrap_err().kind(), ErrorKind::InvalidData);
        // No room is taken for what is only said to come.
        let much = [&(MOST as u32).to_le_bytes()[..], &[0; HEAD]].concat();
        assert_eq!(receive::<Vec<u8>>(&mut &much[..]).unwrap_err().kind(), ErrorKind::UnexpectedEof);
        let endless = std::io::repeat(7).take(10 << 20);
        assert_eq!(find_beginning(&mut std::io::BufReader::new(endless)).unwrap_err().kind(), ErrorKind::InvalidData);
    }
}
