//! A folder that a web server hands out and takes in, and all that can be wrong with one.

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::Duration;

use jiff::Timestamp;
use rustls::{ServerConfig, ServerConnection, StreamOwned};

use super::objects::{Key, listed_objects};

/// What is wrong with a server.
#[derive(Debug, Clone, PartialEq)]
pub enum Wrong {
    Nothing,
    /// It answers everything so.
    Answers(u16),
    /// It answers what is to be put there so.
    TakesNothing(u16),
    /// It takes a question and says nothing.
    Silent,
    /// The first half of what it has, and after so long the second.
    Waits(Duration),
    /// A byte now and then.
    Trickles,
    /// Half of what it announces.
    CutsOff,
    /// Other bytes of the same length.
    Spoils,
    /// It forbids what it does not have.
    Forbids,
    /// It tells no versions of what it has.
    NoVersions,
    /// What is looked for lies elsewhere.
    Leads(String),
    /// It neither lists nor removes what it has.
    HandsOut,
    /// It answers so when it is asked for something whose name begins so.
    Hides(&'static str, u16),
    /// It removes nothing whose name begins so.
    Holds(&'static str),
    /// It tells no dates in its list.
    NoDates,
    /// What its list tells has become something else by now.
    Changes,
}

#[derive(Debug)]
struct State {
    files: BTreeMap<String, Vec<u8>>,
    /// When what lies there was given, where that was long ago.
    given: BTreeMap<String, Timestamp>,
    wrong: Wrong,
    token: Option<String>,
    /// The key that requests to an object store are signed with.
    key: Option<Key>,
    asked: usize,
    put: usize,
}

/// What a server hears and says.
trait Talk: Read + Write + Send {}

impl<T: Read + Write + Send> Talk for T {}

/// The server; it ends with the test.
#[derive(Debug, Clone)]
pub struct Web {
    pub address: String,
    state: Arc<Mutex<State>>,
}

impl Web {
    pub fn new() -> Web {
        Web::serving("http", |stream| Some(Box::new(stream)))
    }

    /// An object store, which answers only who signs with this key.
    pub fn objects(key: Key) -> Web {
        let mut web = Web::new();
        web.address = format!("s3+{}", web.address);
        web.state().key = Some(key);
        web
    }

    /// One whose connections are guarded.
    pub fn guarded(config: Arc<ServerConfig>) -> Web {
        Web::serving("https", move |stream| {
            let connection = ServerConnection::new(Arc::clone(&config)).ok()?;
            Some(Box::new(StreamOwned::new(connection, stream)))
        })
    }

    fn serving(way: &str, talk: impl Fn(TcpStream) -> Option<Box<dyn Talk>> + Send + 'static) -> Web {
        let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
        let address = format!("{way}://{}/team", listener.local_addr().expect("bound"));
        let state = State {
            files: BTreeMap::new(),
            given: BTreeMap::new(),
            wrong: Wrong::Nothing,
            token: None,
            key: None,
            asked: 0,
            put: 0,
        };
        let web = Web { address, state: Arc::new(Mutex::new(state)) };
        let serving = web.clone();
        std::thread::spawn(move || {
            for talk in listener.incoming().map_while(Result::ok).filter_map(talk) {
                let web = serving.clone();
                std::thread::spawn(move || {
                    let mut talk = BufReader::new(talk);
                    while web.answer(&mut talk).is_some() {}
                });
            }
        });
        web
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().expect("nobody panics with it")
    }

    pub fn be(&self, wrong: Wrong) {
        self.state().wrong = wrong;
    }

    /// Answers only those who tell it this.
    pub fn wants(&self, token: &str) {
        self.state().token = Some(token.to_string());
    }

    /// How often it was asked for something, and how often something was put there.
    pub fn counts(&self) -> (usize, usize) {
        let state = self.state();
        (state.asked, state.put)
    }

    /// Lays something there.
    pub fn lay(&self, name: &str, bytes: Vec<u8>) {
        self.state().files.insert(name.to_string(), bytes);
    }

    /// What lies there, by name.
    pub fn files(&self) -> BTreeMap<String, Vec<u8>> {
        self.state().files.clone()
    }

    /// Lets all that lies there whose name begins so have been given so many days ago.
    pub fn age(&self, begins: &str, days: i64) {
        let then = Timestamp::now() - jiff::SignedDuration::from_hours(days * 24);
        let mut state = self.state();
        let names: Vec<String> = state.files.keys().filter(|name| name.starts_with(begins)).cloned().collect();
        state.given.extend(names.into_iter().map(|name| (name, then)));
    }

    /// Changes all that lies there whose name begins so.
    pub fn change(&self, begins: &str, change: impl Fn(&mut Vec<u8>)) {
        let mut state = self.state();
        state.files.iter_mut().filter(|(name, _)| name.starts_with(begins)).for_each(|(_, bytes)| change(bytes));
    }

    /// Takes away all that lies there whose name begins so.
    pub fn drop(&self, begins: &str) {
        self.state().files.retain(|name, _| !name.starts_with(begins));
    }

    /// Answers one question; nothing where the connection ends.
    fn answer(&self, reader: &mut BufReader<Box<dyn Talk>>) -> Option<()> {
        let mut line = String::new();
        reader.read_line(&mut line).ok().filter(|read| *read > 0)?;
        let mut words = line.split_whitespace().map(str::to_string);
        let (method, path) = (words.next()?, words.next()?);
        let mut headers = BTreeMap::new();
        loop {
            let mut line = String::new();
            reader.read_line(&mut line).ok()?;
            let Some((name, value)) = line.trim_end().split_once(": ") else { break };
            headers.insert(name.to_ascii_lowercase(), value.to_string());
        }
        let length = headers.get("content-length").and_then(|text| text.parse().ok()).unwrap_or(0);
        let mut body = vec![0; length];
        reader.read_exact(&mut body).ok()?;
        let name = path.split('?').next().and_then(|path| path.strip_prefix("/team/"))?.to_string();
        let key = self.state().key.clone();
        let refused = key.and_then(|key| key.refuses(&method, &path, headers.get("host").map_or("", String::as_str)));
        let (status, more, content) = match refused {
            Some(refused) => (403, String::new(), refused),
            None if name.is_empty() => self.list(&method, &path)?,
            None => self.decide(&method, &name, &headers, body)?,
        };
        let wrong = self.state().wrong.clone();
        let told = content.len();
        let stream = reader.get_mut();
        write!(stream, "HTTP/1.1 {status} So\r\nContent-Length: {told}\r\n{more}\r\n").ok()?;
        match wrong {
            Wrong::CutsOff if told > 1 => {
                stream.write_all(&content[..told / 2]).ok()?;
                None
            }
            Wrong::Waits(long) => {
                let (first, later) = content.split_at(told / 2);
                stream.write_all(first).ok()?;
                std::thread::sleep(long);
                stream.write_all(later).ok()
            }
            Wrong::Trickles => {
                for byte in content {
                    stream.write_all(&[byte]).ok()?;
                    stream.flush().ok()?;
                    std::thread::sleep(Duration::from_millis(150));
                }
                Some(())
            }
            Wrong::Spoils => {
                let mut content = content;
                content.iter_mut().skip(20).for_each(|byte| *byte ^= 0x55);
                stream.write_all(&content).ok()
            }
            _ => stream.write_all(&content).ok(),
        }
    }

    /// Lists all that lies there, as a web server or an object store does.
    fn list(&self, method: &str, path: &str) -> Option<(u16, String, Vec<u8>)> {
        let state = self.state();
        let listed = |(name, bytes): (&String, &Vec<u8>)| {
            let given = state.given.get(name).copied().unwrap_or_else(Timestamp::now);
            (name.clone(), bytes.len(), given, version(bytes))
        };
        let files: Vec<_> = state.files.iter().map(listed).collect();
        match (method, &state.key, &state.wrong) {
            (_, _, Wrong::Answers(status)) => Some((*status, String::new(), Vec::new())),
            (_, _, Wrong::HandsOut) => Some((405, String::new(), Vec::new())),
            ("GET", Some(_), _) => Some((200, String::new(), listed_objects(path, &files))),
            ("PROPFIND", None, _) => {
                let mut text = "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">".to_string();
                text += "<D:response><D:href>/team/</D:href></D:response>";
                for (name, size, given, version) in files {
                    let date = match state.wrong {
                        Wrong::NoDates => String::new(),
                        _ => given.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string(),
                    };
                    let earlier = if state.wrong == Wrong::Changes { "&quot;earlier" } else { "&quot;" };
                    let version = version.replacen('"', earlier, 1).replace('"', "&quot;");
                    text += &format!(
                        "<D:response><D:href>/team/{name}</D:href><D:propstat><D:prop>\
                         <D:getcontentlength>{size}</D:getcontentlength><D:getlastmodified>{date}</D:getlastmodified>\
                         <D:getetag>{version}</D:getetag></D:prop></D:propstat></D:response>\n"
                    );
                }
                Some((207, String::new(), (text + "</D:multistatus>").into_bytes()))
            }
            _ => Some((405, String::new(), Vec::new())),
        }
    }

    /// The status, further headers and the content of an answer.
    fn decide(
        &self,
        method: &str,
        name: &str,
        headers: &BTreeMap<String, String>,
        body: Vec<u8>,
    ) -> Option<(u16, String, Vec<u8>)> {
        let mut state = self.state();
        if method == "PUT" {
            state.put += 1;
        } else {
            state.asked += 1;
        }
        let plain = |status: u16| Some((status, String::new(), Vec::new()));
        if state.token.as_ref().is_some_and(|token| headers.get("authorization") != Some(&format!("Bearer {token}"))) {
            return plain(401);
        }
        match (&state.wrong, method) {
            (Wrong::Answers(status), _) | (Wrong::TakesNothing(status), "PUT") => return plain(*status),
            (Wrong::Hides(begins, status), "GET") if name.starts_with(begins) => return plain(*status),
            (Wrong::Holds(begins), "DELETE") if name.starts_with(begins) => return plain(500),
            (Wrong::Leads(to), _) => return Some((302, format!("Location: {to}\r\n"), Vec::new())),
            (Wrong::Silent, _) => {
                drop(state);
                std::thread::sleep(Duration::from_secs(60));
                return None;
            }
            _ => {}
        }
        let there = state.files.get(name).cloned();
        if method == "DELETE" {
            let is_other = there.as_ref().is_some_and(|there| headers.get("if-match") != Some(&version(there)));
            return match (there, is_other) {
                (None, _) => plain(404),
                (Some(_), true) => plain(412),
                (Some(_), false) => {
                    state.files.remove(name);
                    plain(204)
                }
            };
        }
        if method == "PUT" {
            let other = match (headers.get("if-none-match"), headers.get("if-match"), &there) {
                (Some(_), _, Some(_)) | (_, Some(_), None) => true,
                (_, Some(wanted), Some(there)) => *wanted != version(there),
                _ => false,
            };
            if other {
                return plain(412);
            }
            state.files.insert(name.to_string(), body);
            state.given.remove(name);
            return plain(if there.is_some() { 204 } else { 201 });
        }
        let from =
            headers.get("range").and_then(|range| range.strip_prefix("bytes=")?.trim_end_matches('-').parse().ok());
        match there {
            Some(bytes) if from.is_some_and(|from| (1..bytes.len()).contains(&from)) => {
                let (from, last, size) = (from.unwrap_or(0), bytes.len() - 1, bytes.len());
                Some((206, format!("Content-Range: bytes {from}-{last}/{size}\r\n"), bytes[from..].to_vec()))
            }
            Some(bytes) if state.wrong == Wrong::NoVersions => Some((200, String::new(), bytes)),
            Some(bytes) => Some((200, format!("ETag: {}\r\n", version(&bytes)), bytes)),
            None if state.wrong == Wrong::Forbids => plain(403),
            None => plain(404),
        }
    }
}

/// The version of a content.
fn version(bytes: &[u8]) -> String {
    format!("\"{}\"", boltboard_core::base::Digest::of(bytes))
}
