//! HTTP and HTTPS: one GET, redirects not followed, with the login of the endpoint.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::probe::{Answer, Auth, Target};
use cledger_core::uri::host_of;
use zeroize::Zeroizing;

use super::{Prober, Reached};
use crate::failure::{Deadline, Failure};
use crate::http::{Redirects, agent, failure};
use crate::{tcp, tls};

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
            days_left = tls::days_left(stream, &target.host, prober.trust.store(), prober.now)?;
        }
    }
    let over_tls = url.starts_with("https://");
    let agent = agent(over_tls.then_some(&prober.trust), proxy, Redirects::Shown, deadline)?;
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
