//! JSON documents behind HTTP (RFC 9110): read with GET, written with PUT under a condition, made with POST where only
//! the service knows their address.

mod found;
mod unit;

use std::thread;
use std::time::Duration;

use ureq::http::{Response, StatusCode, header};
use ureq::{Agent, Body};
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure, NotBrought};
use crate::file::LARGEST;
use crate::http::{Redirects, agent_with, failure, of_status};
use crate::oauth::basic;
use crate::reach::{HttpLogin, HttpReach};
use crate::sent::Sent;

/// How long the pause before the second try is; each further one is twice as long.
const FIRST_PAUSE: Duration = Duration::from_millis(100);

/// A document as it is there.
#[derive(Debug, PartialEq, Eq)]
struct Document {
    /// What stands in it.
    text: Zeroizing<String>,
    /// Its entity tag, if the service gives one.
    version: Option<String>,
}

/// What writing a document came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Put {
    /// The service took it.
    Taken,
    /// The document is not the one that it was.
    ChangedMeanwhile,
}

/// Reads and writes the documents of one service.
pub(crate) struct Documents<'r> {
    reach: &'r HttpReach,
    agent: Agent,
    /// What is shown at the door.
    authorization: Option<Zeroizing<String>>,
    deadline: Deadline,
}

impl<'r> Documents<'r> {
    /// Gets ready for the service; nothing is sent there yet, but a token may be fetched for it.
    pub(crate) fn of(reach: &'r HttpReach, deadline: Deadline) -> Result<Self, Failure> {
        let trust = reach.over_tls.then_some(&reach.trust);
        // A certificate is shown to the service that it is for, and to none that this one sends to.
        let certificate = reach.certificate.as_ref();
        let redirects = if certificate.is_some() { Redirects::Shown } else { Redirects::Followed };
        let agent = agent_with((trust, certificate), reach.proxy.as_deref(), redirects, deadline)?;
        let authorization = authorization(&reach.login, deadline)?;
        Ok(Self { reach, agent, authorization, deadline })
    }

    /// Reads a document; `None` where there is none.
    fn get(&self, url: &str) -> Result<Option<Document>, Failure> {
        Ok(self.get_page(url)?.map(|(document, _)| document))
    }

    /// The same, with the address of the next page, if a `Link` gives one.
    fn get_page(&self, url: &str) -> Result<Option<(Document, Option<String>)>, Failure> {
        let mut response = self.send(|left| {
            let request = self.agent.get(url).config().timeout_global(Some(left)).build();
            self.shown(request).call()
        })?;
        match response.status() {
            StatusCode::OK => {}
            StatusCode::NOT_FOUND | StatusCode::GONE => return Ok(None),
            status => return Err(of_status(status)),
        }
        let version = response.headers().get(header::ETAG);
        let version = version.and_then(|tag| tag.to_str().ok()).map(str::to_owned);
        let mut links = response.headers().get_all(header::LINK).iter().filter_map(|link| link.to_str().ok());
        let next = links.find_map(found::next_of);
        let limit = u64::try_from(LARGEST).unwrap_or(u64::MAX);
        let read = response.body_mut().with_config().limit(limit).read_to_vec();
        let bytes = read.map_err(|error| failure(&error, self.reach.proxy.is_some()))?;
        let text = String::from_utf8(bytes);
        let text = text.map_err(|_| Failure::unexpected("its answer is not UTF-8 text"))?;
        Ok(Some((Document { text: Zeroizing::new(text), version }, next)))
    }

    /// Has the service make a document. It is asked once: a second time would make a second one.
    fn post(&self, url: &str, text: &str) -> Result<Put, NotBrought> {
        let left = self.deadline.left().map_err(NotBrought::from)?;
        let request = self.agent.post(url).config().timeout_global(Some(left));
        let request = request.max_redirects(0).max_redirects_will_error(false).build();
        let sent = self.shown(request).header(header::CONTENT_TYPE, "application/json").send(text);
        let failed = |error: &ureq::Error| NotBrought::uncertain(failure(error, self.reach.proxy.is_some()));
        let response = sent.map_err(|error| failed(&error))?;
        of_change(response.status(), false).map_err(NotBrought::uncertain)
    }

    /// Writes a document in place of the one that was seen, or where there was none.
    fn put(&self, url: &str, text: &str, seen: Option<&Document>) -> Result<Put, NotBrought> {
        let is_ours = |found: Option<&Document>| found.is_some_and(|found| *found.text == *text);
        self.change(url, seen, is_ours, |left| {
            let request = self.agent.put(url).config().timeout_global(Some(left));
            let request = request.max_redirects(0).max_redirects_will_error(false).build();
            let request = self.shown(request).header(header::CONTENT_TYPE, "application/json");
            let request = match seen {
                None => request.header(header::IF_NONE_MATCH, "*"),
                Some(Document { version: Some(version), .. }) => request.header(header::IF_MATCH, version),
                Some(_) => request,
            };
            request.send(text)
        })
    }

