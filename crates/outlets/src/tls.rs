//! TLS: whether a certificate is trusted, of the right host, and for how long.

use std::error::Error as StdError;
use std::io;
use std::net::TcpStream;
use std::sync::Arc;

use cledger_core::probe::Answer;
use jiff::Timestamp;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{
    AlertDescription, CertificateError, ClientConfig, ClientConnection, DigitallySignedStruct, RootCertStore,
    SignatureScheme,
};

use crate::failure::Failure;
use crate::tcp::of_io;

/// The one provider of cryptography.
pub(crate) fn provider() -> Arc<CryptoProvider> {
    Arc::new(ring::default_provider())
}

/// How connections are made; without `roots` any certificate will do.
pub(crate) fn config(roots: Option<Arc<RootCertStore>>) -> Result<ClientConfig, Failure> {
    let builder = ClientConfig::builder_with_provider(provider())
        .with_safe_default_protocol_versions()
        .map_err(|error| of_tls(&error))?;
    if let Some(roots) = roots {
        return Ok(builder.with_root_certificates(roots).with_no_client_auth());
    }
    let any = Arc::new(AnyCertificate(provider()));
    Ok(builder.dangerous().with_custom_certificate_verifier(any).with_no_client_auth())
}

/// Shakes hands over a connection, and gives the days that the certificate is still good for.
pub(crate) fn days_left(
    mut stream: TcpStream,
    host: &str,
    roots: Arc<RootCertStore>,
    now: Timestamp,
) -> Result<Option<i64>, Failure> {
    let name = ServerName::try_from(host.to_owned())
        .map_err(|_| Failure::new(Answer::Certificate, "no certificate can be for such a host"))?;
    let mut connection =
        ClientConnection::new(Arc::new(config(Some(roots))?), name).map_err(|error| of_tls(&error))?;
    while connection.is_handshaking() {
        connection.complete_io(&mut stream).map_err(|error| of_any(&error))?;
    }
    let certificate = connection.peer_certificates().and_then(|chain| chain.first());
    Ok(certificate.and_then(|certificate| days_of(certificate, now)))
}

fn days_of(certificate: &CertificateDer<'_>, now: Timestamp) -> Option<i64> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate).ok()?;
    Some((parsed.validity().not_after.timestamp() - now.as_second()).div_euclid(24 * 60 * 60))
}

/// What an error says that may have one of TLS inside.
pub(crate) fn of_any(error: &(dyn StdError + 'static)) -> Failure {
    let mut inside: Option<&(dyn StdError + 'static)> = Some(error);
    let mut system = None;
    while let Some(this) = inside {
        if let Some(tls) = this.downcast_ref::<rustls::Error>() {
            return of_tls(tls);
        }
        if let Some(io) = this.downcast_ref::<io::Error>() {
            // An error of the system can carry another one, which `source` skips.
            if let Some(tls) = io.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>()) {
                return of_tls(tls);
            }
            system = system.or(Some(of_io(io)));
        }
        inside = this.source();
    }
    system.unwrap_or_else(|| Failure::new(Answer::Unexpected, error.to_string()))
}

pub(crate) fn of_tls(error: &rustls::Error) -> Failure {
    let rustls::Error::InvalidCertificate(why) = error else {
        return match error {
            rustls::Error::AlertReceived(alert) if is_of_our_certificate(*alert) => {
                Failure::new(Answer::AccessDenied, "it asks for a client certificate that it trusts")
            }
            rustls::Error::InvalidMessage(_) | rustls::Error::AlertReceived(_) => {
                Failure::new(Answer::Unexpected, "it does not speak TLS as we do")
            }
            other => Failure::new(Answer::Unexpected, other.to_string()),
        };
    };
    let detail = match why {
        CertificateError::Expired | CertificateError::ExpiredContext { .. } => "it has expired".to_owned(),
        CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. } => {
            "it is not valid yet".to_owned()
        }
        CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. } => {
            "it is not for this host".to_owned()
        }
        CertificateError::UnknownIssuer => "its issuer is not trusted here".to_owned(),
        CertificateError::BadSignature => "its issuer has not signed it".to_owned(),
        CertificateError::Revoked => "it was revoked".to_owned(),
        other => other.to_string(),
    };
    Failure::new(Answer::Certificate, detail)
}

/// Whether the other side says of the certificate that it was shown, or was not, that it will not do (RFC 8446, 6.2).
fn is_of_our_certificate(alert: AlertDescription) -> bool {
    matches!(
        alert,
        AlertDescription::CertificateRequired
            | AlertDescription::UnknownCA
            | AlertDescription::BadCertificate
            | AlertDescription::UnsupportedCertificate
            | AlertDescription::CertificateExpired
            | AlertDescription::CertificateRevoked
            | AlertDescription::CertificateUnknown
            | AlertDescription::DecryptError
            | AlertDescription::AccessDenied
    )
}

/// Takes any certificate, but still has the other side prove that it has the key.
#[derive(Debug)]
struct AnyCertificate(Arc<CryptoProvider>);

impl ServerCertVerifier for AnyCertificate {
    fn verify_server_cert(
        &self,
        _: &CertificateDer<'_>,
        _: &[CertificateDer<'_>],
        _: &ServerName<'_>,
        _: &[u8],
        _: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        Ok(ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls12_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        verify_tls13_signature(message, certificate, signature, &self.0.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.0.signature_verification_algorithms.supported_schemes()
    }
}
