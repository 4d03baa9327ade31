//! HTTP and HTTPS: one GET, redirects not followed, with the login of the endpoint.

use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::probe::{Answer, Auth, Target};
use cledger_core::uri::host_of;
use ureq::tls::{Certificate, RootCerts, TlsConfig, TlsProvider};
use ureq::{Agent, Proxy};
use zeroize::Zeroizing;

use super::{Deadline, Failure, Prober, Reached, tcp, tls};

pub(super) fn probe(
    prober: &Prober,
    target: &Target,
    (url, proxy, auth): (&str, Option<&str>, &Auth),
    deadline: Deadline,
) -> Result<Reached, Failure> {
    let mut days_left = None;
    if let Some(proxy) = proxy {
        let (host, port) =
            host_of(proxy).ok_or_else(|| Failure::new(Answer::Unexpected, "the proxy is no address"))?;
        let connected = tcp::connect(&host, port, deadline);
        connected
            .map_err(|failure| Failure::new(failure.answer, format!("the proxy: {}", failure.detail)))?;
    } else {
        let stream = tcp::connect(&target.host, target.port, deadline)?;
        if url.starts_with("https://") {
            days_left = tls::days_left(stream, &target.host, prober.roots.clone(), prober.now)?;
        }
    }
    let agent = agent(prober, proxy, deadline)?;
    let mut request = agent.get(url);
    let header = match auth {
        Auth::None | Auth::OwnHeader => None,
        Auth::Basic(login) => {
            let user = login.user.as_deref().unwrap_or_default();
            let password = login.password.as_ref().map(|it| it.expose().to_text()).unwrap_or_default();
            let pair = Zeroizing::new(format!("{user}:{password}"));
            Some(Zeroizing::new(format!("Basic {}", STANDARD.encode(pair.as_bytes()))))
        }
        Auth::Bearer(token) => Some(Zeroizing::new(format!("Bearer {}", token.expose().to_text()))),
    };
    if let Some(header) = &header {
        request = request.header("Authorization", header.as_str());
    }
    let answer = request.call().map_err(|error| failure(&error, proxy.is_some()))?;
    let status = answer.status().as_u16();
    match status {
        401 | 403 if matches!(auth, Auth::OwnHeader) => {
            Ok(Reached { detail: format!("status {status}, without its key"), days_left })
        }
        401 | 403 => Err(Failure::new(Answer::AccessDenied, format!("status {status}"))),
        407 => Err(Failure::new(Answer::AccessDenied, "the proxy wants a login")),
        500.. => Err(Failure::new(Answer::Unexpected, format!("status {status}"))),
        _ => Ok(Reached { detail: format!("status {status}"), days_left }),
    }
}

fn agent(prober: &Prober, proxy: Option<&str>, deadline: Deadline) -> Result<Agent, Failure> {
    let trusted: Vec<Certificate<'static>> =
        prober.trusted.iter().map(|der| Certificate::from_der(der).to_owned()).collect();
    let tls = TlsConfig::builder()
        .provider(TlsProvider::Rustls)
        .root_certs(RootCerts::Specific(Arc::new(trusted)))
        .unversioned_rustls_crypto_provider(tls::provider())
        .build();
    let proxy = proxy
        .map(|proxy| {
            Proxy::new(proxy).map_err(|_| Failure::new(Answer::Unexpected, "the proxy is no address"))
        })
        .transpose()?;
    let config = Agent::config_builder()
        .timeout_global(Some(deadline.left()?))
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .user_agent("cledger-probe")
        .proxy(proxy)
        .tls_config(tls)
        .build();
    Ok(config.into())
}

fn failure(error: &ureq::Error, by_proxy: bool) -> Failure {
    match error {
        ureq::Error::Timeout(_) => Failure::new(Answer::NoAnswer, "within the time limit"),
        ureq::Error::HostNotFound => Failure::new(Answer::NoSuchHost, "its name leads nowhere"),
        ureq::Error::ConnectProxyFailed(said) if said.contains("407") => {
            Failure::new(Answer::AccessDenied, "the proxy wants a login")
        }
        ureq::Error::ConnectProxyFailed(_) => Failure::new(Answer::Unexpected, "the proxy does not go there"),
        ureq::Error::ConnectionFailed if by_proxy => {
            Failure::new(Answer::Refused, "the proxy: nothing listens there")
        }
        ureq::Error::Protocol(_) => Failure::new(Answer::Unexpected, "it does not speak HTTP as we do"),
        other => tls::of_any(other),
    }
}
