//! What everybody needs who speaks HTTP.

use std::sync::Arc;

use cledger_core::probe::Answer;
use ureq::http::StatusCode;
use ureq::tls::{Certificate, RootCerts, TlsConfig, TlsProvider};
use ureq::{Agent, Proxy};

use crate::client_certificate::ClientCertificate;
use crate::failure::{Deadline, Failure};
use crate::tls;
use crate::trust::Trust;

/// What becomes of an answer that names another address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Redirects {
    /// It is an answer like any other.
    Shown,
    /// It is gone after, a few times.
    Followed,
}

/// The most redirects that are followed.
const MOST_REDIRECTS: u32 = 5;

/// Makes requests within a time; `trust` is needed where they go over TLS.
pub(crate) fn agent(
    trust: Option<&Trust>,
    proxy: Option<&str>,
    redirects: Redirects,
    deadline: Deadline,
) -> Result<Agent, Failure> {
    agent_with((trust, None), proxy, redirects, deadline)
}

/// The same, showing a certificate where the other side asks for one.
pub(crate) fn agent_with(
    (trust, certificate): (Option<&Trust>, Option<&ClientCertificate>),
    proxy: Option<&str>,
    redirects: Redirects,
    deadline: Deadline,
) -> Result<Agent, Failure> {
    let trusted = trust.map(Trust::certificates).unwrap_or_default();
    let trusted: Vec<Certificate<'static>> =
        trusted.iter().map(|der| Certificate::from_der(der).to_owned()).collect();
    let tls = TlsConfig::builder()
        .provider(TlsProvider::Rustls)
        .root_certs(RootCerts::Specific(Arc::new(trusted)))
        .client_cert(certificate.map(ClientCertificate::shown).transpose()?)
        .unversioned_rustls_crypto_provider(tls::provider())
        .build();
    let proxy = proxy
        .map(|proxy| Proxy::new(proxy).map_err(|_| Failure::unexpected("the proxy is no address")))
        .transpose()?;
    let followed = redirects == Redirects::Followed;
    let config = Agent::config_builder()
        .timeout_global(Some(deadline.left()?))
        .max_redirects(if followed { MOST_REDIRECTS } else { 0 })
        .max_redirects_will_error(followed)
        .http_status_as_error(false)
        .user_agent("cledger")
        .proxy(proxy)
        .tls_config(tls)
        .build();
    Ok(config.into())
}

/// What an error says; `by_proxy` where one is between.
pub(crate) fn failure(error: &ureq::Error, by_proxy: bool) -> Failure {
    match error {
        ureq::Error::Timeout(_) => Failure::new(Answer::NoAnswer, "within the time limit"),
        ureq::Error::Io(error) => tls::of_any(error),
        ureq::Error::HostNotFound => Failure::new(Answer::NoSuchHost, "its name leads nowhere"),
        ureq::Error::ConnectProxyFailed(said) if said.contains("407") => {
            Failure::of_proxy(Answer::AccessDenied, "it wants a login")
        }
        ureq::Error::ConnectProxyFailed(_) => Failure::of_proxy(Answer::Unexpected, "it does not go there"),
        ureq::Error::ConnectionFailed if by_proxy => {
            Failure::of_proxy(Answer::Refused, "nothing listens there")
        }
        ureq::Error::TooManyRedirects => Failure::unexpected("it sends from one address to the next"),
        ureq::Error::BodyExceedsLimit(_) => Failure::unexpected("its answer is too large"),
        ureq::Error::Protocol(_) => Failure::new(Answer::Unexpected, "it does not speak HTTP as we do"),
        other => tls::of_any(other),
    }
}

/// What an answer says that is neither a success nor sends elsewhere.
pub(crate) fn of_status(status: StatusCode) -> Failure {
    let number = status.as_u16();
    match number {
        401 | 403 => Failure::new(Answer::AccessDenied, format!("status {number}")),
        407 => Failure::of_proxy(Answer::AccessDenied, "it wants a login"),
        _ => Failure::unexpected(format!("status {number}")),
    }
}
