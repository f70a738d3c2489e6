//! Asking an object store: requests as the interface of S3 wants them, each signed in its address.
//!
//! Only the four requests that we need are made, and conditions are told in the same header fields as to any web server (RFC 9110).

use std::borrow::Cow;
use std::time::Duration;

use rusty_s3::actions::{DeleteObject, GetObject, PutObject, S3Action};
use rusty_s3::{Bucket, Credentials, UrlStyle};

use super::address::Secret;
use crate::base::web::Address;

/// How long a signed request may be on its way; clocks that differ by more are told by the server.
const SIGNED_FOR: Duration = Duration::from_secs(3600);
/// The region of a store that has none.
const REGION: &str = "us-east-1";

/// Who we are to an object store.
#[derive(Debug, Clone)]
pub struct ObjectAccess {
    /// The name of the key; it is no secret.
    pub key: String,
    /// The key itself.
    pub secret: Secret,
    /// What is told beside a key that is lent for a while.
    pub session: Option<Secret>,
}

/// Where an object store is, beside its address.
#[derive(Debug, Clone)]
pub(super) struct ObjectStore {
    bucket: Bucket,
    /// What the names of our objects begin with.
    before: String,
    credentials: Option<Credentials>,
}

impl ObjectStore {
    /// Takes an address in the dialect of object stores; nothing of another one. Without `access`, requests are not signed.
    pub fn of(address: &Address, region: Option<&str>, access: Option<&ObjectAccess>) -> Option<ObjectStore> {
        let (server, bucket, folder) = address.bucket()?;
        let region: Cow<'static, str> = region.map_or(Cow::Borrowed(REGION), |region| Cow::Owned(region.to_string()));
        let bucket = Bucket::new(server.parse().ok()?, UrlStyle::Path, bucket.to_string(), region).ok()?;
        let credentials = access.map(|ObjectAccess { key, secret, session }| match session {
            Some(session) => Credentials::new_with_token(key, secret.text(), session.text()),
            None => Credentials::new(key, secret.text()),
        });
        let before = if folder.is_empty() { String::new() } else { format!("{folder}/") };
        Some(ObjectStore { bucket, before, credentials })
    }

    pub fn get(&self, name: &str) -> String {
        let name = format!("{}{name}", self.before);
        signed(GetObject::new(&self.bucket, self.credentials.as_ref(), &name))
    }

    pub fn put(&self, name: &str) -> String {
        let name = format!("{}{name}", self.before);
        signed(PutObject::new(&self.bucket, self.credentials.as_ref(), &name))
    }

    pub fn delete(&self, name: &str) -> String {
        let name = format!("{}{name}", self.before);
        signed(DeleteObject::new(&self.bucket, self.credentials.as_ref(), &name))
    }

    /// Asks for a part of the list of all that lies there, the first or what comes after that.
    pub fn list(&self, after: Option<&str>) -> String {
        // A question to the bucket itself is one to an object without a name.
        let mut list = GetObject::new(&self.bucket, self.credentials.as_ref(), "");
        let query = list.query_mut();
        query.insert("list-type", "2");
        query.insert("prefix", self.before.as_str());
        if let Some(after) = after {
            query.insert("continuation-token", after);
        }
        signed(list)
    }

    /// What its names begin with in such a list.
    pub fn before(&self) -> &str {
        &self.before
    }
}

fn signed<'a>(action: impl S3Action<'a>) -> String {
    action.sign(SIGNED_FOR).to_string()
}
