//! The certificate that shows a service who connects (RFC 8446, section 4.4.2).

use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::sign::CertifiedKey;
use ureq::tls::{Certificate, ClientCert, PrivateKey};

use crate::failure::Failure;
use crate::sent::Sent;
use crate::tls;

/// A certificate that shows who connects, in PEM.
#[derive(Debug, Clone)]
pub struct ClientCertificate {
    /// The certificate, with those between it and the authority.
    pub chain: Sent,
    /// Its private key.
    pub key: Sent,
}

impl ClientCertificate {
    /// The same as it is shown, once it is sure that the two belong together.
    pub(crate) fn shown(&self) -> Result<ClientCert, Failure> {
        let no_certificate = || Failure::unexpected("its client certificate is no certificate in PEM");
        let chain: Result<Vec<CertificateDer<'static>>, _> =
            CertificateDer::pem_slice_iter(self.chain.expose().as_bytes()).collect();
        let chain = chain.ok().filter(|chain| !chain.is_empty()).ok_or_else(no_certificate)?;
        let no_key = || Failure::unexpected("the key of its client certificate is no private key in PEM");
        let pem = self.key.expose().as_bytes();
        let key = PrivateKeyDer::from_pem_slice(pem).map_err(|_| no_key())?;
        let key_shown = PrivateKey::from_pem(pem).map_err(|_| no_key())?;
        // Whoever makes the connection takes it for granted that they belong together.
        CertifiedKey::from_der(chain.clone(), key, &tls::provider())
            .map_err(|_| Failure::unexpected("its client certificate and the key are not of one another"))?;
        let chain: Vec<Certificate<'static>> =
            chain.iter().map(|der| Certificate::from_der(der).to_owned()).collect();
        Ok(ClientCert::new_with_certs(&chain, key_shown))
    }
}
