//! Tokens that a service gives for client credentials (RFC 6749, section 4.4).

use std::sync::{Mutex, PoisonError};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::uri::ENCODED;
use percent_encoding::utf8_percent_encode;
use serde_json::Value;
use ureq::http::header;
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure};
use crate::http::{Redirects, agent, failure, of_status};
use crate::sent::Sent;
use crate::trust::Trust;

/// The largest answer that is read, in bytes.
const LARGEST: u64 = 1 << 20;

/// Client credentials, and the token that was given for them.
#[derive(Debug)]
pub struct OAuth {
    url: String,
    client: String,
    secret: Sent,
    scope: Option<String>,
    trust: Trust,
    token: Mutex<Option<Sent>>,
}

impl OAuth {
    /// Credentials for which no token is fetched yet.
    pub fn new(url: String, client: String, secret: Sent, scope: Option<String>, trust: Trust) -> Self {
        Self { url, client, secret, scope, trust, token: Mutex::default() }
    }

    /// The token, which is fetched when it is needed first.
    pub(crate) fn token(&self, deadline: Deadline) -> Result<Sent, Failure> {
        let mut known = self.token.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(token) = &*known {
            return Ok(token.clone());
        }
        let no_token =
            |failure: Failure| Failure { detail: format!("no token: {}", failure.detail), ..failure };
        let token = self.fetch(deadline).map_err(no_token)?;
        *known = Some(token.clone());
        Ok(token)
    }

    fn fetch(&self, deadline: Deadline) -> Result<Sent, Failure> {
        let trust = self.url.starts_with("https://").then_some(&self.trust);
        // What is sent there goes nowhere else.
        let agent = agent(trust, None, Redirects::Shown, deadline)?;
        let scope =
            self.scope.as_ref().map(|scope| format!("&scope={}", utf8_percent_encode(scope, ENCODED)));
        let body = format!("grant_type=client_credentials{}", scope.unwrap_or_default());
        let login = basic(
            &utf8_percent_encode(&self.client, ENCODED).to_string(),
            &Zeroizing::new(utf8_percent_encode(self.secret.expose(), ENCODED).to_string()),
        );
        let request = agent.post(&self.url).header(header::AUTHORIZATION, login.as_str());
        let request = request.header(header::CONTENT_TYPE, "application/x-www-form-urlencoded");
        let mut response = request.send(&body).map_err(|error| failure(&error, false))?;
        let status = response.status();
        if !status.is_success() {
            return Err(of_status(status));
        }
        let read = response.body_mut().with_config().limit(LARGEST).read_to_vec().map(Zeroizing::new);
        let answer = read.map_err(|error| failure(&error, false))?;
        let answer: Value =
            serde_json::from_slice(&answer).map_err(|_| Failure::unexpected("its answer is not JSON"))?;
        let kind = answer.get("token_type").and_then(Value::as_str).unwrap_or_default();
        let token = answer.get("access_token").and_then(Value::as_str);
        match token {
            Some(token) if kind.eq_ignore_ascii_case("bearer") => {
                Ok(Sent::new(Zeroizing::new(token.to_owned())))
            }
            Some(_) => Err(Failure::unexpected("its token is no bearer token")),
            None => Err(Failure::unexpected("its answer has no `access_token`")),
        }
    }
}

/// The header for a user and a password (RFC 7617).
pub(crate) fn basic(user: &str, password: &str) -> Zeroizing<String> {
    let both = Zeroizing::new(format!("{user}:{password}"));
    Zeroizing::new(format!("Basic {}", *Zeroizing::new(STANDARD.encode(both.as_bytes()))))
}
