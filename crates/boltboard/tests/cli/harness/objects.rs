//! What an object store does beside a web server: it looks at the signature in an address, and lists what it has in parts.

use jiff::Timestamp;
use ring::{digest, hmac};

/// How many names stand in one part of a list.
const IN_A_PART: usize = 3;

/// A key that requests are signed with.
#[derive(Debug, Clone)]
pub struct Key {
    pub name: String,
    pub secret: String,
    pub region: String,
}

/// What a character means that is written as its number.
fn decoded(text: &str) -> String {
    let mut rest = text.split('%');
    let first = rest.next().unwrap_or_default().to_string();
    rest.fold(first, |read, piece| {
        let (number, rest) = piece.split_at(2);
        let byte = u8::from_str_radix(number, 16).expect("a number");
        format!("{read}{}{rest}", char::from(byte))
    })
}

fn query(path: &str) -> Vec<(String, String)> {
    let query = path.split_once('?').map_or("", |(_, query)| query);
    let pairs = query.split('&').filter_map(|pair| pair.split_once('='));
    pairs.map(|(name, value)| (name.to_string(), value.to_string())).collect()
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

impl Key {
    /// What is said to one whose signature is none, by version 4 of the rules for signatures in addresses.
    pub fn refuses(&self, method: &str, path: &str, host: &str) -> Option<Vec<u8>> {
        let mut query = query(path);
        let of = |query: &[(String, String)], name: &str| {
            query.iter().find(|(of, _)| of == name).map(|(_, value)| decoded(value)).unwrap_or_default()
        };
        let (date, signature) = (of(&query, "X-Amz-Date"), of(&query, "X-Amz-Signature"));
        let day = date.get(..8).unwrap_or_default().to_string();
        let scope = format!("{day}/{}/s3/aws4_request", self.region);
        let fault = |code: &str| Some(format!("<Error><Code>{code}</Code></Error>").into_bytes());
        if of(&query, "X-Amz-Credential") != format!("{}/{scope}", self.name) {
            return fault("InvalidAccessKeyId");
        }
        query.retain(|(name, _)| name != "X-Amz-Signature");
        query.sort();
        let asked: Vec<String> = query.iter().map(|(name, value)| format!("{name}={value}")).collect();
        let plain = path.split('?').next().unwrap_or_default();
        let request = format!("{method}\n{plain}\n{}\nhost:{host}\n\nhost\nUNSIGNED-PAYLOAD", asked.join("&"));
        let request = hex(digest::digest(&digest::SHA256, request.as_bytes()).as_ref());
        let sign = |key: &[u8], text: &str| {
            hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), text.as_bytes()).as_ref().to_vec()
        };
        let key = [day.as_str(), &self.region, "s3", "aws4_request"]
            .iter()
            .fold(format!("AWS4{}", self.secret).into_bytes(), |key, part| sign(&key, part));
        let is_it = hex(&sign(&key, &format!("AWS4-HMAC-SHA256\n{date}\n{scope}\n{request}"))) == signature;
        if is_it { None } else { fault("SignatureDoesNotMatch") }
    }
}

/// A part of the list of all objects, with names, sizes, dates and versions.
pub fn listed_objects(path: &str, files: &[(String, usize, Timestamp, String)]) -> Vec<u8> {
    let query = query(path);
    let of = |name: &str| query.iter().find(|(of, _)| of == name).map(|(_, value)| decoded(value));
    assert_eq!(of("list-type").as_deref(), Some("2"));
    let before = of("prefix").unwrap_or_default();
    let from: usize = of("continuation-token").map_or(0, |token| token.trim_matches('=').parse().expect("ours"));
    let mut text = "<?xml version=\"1.0\"?><ListBucketResult>".to_string();
    for (name, size, given, version) in files.iter().skip(from).take(IN_A_PART) {
        if name.starts_with(&before) {
            let version = version.replace('"', "&quot;");
            text += &format!(
                "<Contents><Key>{name}</Key><LastModified>{given:.3}</LastModified><ETag>{version}</ETag><Size>{size}</Size></Contents>"
            );
        }
    }
    if from + IN_A_PART < files.len() {
        text += &format!("<NextContinuationToken>={}=</NextContinuationToken>", from + IN_A_PART);
    }
    (text + "</ListBucketResult>").into_bytes()
}
