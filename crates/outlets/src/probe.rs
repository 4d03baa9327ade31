//! Trying services: name lookup, TCP, TLS, and a login where the protocol is known.
//!
//! Nothing is written anywhere: the first step that fails is the answer. Each target has a thread and
//! a time limit of its own; one that hangs is left behind, and the others are reported all the same.

mod http;
mod postgresql;
mod redis;
mod tcp;
mod tls;

use std::sync::{Arc, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use cledger_core::probe::{Answer, Probed, Service, Target};
use jiff::Timestamp;
use rustls::RootCertStore;
use rustls::pki_types::CertificateDer;

/// How many targets are tried at once.
const AT_ONCE: usize = 512;

/// Why a target does not answer as it should.
struct Failure {
    answer: Answer,
    detail: String,
}

impl Failure {
    fn new(answer: Answer, detail: impl Into<String>) -> Self {
        Self { answer, detail: detail.into() }
    }
}

/// A target that answers.
struct Reached {
    detail: String,
    days_left: Option<i64>,
}

/// Tries targets.
#[derive(Clone)]
pub struct Prober {
    trusted: Arc<Vec<CertificateDer<'static>>>,
    roots: Arc<RootCertStore>,
    limit: Duration,
    now: Timestamp,
}

/// The moment at which a probe gives up.
#[derive(Clone, Copy)]
struct Deadline(Instant);

impl Deadline {
    /// What is left of the time; an answer where nothing is.
    fn left(self) -> Result<Duration, Failure> {
        let left = self.0.saturating_duration_since(Instant::now());
        if left.is_zero() { Err(Failure::new(Answer::NoAnswer, "within the time limit")) } else { Ok(left) }
    }
}

impl Prober {
    /// Trusts what the system trusts (or what `SSL_CERT_FILE` and `SSL_CERT_DIR` name), and gives each
    /// target so much time. Certificates are judged as of `now`.
    pub fn new(limit: Duration, now: Timestamp) -> Self {
        Self::trusting(rustls_native_certs::load_native_certs().certs, limit, now)
    }

    /// The same with these certificates as the only ones that are trusted.
    pub fn trusting(trusted: Vec<CertificateDer<'static>>, limit: Duration, now: Timestamp) -> Self {
        let mut roots = RootCertStore::empty();
        roots.add_parsable_certificates(trusted.iter().cloned());
        Self { trusted: Arc::new(trusted), roots: Arc::new(roots), limit, now }
    }

    /// Tries all targets, many at once, and gives what came of each, in their order.
    pub fn all(&self, targets: &[Target]) -> Vec<Probed> {
        targets.chunks(AT_ONCE).flat_map(|some| self.together(some)).collect()
    }

    fn together(&self, targets: &[Target]) -> Vec<Probed> {
        let (sender, receiver) = mpsc::channel();
        let deadline = Deadline(Instant::now() + self.limit);
        for (at, target) in targets.iter().enumerate() {
            let (sender, target, prober) = (sender.clone(), target.clone(), self.clone());
            thread::spawn(move || {
                // Nobody listens any more once the time is over.
                let _ = sender.send((at, prober.one(&target, deadline)));
            });
        }
        drop(sender);
        let mut found: Vec<Option<Probed>> = targets.iter().map(|_| None).collect();
        // What gives up by itself at the deadline has a moment more to say so.
        let end = deadline.0 + Duration::from_millis(300);
        while let Ok((at, probed)) = receiver.recv_timeout(end.saturating_duration_since(Instant::now())) {
            found[at] = Some(probed);
        }
        let late = || Probed {
            answer: Answer::NoAnswer,
            detail: format!("within {} s", self.limit.as_secs_f32()),
            days_left: None,
        };
        found.into_iter().map(|probed| probed.unwrap_or_else(late)).collect()
    }

    fn one(&self, target: &Target, deadline: Deadline) -> Probed {
        let tried = match &target.service {
            Service::Tcp { .. } => {
                let connected = tcp::connect(&target.host, target.port, deadline);
                connected.map(|_| Reached { detail: "as far as TCP".to_owned(), days_left: None })
            }
            Service::Postgresql { database, login, tls } => {
                postgresql::probe(self, target, (database.as_deref(), login, *tls), deadline)
            }
            Service::Redis { database, login } => redis::probe(target, *database, login, deadline),
            Service::Http { url, proxy, auth } => {
                http::probe(self, target, (url, proxy.as_deref(), auth), deadline)
            }
        };
        match tried {
            Ok(Reached { detail, days_left }) => Probed { answer: Answer::Answers, detail, days_left },
            Err(Failure { answer, detail }) => Probed { answer, detail, days_left: None },
        }
    }
}
