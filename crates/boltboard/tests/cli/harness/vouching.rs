//! Certificates, made for a test: who vouches for servers and persons, and connections that are guarded by them.

use std::sync::Arc;

use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::server::WebPkiClientVerifier;
use rustls::{RootCertStore, ServerConfig};

/// Somebody who vouches.
pub struct Authority(CertifiedIssuer<'static, KeyPair>);

/// A certificate and its key, as files hold them.
pub struct Shown {
    pub certificate: String,
    pub key: String,
}

impl Authority {
    pub fn new() -> Authority {
        let mut params = CertificateParams::new(Vec::new()).expect("no names");
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
        let key = KeyPair::generate().expect("a key");
        Authority(CertifiedIssuer::self_signed(params, key).expect("signed"))
    }

    /// Its own certificate, as a file holds it.
    pub fn text(&self) -> String {
        self.0.pem()
    }

    /// Vouches for a server or a person.
    pub fn vouches_for(&self, name: &str) -> Shown {
        let key = KeyPair::generate().expect("a key");
        let params = CertificateParams::new(vec![name.to_string()]).expect("a name");
        let certificate = params.signed_by(&key, &self.0).expect("signed").pem();
        Shown { certificate, key: key.serialize_pem() }
    }

    /// How a server guards its connections that shows this, and speaks only to those for whom we vouch as well.
    pub fn guards(&self, server: &Shown) -> Arc<ServerConfig> {
        let of_text = |text: &str| CertificateDer::from_pem_slice(text.as_bytes()).expect("a certificate");
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let mut roots = RootCertStore::empty();
        roots.add(of_text(&self.text())).expect("added");
        let persons = WebPkiClientVerifier::builder_with_provider(Arc::new(roots), Arc::clone(&provider));
        let key = PrivateKeyDer::from_pem_slice(server.key.as_bytes()).expect("a key");
        let config = ServerConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .expect("versions")
            .with_client_cert_verifier(persons.build().expect("a verifier"))
            .with_single_cert(vec![of_text(&server.certificate)], key);
        Arc::new(config.expect("it fits"))
    }
}
