//! What all that is asked of web servers has in common.

/// Who we say that we are.
pub const USER_AGENT: &str = concat!("boltboard/", env!("CARGO_PKG_VERSION"));

/// Tells why a request came to nothing, in the words of the system where it has some.
pub fn told(error: &ureq::Error) -> String {
    match error {
        ureq::Error::Io(error) => error.to_string(),
        error => error.to_string(),
    }
}
