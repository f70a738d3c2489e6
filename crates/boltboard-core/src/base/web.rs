//! What all that is asked of web servers has in common.

use std::io::{Error, ErrorKind};

use rustls::CertificateError;

/// Who we say that we are.
pub const USER_AGENT: &str = concat!("boltboard/", env!("CARGO_PKG_VERSION"));

/// The address of a folder on a server. It begins with `http://` or `https://`, or with `s3+` and one of these, and has no `/` at its end.
#[derive(Debug, Clone, PartialEq, Eq, serde::Deserialize)]
#[serde(try_from = "String")]
pub struct Address(String);

/// What an address of an object store begins with, before the way to its server.
const OBJECTS: &str = "s3+";

/// In which way a server is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WebDialect {
    /// As a folder of files is (RFC 9110).
    Files,
    /// As an object store is, by the interface that S3 has.
    Objects,
}

/// A text is no address of a folder on a server.
#[derive(Debug, thiserror::Error)]
#[error(
    "`{0}` is no address of a shared store: it begins with http:// or https:// and names a server and a folder, or with s3+http:// or s3+https:// and names a server and a bucket"
)]
pub struct NoAddress(String);

impl Address {
    /// Reads an address.
    ///
    /// # Errors
    /// It is none. What stands before an `@` would be shown in answers, so it is refused.
    pub fn parse(text: &str) -> Result<Address, NoAddress> {
        let server = server_of(text);
        let plain = |c: char| c.is_ascii_graphic() && !"\"<>\\^`{|}?#".contains(c);
        let address = Address(text.trim_end_matches('/').to_string());
        // Steps up in it would lead out of the bucket.
        let is_bucket = || {
            address.bucket().is_some_and(|(_, bucket, folder)| {
                !bucket.is_empty()
                    && std::iter::once(bucket).chain(folder.split('/')).all(|name| !matches!(name, "." | ".."))
            })
        };
        let is_whole = address.dialect() == WebDialect::Files || is_bucket();
        if server.is_empty() || server.contains('@') || !text.chars().all(plain) || !is_whole {
            return Err(NoAddress(text.split_once('@').map_or(text, |(_, rest)| rest).to_string()));
        }
        Ok(address)
    }

    /// Returns it as people write it.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Returns the address of something that lies there, as a server is asked for it.
    pub fn of(&self, name: &str) -> String {
        format!("{}/{name}", plain_of(&self.0))
    }

    /// In which way its server is spoken to.
    pub fn dialect(&self) -> WebDialect {
        if self.0.starts_with(OBJECTS) { WebDialect::Objects } else { WebDialect::Files }
    }

    /// The server with the way to it, the bucket, and the folder in that; nothing where no bucket is named.
    pub fn bucket(&self) -> Option<(&str, &str, &str)> {
        let plain = plain_of(&self.0);
        let way = plain.find("://")? + "://".len();
        let (server, path) = plain.split_at(way + plain[way..].find('/')?);
        let path = &path[1..];
        let (bucket, folder) = path.split_once('/').unwrap_or((path, ""));
        Some((server, bucket, folder))
    }

    /// Tells whether the same server is spoken to, in the same way.
    pub fn is_at_server_of(&self, other: &Address) -> bool {
        let way = |address: &Address| (address.dialect(), plain_of(&address.0).starts_with("https://"));
        way(self) == way(other) && server_of(&self.0).eq_ignore_ascii_case(server_of(&other.0))
    }
}

impl TryFrom<String> for Address {
    type Error = NoAddress;
    fn try_from(text: String) -> Result<Address, NoAddress> {
        Address::parse(&text)
    }
}

impl std::fmt::Display for Address {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

/// An address without what says that it is one of an object store.
fn plain_of(text: &str) -> &str {
    text.strip_prefix(OBJECTS).unwrap_or(text)
}

/// The server of an address, with its port; nothing where there is none.
fn server_of(text: &str) -> &str {
    let text = plain_of(text);
    let rest = text.strip_prefix("http://").or_else(|| text.strip_prefix("https://"));
    rest.and_then(|rest| rest.split('/').next()).unwrap_or_default()
}

/// Tells why a request came to nothing, in the words of the system where it has some.
pub fn told(error: &ureq::Error) -> String {
    let of_connection = |error: &rustls::Error| match error {
        rustls::Error::InvalidCertificate(fault) => untrusted(fault),
        rustls::Error::AlertReceived(_) => broken_off(error),
        other => other.to_string(),
    };
    let of_system = |error: &Error| match error.kind() {
        // Who does not show who they are is cut off so, too.
        ErrorKind::BrokenPipe
        | ErrorKind::ConnectionReset
        | ErrorKind::ConnectionAborted
        | ErrorKind::UnexpectedEof => broken_off(error),
        _ => error.to_string(),
    };
    match error {
        ureq::Error::Rustls(error) => of_connection(error),
        ureq::Error::Io(error) => {
            let inner = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
            inner.map_or_else(|| of_system(error), of_connection)
        }
        error => error.to_string(),
    }
}

fn broken_off(error: &dyn std::fmt::Display) -> String {
    format!("it breaks off the connection: {error}")
}

/// Tells why a certificate of a server is not believed.
fn untrusted(fault: &CertificateError) -> String {
    match fault {
        CertificateError::UnknownIssuer => "nobody whom we trust vouches for its certificate".to_string(),
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => {
            "its certificate has expired".to_string()
        }
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "its certificate is not valid yet; look at the clock of this machine".to_string()
        }
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "its certificate is for another server".to_string()
        }
        other => format!("its certificate is not right: {other}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_wrong_with_a_server_is_told_in_words() {
        let of_io = |kind: ErrorKind| told(&ureq::Error::Io(Error::new(kind, "gone")));
        for kind in [ErrorKind::BrokenPipe, ErrorKind::ConnectionReset, ErrorKind::UnexpectedEof] {
            assert_eq!(of_io(kind), "it breaks off the connection: gone");
        }
        assert_eq!(of_io(ErrorKind::ConnectionRefused), "gone");
        let of_certificate = |fault: CertificateError| {
            let fault = rustls::Error::InvalidCertificate(fault);
            let direct = told(&ureq::Error::Rustls(fault.clone()));
            assert_eq!(told(&ureq::Error::Io(Error::other(fault))), direct, "however it comes");
            direct
        };
        for (fault, words) in [
            (CertificateError::UnknownIssuer, "nobody whom we trust vouches for its certificate"),
            (CertificateError::Expired, "its certificate has expired"),
            (CertificateError::NotValidYet, "its certificate is not valid yet; look at the clock of this machine"),
            (CertificateError::NotValidForName, "its certificate is for another server"),
        ] {
            assert_eq!(of_certificate(fault), words);
        }
        assert!(of_certificate(CertificateError::Revoked).starts_with("its certificate is not right: "));
    }
}
