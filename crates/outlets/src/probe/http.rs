//! HTTP and HTTPS: one GET, redirects not followed, with the login of the endpoint.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::probe::{Answer, Auth, Probed, Target};
use cledger_core::uri::host_of;
use zeroize::Zeroizing;

use super::Prober;
use crate::failure::{Deadline, Failure};
use crate::http::{Redirects, agent, failure};
use crate::{tcp, tls};

/// The most bytes of a page that are read to find a text.
const LARGEST_PAGE: u64 = 1 << 20;

pub(super) fn probe(
    prober: &Prober,
    target: &Target,
    (url, proxy, auth): (&str, Option<&str>, &Auth),
    deadline: Deadline,
) -> Result<Probed, Failure> {
    let mut days_left = None;
    if let Some(proxy) = proxy {
        let (host, port) =
            host_of(proxy).ok_or_else(|| Failure::new(Answer::Unexpected, "the proxy is no address"))?;
        let connected = tcp::connect(&host, port, deadline);
        connected.map_err(|failure| Failure::of_proxy(failure.answer, failure.detail))?;
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
    let mut answer = request.call().map_err(|error| failure(&error, proxy.is_some()))?;
    let status = answer.status().as_u16();
    let detail = format!("status {status}");
    let (word, detail) = match status {
        401 | 403 if matches!(auth, Auth::OwnHeader) => {
            (Answer::Answers, format!("{detail}, without its key"))
        }
        401 | 403 => (Answer::AccessDenied, detail),
        407 => return Err(Failure::of_proxy(Answer::AccessDenied, "it wants a login")),
        500.. => (Answer::Unexpected, detail),
        _ => (Answer::Answers, detail),
    };
    // In plain text a proxy may say so as well as the service.
    let by_proxy = proxy.is_some() && !over_tls && status >= 400;
    let page = Probed { days_left, status: Some(status), by_proxy, ..Probed::new(word, detail) };
    let Some(text) = &target.wanted.text else { return Ok(page) };
    let body = answer.body_mut().with_config().limit(LARGEST_PAGE).read_to_vec();
    Ok(match body {
        Ok(body) => {
            let has_text = body.windows(text.len()).any(|part| part == text.as_bytes());
            let detail = if has_text { page.detail } else { format!("{}, without the text", page.detail) };
            Probed { has_text: Some(has_text), detail, ..page }
        }
        Err(error) => {
            let failure = failure(&error, proxy.is_some());
            Probed { detail: format!("{}, and the page is not read: {failure}", page.detail), ..page }
        }
    })
}
