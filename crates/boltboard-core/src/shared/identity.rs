//! Who a server is to be, and who we are to it: certificates in PEM form (RFC 7468), as web servers have them.

use std::path::PathBuf;

use ureq::tls::{Certificate, ClientCert, PemItem, PrivateKey, RootCerts, TlsConfig, parse_pem};

use super::address::{AddressFault, wrong};

/// What a connection stands on, beside what every machine trusts.
#[derive(Debug, Clone, Default)]
pub struct Identity {
    /// Those who vouch for the server, in place of those who vouch for servers of the web.
    authority: Vec<Certificate<'static>>,
    /// How we show who we are.
    own: Option<ClientCert>,
}

/// A file with its text.
type Text = (PathBuf, String);

impl Identity {
    /// Takes those who vouch for the server, and a certificate of ours with its key.
    ///
    /// # Errors
    /// One of the files does not hold what it should.
    pub(super) fn of(authority: Option<&Text>, shown: Option<&(Text, Text)>) -> Result<Identity, AddressFault> {
        let own = |(certificate, (file, key)): &(Text, Text)| {
            let key = PrivateKey::from_pem(key.as_bytes());
            let key = key.map_err(|_| wrong(file, "it holds no private key in PEM form"))?;
            Ok::<_, AddressFault>(ClientCert::new_with_certs(&certificates(certificate)?, key))
        };
        Ok(Identity {
            authority: authority.map_or_else(|| Ok(Vec::new()), certificates)?,
            own: shown.map(own).transpose()?,
        })
    }

    /// Whether a certificate of ours is shown.
    pub fn is_shown(&self) -> bool {
        self.own.is_some()
    }

    pub(super) fn tls(&self) -> TlsConfig {
        let roots = match self.authority.as_slice() {
            [] => RootCerts::WebPki,
            own => RootCerts::new_with_certs(own),
        };
        TlsConfig::builder().root_certs(roots).client_cert(self.own.clone()).build()
    }
}

fn certificates((file, text): &Text) -> Result<Vec<Certificate<'static>>, AddressFault> {
    let items = parse_pem(text.as_bytes()).map_while(Result::ok);
    let found: Vec<Certificate<'static>> = items
        .filter_map(|item| match item {
            PemItem::Certificate(certificate) => Some(certificate),
            _ => None,
        })
        .collect();
    if found.is_empty() { Err(wrong(file, "it holds no certificate in PEM form")) } else { Ok(found) }
}