    /// Takes a document away that was seen.
    fn delete(&self, url: &str, seen: &Document) -> Result<Put, NotBrought> {
        self.change(
            url,
            Some(seen),
            |found| found.is_none(),
            |left| {
                let request = self.agent.delete(url).config().timeout_global(Some(left));
                let request = self.shown(request.max_redirects(0).max_redirects_will_error(false).build());
                match &seen.version {
                    Some(version) => request.header(header::IF_MATCH, version).call(),
                    None => request.call(),
                }
            },
        )
    }

    /// Changes a document. Before each further try one looks again: an earlier one may have been carried out, or
    /// somebody else may have come in between, whom nothing but this protects where there are no entity tags.
    fn change(
        &self,
        url: &str,
        seen: Option<&Document>,
        is_done: impl Fn(Option<&Document>) -> bool,
        request: impl Fn(Duration) -> Result<Response<Body>, ureq::Error>,
    ) -> Result<Put, NotBrought> {
        let (mut pause, mut tries) = (FIRST_PAUSE, 0);
        loop {
            tries += 1;
            let left = self.deadline.left().map_err(NotBrought::uncertain)?;
            let sent = request(left);
            let again = is_worth_another_try(&sent) && tries <= self.reach.retries;
            if !again || self.deadline.left().map_or(true, |left| left <= pause) {
                let put = match sent {
                    Ok(response) => of_change(response.status(), is_done(None)),
                    Err(error) => Err(failure(&error, self.reach.proxy.is_some())),
                };
                return match put {
                    Ok(put) => Ok(put),
                    // An earlier try may have been carried out, whatever this one says.
                    Err(failure) if tries > 1 => Err(NotBrought::NotKnown(failure.to_string())),
                    Err(failure) => Err(NotBrought::uncertain(failure)),
                };
            }
            thread::sleep(pause);
            pause *= 2;
            let not_known = |failure: Failure| NotBrought::NotKnown(failure.to_string());
            let found = self.get(url).map_err(not_known)?;
            if is_done(found.as_ref()) {
                return Ok(Put::Taken);
            }
            if found.as_ref() != seen {
                return Ok(Put::ChangedMeanwhile);
            }
        }
    }

    fn shown<B>(&self, request: ureq::RequestBuilder<B>) -> ureq::RequestBuilder<B> {
        match &self.authorization {
            Some(header) => request.header(header::AUTHORIZATION, header.as_str()),
            None => request,
        }
    }

    /// Sends a request that changes nothing, and again after a pause where it found nobody or came at a bad time.
    fn send(
        &self,
        request: impl Fn(Duration) -> Result<Response<Body>, ureq::Error>,
    ) -> Result<Response<Body>, Failure> {
        let (mut pause, mut tries) = (FIRST_PAUSE, 0);
        loop {
            tries += 1;
            let sent = request(self.deadline.left()?);
            if !is_worth_another_try(&sent) || tries > self.reach.retries || self.deadline.left()? <= pause {
                return sent.map_err(|error| failure(&error, self.reach.proxy.is_some()));
            }
            thread::sleep(pause);
            pause *= 2;
        }
    }
}

/// The header that shows who one is.
fn authorization(login: &HttpLogin, deadline: Deadline) -> Result<Option<Zeroizing<String>>, Failure> {
    let bearer = |token: &Sent| Zeroizing::new(format!("Bearer {}", token.expose()));
    Ok(match login {
        HttpLogin::None => None,
        HttpLogin::Bearer(token) => Some(bearer(token)),
        HttpLogin::Basic(user, password) => Some(basic(user, password.expose())),
        HttpLogin::OAuth(oauth) => Some(bearer(&oauth.token(deadline)?)),
    })
}

/// Whether a request found nobody, or came at a bad time.
fn is_worth_another_try(sent: &Result<Response<Body>, ureq::Error>) -> bool {
    match sent {
        Ok(response) => matches!(response.status().as_u16(), 429 | 502 | 503 | 504),
        Err(error) => matches!(error, ureq::Error::Io(_) | ureq::Error::ConnectionFailed),
    }
}

/// What an answer to a change says; `none_is_done` where there is to be no document.
fn of_change(status: StatusCode, none_is_done: bool) -> Result<Put, Failure> {
    match status {
        StatusCode::PRECONDITION_FAILED | StatusCode::CONFLICT => Ok(Put::ChangedMeanwhile),
        StatusCode::NOT_FOUND | StatusCode::GONE if none_is_done => Ok(Put::Taken),
        status if status.is_success() => Ok(Put::Taken),
        status if status.is_redirection() => {
            Err(Failure::unexpected(format!("status {}: it sends elsewhere", status.as_u16())))
        }
        status => Err(of_status(status)),
    }
}
