//! Talking to a server: `GET` and `PUT` (RFC 9110) over few connections that are kept, with patience that has an end. Servers that list and
//! remove what they have are asked with `PROPFIND` (RFC 4918) or as object stores are, and with `DELETE`.

use std::io::Read;
use std::sync::{Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use ureq::http::{Request, Response};
use ureq::{Agent, AsSendBody, Body};

use super::address::SharedConfig;
use super::listing::{self, MOST_LISTED, Page, SharedFile};
use super::objects::ObjectStore;
use super::wire::SharedName;
use crate::base::web;

/// How much a server that does not answer may cost in all.
pub(super) const PATIENCE: Duration = Duration::from_secs(1);
/// How long one may take to be reached.
const CONNECT: Duration = Duration::from_millis(800);
/// How long giving a result may take.
const GIVING: Duration = Duration::from_secs(60);
/// How long a server may take for a list of all that it has.
const LISTING: Duration = Duration::from_secs(600);
/// The most that is read of what an object store says about a refusal, in bytes.
const MOST_OF_REFUSAL: u64 = 64 << 10;
/// What is asked about each file.
const PROPERTIES: &str = concat!(
    "<?xml version=\"1.0\" encoding=\"utf-8\"?>",
    "<propfind xmlns=\"DAV:\"><prop><getcontentlength/><getlastmodified/><getetag/></prop></propfind>"
);
/// From how many answers on it is known how fast a server is.
const SAMPLES: u32 = 3;
/// How often a server may forbid what it is asked for before it is asked for nothing more until it takes something: some say so of what
/// they do not have to whoever may not list what they have.
const FORBIDDEN: u32 = 4;

/// A server, as far as it answers.
#[derive(Debug)]
pub(super) struct Client {
    agent: Agent,
    pub config: SharedConfig,
    /// Why it is not asked any more.
    pub off: OnceLock<String>,
    /// Why nothing is given to it any more.
    pub takes_nothing: OnceLock<String>,
    known: Mutex<Known>,
}

/// What is known of how fast a server is.
#[derive(Debug, Default)]
struct Known {
    /// What it has cost without giving anything.
    lost: Duration,
    samples: u32,
    /// How often it forbade what it was asked for while it had answered nothing else.
    forbidden: u32,
    /// Whether it has answered as it should.
    answers: bool,
    /// Time until the first byte, and time for each byte, in milliseconds.
    latency: f64,
    per_byte: f64,
}

impl Known {
    /// Whether it has forbidden all that it was asked for.
    fn forbids(&self) -> bool {
        !self.answers && self.forbidden >= FORBIDDEN
    }
}

/// An answer to a question.
#[derive(Debug)]
pub(super) enum Got {
    /// It is there, in this version of it.
    Found(Vec<u8>, Option<String>),
    /// It is not there.
    Absent,
    /// Nobody knows.
    Failed,
}

/// What became of something that was given.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Given {
    /// It is there.
    Done,
    /// Another version of it is there by now.
    Other,
    /// It was not taken.
    Refused,
}

/// What is there that something is to replace.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Replaces {
    /// Nothing: it is new.
    Nothing,
    /// This version.
    Version(String),
    /// Whatever it is.
    Anything,
}

impl Got {
    /// What is to be replaced by what is made of this. What nobody knows is left alone.
    pub fn replaced(&self) -> Replaces {
        match self {
            Got::Found(_, Some(version)) => Replaces::Version(version.clone()),
            // A server need not tell versions.
            Got::Found(_, None) => Replaces::Anything,
            Got::Absent | Got::Failed => Replaces::Nothing,
        }
    }
}

