//! Trying services: name lookup, TCP, TLS, and a login where the protocol is known.
//!
//! Nothing is written anywhere: the first step that fails is the answer. Each target has a thread and
//! a time limit of its own; one that hangs is left behind, and the others are reported all the same.

mod greeting;
mod http;
mod ldap;
mod mariadb;
mod postgresql;
mod redis;

use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use cledger_core::probe::{Answer, Probed, Service, Target};
use jiff::Timestamp;

use crate::failure::{Deadline, Failure};
use crate::tcp;
use crate::trust::Trust;

/// How many targets are tried at once.
const AT_ONCE: usize = 512;

/// Tries targets.
#[derive(Clone)]
pub struct Prober {
    trust: Trust,
    limit: Duration,
    now: Timestamp,
}

impl Prober {
    /// Gives each target so much time. Certificates are judged as of `now`.
    pub fn new(trust: Trust, limit: Duration, now: Timestamp) -> Self {
        Self { trust, limit, now }
    }

    /// Tries all targets, many at once, and gives what came of each, in their order.
    pub fn all(&self, targets: &[Target]) -> Vec<Probed> {
        targets.chunks(AT_ONCE).flat_map(|some| self.together(some)).collect()
    }

    fn together(&self, targets: &[Target]) -> Vec<Probed> {
        let (sender, receiver) = mpsc::channel();
        let deadline = Deadline::within(self.limit);
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
        let late = || Probed::new(Answer::NoAnswer, format!("within {} s", self.limit.as_secs_f32()));
        found.into_iter().map(|probed| probed.unwrap_or_else(late)).collect()
    }

    fn one(&self, target: &Target, deadline: Deadline) -> Probed {
        let tried = match &target.service {
            Service::Tcp { .. } => {
                let connected = tcp::connect(&target.host, target.port, deadline);
                connected.map(|_| Probed::new(Answer::Answers, "as far as TCP"))
            }
            Service::Postgresql { database, login, tls } => {
                postgresql::probe(self, target, (database.as_deref(), login, *tls), deadline)
            }
            Service::MariaDb { database, login, tls } => {
                mariadb::probe(self, target, (database.as_deref(), login, *tls), deadline)
            }
            Service::Greeting(greeting) => greeting::probe(target, *greeting, deadline),
            Service::Ldap { login } => ldap::probe(target, login, deadline),
            Service::Redis { database, login } => redis::probe(target, *database, login, deadline),
            Service::Http { url, proxy, auth } => {
                http::probe(self, target, (url, proxy.as_deref(), auth), deadline)
            }
        };
        match tried {
            Ok(probed) => probed,
            Err(Failure { answer, detail, by_proxy }) => Probed { by_proxy, ..Probed::new(answer, detail) },
        }
    }
}
