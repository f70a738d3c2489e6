//! Who a server is to be, and who we are to it: certificates in PEM form (RFC 7468), as web servers have them.

use std::path::Path;

use ureq::tls::{Certificate, ClientCert, PemItem, PrivateKey, RootCerts, TlsConfig, parse_pem};

use super::address::AddressFault;

/// What a connection stands on, beside what every machine trusts.
#[derive(Debug, Clone, Default)]
pub struct Identity {
    /// Those who vouch for the server, in place of those who vouch for servers of the web.
    authority: Vec<Certificate<'static>>,
    /// How we show who we are.
    own: Option<ClientCert>,
}

impl Identity {
    /// Takes those who vouch for the server.
    ///
    /// # Errors
    /// The text holds no certificate.
    pub(super) fn vouched_by(mut self, file: &Path, text: &str) -> Result<Identity, AddressFault> {
        self.authority = certificates(file, text)?;
        Ok(self)
    }

    /// Takes the certificate that is shown, and its key.
    ///
    /// # Errors
    /// One of the texts does not hold what it should.
    pub(super) fn shown(
        mut self,
        (file, text): (&Path, &str),
        (key_file, key): (&Path, &str),
    ) -> Result<Identity, AddressFault> {
        let key = PrivateKey::from_pem(key.as_bytes()).map_err(|_| AddressFault::Wrong {
            file: key_file.to_path_buf(),
            why: "it holds no private key in PEM form".to_string(),
        })?;
        self.own = Some(ClientCert::new_with_certs(&certificates(file, text)?, key));
        Ok(self)
    }

    /// Whether a certificate of ours is shown.
    pub fn is_shown(&self) -> bool {
        self.own.is_some()
    }

    /// The same without showing who we are.
    pub(super) fn unshown(self) -> Identity {
        Identity { own: None, ..self }
    }

    pub(super) fn tls(&self) -> TlsConfig {
        let roots = match self.authority.as_slice() {
            [] => RootCerts::WebPki,
            own => RootCerts::new_with_certs(own),
        };
        TlsConfig::builder().root_certs(roots).client_cert(self.own.clone()).build()
    }
}

fn certificates(file: &Path, text: &str) -> Result<Vec<Certificate<'static>>, AddressFault> {
    let items = parse_pem(text.as_bytes()).map_while(Result::ok);
    let found: Vec<Certificate<'static>> = items
        .filter_map(|item| match item {
            PemItem::Certificate(certificate) => Some(certificate),
            _ => None,
        })
        .collect();
    if found.is_empty() {
        let why = "it holds no certificate in PEM form".to_string();
        return Err(AddressFault::Wrong { file: file.to_path_buf(), why });
    }
    Ok(found)
}