impl Client {
    pub fn new(config: SharedConfig) -> Client {
        let agent = Agent::config_builder()
            .http_status_as_error(false)
            // What lies elsewhere was not asked for, and a token is not told to it.
            .max_redirects(0)
            .max_redirects_will_error(false)
            .timeout_connect(Some(CONNECT))
            .tls_config(config.identity.tls())
            .max_idle_connections_per_host(16)
            .user_agent(web::USER_AGENT)
            .build()
            .into();
        Client { agent, config, off: OnceLock::new(), takes_nothing: OnceLock::new(), known: Mutex::default() }
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Tells whether it is not asked any more.
    pub fn is_off(&self) -> bool {
        self.off.get().is_some()
    }

    /// Tells whether results can be given to it.
    pub fn takes(&self) -> bool {
        !self.is_off() && !self.config.read_only && self.takes_nothing.get().is_none()
    }

    fn give_up(&self, why: String) {
        self.off.get_or_init(|| why);
    }

    fn give_nothing(&self, why: String) {
        self.takes_nothing.get_or_init(|| why);
    }

    /// Asks for something as the server wants it, with header fields.
    fn ask(
        &self,
        method: &str,
        address: &str,
        fields: &[(&str, &str)],
        body: impl AsSendBody,
        patience: Duration,
    ) -> Result<Response<Body>, ureq::Error> {
        let token = self.config.token.as_ref().map(|token| format!("Bearer {}", token.text()));
        // An object store is shown who we are in the address.
        let token = token.as_deref().filter(|_| self.config.objects.is_none()).map(|token| ("Authorization", token));
        let request = Request::builder().method(method).uri(address);
        let request =
            fields.iter().copied().chain(token).fold(request, |request, (name, value)| request.header(name, value));
        let request = self.agent.configure_request(request.body(body)?);
        self.agent.run(request.timeout_global(Some(patience)).allow_non_standard_methods(true).build())
    }

    /// Where a file is asked for.
    fn place(&self, name: SharedName, signed: impl Fn(&ObjectStore, &str) -> String) -> String {
        let name = name.to_string();
        self.config.objects.as_ref().map_or_else(|| self.config.address.of(&name), |objects| signed(objects, &name))
    }

    /// Asks for a file of at most so many bytes.
    pub fn get(&self, name: SharedName, most: u64, patience: Duration) -> Got {
        if self.is_off() {
            return Got::Failed;
        }
        if self.known().forbids() {
            return Got::Absent;
        }
        let began = Instant::now();
        let mut response = match self.ask("GET", &self.place(name, ObjectStore::get), &[], (), patience) {
            Ok(response) => response,
            Err(error) => return self.failed(&error, began),
        };
        let answered = began.elapsed();
        match response.status().as_u16() {
            200 => self.answered(),
            404 | 410 => {
                self.answered();
                return Got::Absent;
            }
            403 if self.may_be_absent() => return Got::Absent,
            _ => {
                self.give_up(self.refusal(&mut response));
                return Got::Failed;
            }
        }
        let version = response.headers().get("ETag").and_then(|tag| tag.to_str().ok()).map(str::to_string);
        let length = response.headers().get("Content-Length").and_then(|text| text.to_str().ok()?.parse::<u64>().ok());
        let mut bytes = Vec::new();
        let read = response.body_mut().as_reader().take(most + 1).read_to_end(&mut bytes);
        if let Err(error) = read {
            return self.failed(&ureq::Error::from(error), began);
        }
        if bytes.len() as u64 > most || length.is_some_and(|length| length != bytes.len() as u64) {
            // It is cut off, or no end is in sight: as if it were not there.
            return Got::Absent;
        }
        self.learn(answered, began.elapsed(), bytes.len());
        Got::Found(bytes, version)
    }

    fn answered(&self) {
        self.known().answers = true;
    }

    /// Whether what it forbids may as well not be there. Of one that nothing is given to this is never known.
    fn may_be_absent(&self) -> bool {
        let mut known = self.known();
        known.forbidden += 1;
        known.answers || known.forbidden < FORBIDDEN || !self.config.read_only
    }

    fn failed(&self, error: &ureq::Error, began: Instant) -> Got {
        let is_slow = matches!(error, ureq::Error::Timeout(_));
        let is_over = {
            let mut known = self.known();
            known.lost += began.elapsed();
            known.lost >= PATIENCE
        };
        if is_over || !is_slow {
            self.give_up(if is_slow { "it does not answer in time".to_string() } else { web::told(error) });
        }
        Got::Failed
    }

    fn learn(&self, answered: Duration, whole: Duration, bytes: usize) {
        let mut known = self.known();
        let ms = |time: Duration| time.as_secs_f64() * 1000.0;
        let body = (ms(whole) - ms(answered)).max(0.0) / (bytes.max(1) as f64);
        let share = if known.samples == 0 { 1.0 } else { 0.2 };
        known.latency += share * (ms(answered) - known.latency);
        // The bytes of short answers come with the first of them.
        if bytes > 1 << 14 || known.samples == 0 {
            known.per_byte += share * (body - known.per_byte);
        }
        known.samples += 1;
    }

    /// How long it takes to get so many bytes, as far as that is known by now.
    pub fn takes_for(&self, bytes: u64) -> Option<Duration> {
        let known = self.known();
        let ms = known.latency + known.per_byte * bytes as f64;
        (known.samples >= SAMPLES).then(|| Duration::from_secs_f64((ms / 1000.0).clamp(0.0, 3600.0)))
    }

    /// Gives a file.
    pub fn put(&self, name: SharedName, bytes: &[u8], replaces: &Replaces) -> Given {
        if !self.takes() {
            return Given::Refused;
        }
        let condition = match replaces {
            Replaces::Nothing => Some(("If-None-Match", "*")),
            Replaces::Version(version) => Some(("If-Match", version.as_str())),
            Replaces::Anything => None,
        };
        let fields: Vec<_> = [("Content-Type", "application/octet-stream")].into_iter().chain(condition).collect();
        match self.ask("PUT", &self.place(name, ObjectStore::put), &fields, bytes, GIVING) {
            Ok(mut response) => match response.status().as_u16() {
                200 | 201 | 204 => {
                    self.answered();
                    Given::Done
                }
                412 => Given::Other,
                // While someone else gives the same. Of a web server it means that there is no such folder.
                409 if self.config.objects.is_some() => Given::Other,
                _ => {
                    self.give_nothing(self.refusal(&mut response));
                    Given::Refused
                }
            },
            Err(error) => {
                self.give_nothing(web::told(&error));
                Given::Refused
            }
        }
    }

    /// Lists all files of ours that lie there.
    ///
    /// # Errors
    /// Why there is no list, in words.
    pub fn list(&self) -> Result<Vec<SharedFile>, String> {
        let began = Instant::now();
        let mut files = Vec::new();
        let mut after = None;
        loop {
            let Page { files: more, after: next } = self.list_after(after.as_deref())?;
            files.extend(more);
            if files.len() > MOST_LISTED {
                return Err(format!("it has more than {MOST_LISTED} files"));
            }
            match next {
                None => return Ok(files),
                // One that names the same part again never ends.
                Some(next) if after.as_ref() == Some(&next) || began.elapsed() > LISTING => {
                    return Err("its list has no end".to_string());
                }
                Some(next) => after = Some(next),
            }
        }
    }

    fn list_after(&self, after: Option<&str>) -> Result<Page, String> {
        let (asked, well) = match &self.config.objects {
            Some(objects) => (self.ask("GET", &objects.list(after), &[], "", LISTING), 200),
            None => {
                let fields = [("Depth", "1"), ("Content-Type", "application/xml; charset=utf-8")];
                (self.ask("PROPFIND", &self.config.address.of(""), &fields, PROPERTIES, LISTING), 207)
            }
        };
        let mut response = asked.map_err(|error| web::told(&error))?;
        match response.status().as_u16() {
            status if status == well => {}
            200 | 405 | 501 => return Err("it does not list what it has; one with WebDAV (RFC 4918) does".to_string()),
            404 => return Err("there is no such folder".to_string()),
            _ => return Err(self.refusal(&mut response)),
        }
        listing::read(response.body_mut().as_reader(), self.config.objects.as_ref().map(ObjectStore::before))
    }

    /// Removes a file, unless it is another by now; tells whether it is gone.
    ///
    /// # Errors
    /// Why it is not removed, in words.
    pub fn remove(&self, file: &SharedFile) -> Result<bool, String> {
        // A version that is only alike never counts as the same.
        let version = file.version.as_deref().filter(|version| version.starts_with('"'));
        let fields: Vec<_> = version.map(|version| ("If-Match", version)).into_iter().collect();
        let mut response = self
            .ask("DELETE", &self.place(file.name, ObjectStore::delete), &fields, (), GIVING)
            .map_err(|error| web::told(&error))?;
        match response.status().as_u16() {
            200 | 202 | 204 | 404 | 410 => Ok(true),
            412 => Ok(false),
            405 | 501 => Err("it removes nothing".to_string()),
            _ => Err(self.refusal(&mut response)),
        }
    }

    /// What a server says that does not do what it was asked for.
    fn refusal(&self, response: &mut Response<Body>) -> String {
        let said = match self.config.objects {
            Some(_) => listing::fault(response.body_mut().as_reader().take(MOST_OF_REFUSAL)),
            None => None,
        };
        refusal(response) + &said.map_or(String::new(), |said| format!(": {said}"))
    }
}

/// An answer that is none, in words.
fn refusal<B>(response: &Response<B>) -> String {
    let status = response.status();
    let reason = status.canonical_reason().map_or(String::new(), |reason| format!(" ({reason})"));
    match response.headers().get("Location").and_then(|to| to.to_str().ok()) {
        Some(to) if status.is_redirection() => {
            // What stands behind it may show who we are.
            let to = to.split(['?', '#']).next().unwrap_or(to);
            format!("it leads elsewhere, to {to}, and nobody is followed there")
        }
        _ => format!("it answers {}{reason}", status.as_u16()),
    }
}
