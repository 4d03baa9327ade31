//! Whose certificates are trusted.

use std::sync::{Arc, OnceLock};

use rustls::RootCertStore;
use rustls::pki_types::CertificateDer;

/// The certificates that are trusted. Those of the system are read when the first one is needed.
#[derive(Debug, Clone, Default)]
pub struct Trust(Arc<OnceLock<(Vec<CertificateDer<'static>>, Arc<RootCertStore>)>>);

impl Trust {
    /// Trusts what the system trusts (or what `SSL_CERT_FILE` and `SSL_CERT_DIR` name).
    pub fn of_system() -> Self {
        Self::default()
    }

    /// Trusts these certificates alone.
    pub fn of(certificates: Vec<CertificateDer<'static>>) -> Self {
        Self(Arc::new(OnceLock::from(with_store(certificates))))
    }

    fn both(&self) -> &(Vec<CertificateDer<'static>>, Arc<RootCertStore>) {
        self.0.get_or_init(|| with_store(rustls_native_certs::load_native_certs().certs))
    }

    pub(crate) fn certificates(&self) -> &[CertificateDer<'static>] {
        &self.both().0
    }

    pub(crate) fn store(&self) -> Arc<RootCertStore> {
        self.both().1.clone()
    }
}

fn with_store(
    certificates: Vec<CertificateDer<'static>>,
) -> (Vec<CertificateDer<'static>>, Arc<RootCertStore>) {
    let mut store = RootCertStore::empty();
    store.add_parsable_certificates(certificates.iter().cloned());
    (certificates, Arc::new(store))
}
