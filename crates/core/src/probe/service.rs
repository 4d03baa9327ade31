//! A service that is to be tried, and how to speak to it.

use std::fmt;

use super::probed::Probed;
use crate::model::{Answer, Expected};
use crate::name::Name;
use crate::value::{Held, Value};

/// A service that is to be tried.
#[derive(Clone)]
pub struct Target {
    /// The entries that lead there, as addresses.
    pub addresses: Vec<String>,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// How to speak to it.
    pub service: Service,
    /// What is to come back.
    pub wanted: Wanted,
}

/// What is to come back of a service: an answer of any kind where nothing is expected of it.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Wanted {
    /// The `[[probe]]` of the contract that says so.
    pub by: Option<Name>,
    /// One of these.
    pub expect: Vec<Expected>,
    /// What the page holds.
    pub text: Option<String>,
}

impl Wanted {
    /// Whether this is what was wanted. What a proxy says is nothing that the service said.
    pub fn is_met(&self, probed: &Probed) -> bool {
        let is_this = |expected: &Expected| match *expected {
            Expected::Answer(answer) => probed.answer == answer,
            Expected::Status(status) => probed.status == Some(status),
        };
        let is_one = if self.expect.is_empty() {
            probed.answer == Answer::Answers
        } else {
            self.expect.iter().any(is_this)
        };
        is_one && !probed.by_proxy && (self.text.is_none() || probed.has_text == Some(true))
    }

    /// In words, where a contract says what is expected.
    pub fn told(&self) -> Option<String> {
        self.by.as_ref()?;
        let answers = self.expect.iter().map(|expected| expected.told()).collect::<Vec<_>>().join(" or ");
        Some(match &self.text {
            None => answers,
            Some(text) => format!("{answers}, with \u{201c}{text}\u{201d} in it"),
        })
    }
}

// Logins are in it.
impl fmt::Debug for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Target").field("host", &self.host).field("port", &self.port).finish_non_exhaustive()
    }
}

/// How to speak to a service.
#[derive(Clone)]
pub enum Service {
    /// Nothing is said: a connection is enough.
    Tcp {
        /// The protocol that its users speak.
        protocol: String,
    },
    /// PostgreSQL.
    Postgresql {
        /// The database.
        database: Option<String>,
        /// Who logs in.
        login: Login,
        /// Whether it is encrypted (`sslmode`), and whether the certificate counts.
        tls: Tls,
    },
    /// MariaDB, and what speaks as it does.
    MariaDb {
        /// The database.
        database: Option<String>,
        /// Who logs in.
        login: Login,
        /// Whether it is encrypted (`sslmode`), and whether the certificate counts.
        tls: Tls,
    },
    /// A service that says what it is before anybody logs in.
    Greeting(Greeting),
    /// LDAP (RFC 4511): a simple bind, of nobody where no user is said.
    Ldap {
        /// Who logs in: a distinguished name.
        login: Login,
    },
    /// Redis (RESP).
    Redis {
        /// The number of the database.
        database: Option<i64>,
        /// Who logs in.
        login: Login,
    },
    /// HTTP or HTTPS.
    Http {
        /// Where.
        url: String,
        /// The proxy on the way there.
        proxy: Option<String>,
        /// What is shown at the door.
        auth: Auth,
    },
}

/// The protocols in which a service says what it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Greeting {
    /// Mail (RFC 5321).
    Smtp,
    /// AMQP 0-9-1.
    Amqp,
    /// SFTP, which is spoken over SSH (RFC 4253).
    Sftp,
}

impl Greeting {
    const ALL: [Greeting; 3] = [Greeting::Smtp, Greeting::Amqp, Greeting::Sftp];

    /// The protocol with this name, unless the port is one at which it is spoken over TLS alone.
    pub(super) fn of(protocol: &str, port: u16) -> Option<Self> {
        let found = Self::ALL.into_iter().find(|greeting| greeting.protocol() == protocol)?;
        let is_encrypted = matches!((found, port), (Greeting::Smtp, 465) | (Greeting::Amqp, 5671));
        (!is_encrypted).then_some(found)
    }

    /// Its name in contracts.
    pub fn protocol(self) -> &'static str {
        match self {
            Greeting::Smtp => "smtp",
            Greeting::Amqp => "amqp",
            Greeting::Sftp => "sftp",
        }
    }
}

/// A user and a password.
#[derive(Clone, Default)]
pub struct Login {
    /// The user.
    pub user: Option<String>,
    /// The password.
    pub password: Option<Held>,
}

/// Whether a connection is encrypted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tls {
    /// No.
    Off,
    /// Yes, and the certificate must be trusted and of this host.
    Verified,
    /// Yes, whatever the certificate.
    Unverified,
}

/// An `sslmode` that is not taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum BadTlsMode {
    /// It goes on in plain text where the other side has no TLS, or says so.
    #[error("`sslmode` is `prefer` or `allow`, which go on in plain text where the other side wants that")]
    FailsOpen,
    /// No such word is known.
    #[error("`sslmode` is none of `disable`, `require`, `verify-ca` and `verify-full`")]
    Unknown,
}

impl Tls {
    /// What `sslmode` of PostgreSQL asks for (lower case, one word). Where it is left out, only this machine
    /// itself is spoken to in plain text.
    pub fn of(mode: Option<&str>, host: &str) -> Result<Self, BadTlsMode> {
        match mode {
            Some("verify-full" | "verify-ca") => Ok(Tls::Verified),
            Some("require") => Ok(Tls::Unverified),
            Some("disable") => Ok(Tls::Off),
            Some("prefer" | "allow") => Err(BadTlsMode::FailsOpen),
            Some(_) => Err(BadTlsMode::Unknown),
            None if is_this_machine(host) => Ok(Tls::Off),
            None => Ok(Tls::Verified),
        }
    }
}

/// Whether a host is this machine by its very name: `localhost`, a loopback address, or the path of a socket.
pub fn is_this_machine(host: &str) -> bool {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    host.is_empty()
        || host.starts_with('/')
        || host.eq_ignore_ascii_case("localhost")
        || bare.parse::<std::net::IpAddr>().is_ok_and(|address| address.is_loopback())
}

/// How somebody shows who they are over HTTP.
#[derive(Clone)]
pub enum Auth {
    /// Not at all.
    None,
    /// In a header that only the service knows: nothing is shown, and being turned away is an answer.
    OwnHeader,
    /// User and password (RFC 7617).
    Basic(Login),
    /// A token (RFC 6750).
    Bearer(Held),
}

impl Target {
    /// The service as people write it, without a login.
    pub fn shown(&self) -> String {
        match &self.service {
            Service::Http { url, .. } => url.clone(),
            Service::Tcp { protocol } if protocol == "tcp" => format!("{}:{}", self.host, self.port),
            Service::Tcp { protocol } => format!("{protocol}://{}:{}", self.host, self.port),
            Service::Postgresql { database, .. } => {
                let database = database.as_deref().unwrap_or_default();
                format!("postgresql://{}:{}/{database}", self.host, self.port)
            }
            Service::MariaDb { database, .. } => {
                let database = database.as_deref().unwrap_or_default();
                format!("mysql://{}:{}/{database}", self.host, self.port)
            }
            Service::Greeting(greeting) => format!("{}://{}:{}", greeting.protocol(), self.host, self.port),
            Service::Ldap { .. } => format!("ldap://{}:{}", self.host, self.port),
            Service::Redis { database, .. } => {
                let database = database.map(|number| format!("/{number}")).unwrap_or_default();
                format!("redis://{}:{}{database}", self.host, self.port)
            }
        }
    }

    /// What tells it from others, but for secrets.
    pub(super) fn key(&self) -> (String, String, u16, Option<String>, Wanted) {
        let more = match &self.service {
            Service::Tcp { .. } | Service::Greeting(_) => None,
            Service::Postgresql { login, tls, .. } | Service::MariaDb { login, tls, .. } => {
                Some(format!("{tls:?} {:?}", login.user))
            }
            Service::Redis { login, .. } | Service::Ldap { login } => login.user.clone(),
            Service::Http { proxy, auth, .. } => {
                let user = if let Auth::Basic(login) = auth { login.user.clone() } else { None };
                Some(format!("{proxy:?} {:?} {user:?}", std::mem::discriminant(auth)))
            }
        };
        (self.shown(), self.host.clone(), self.port, more, self.wanted.clone())
    }

    /// What is shown to be let in, compared where it lies.
    pub(super) fn secret(&self) -> Option<&Value> {
        let held = match &self.service {
            Service::Tcp { .. } | Service::Greeting(_) => None,
            Service::Postgresql { login, .. }
            | Service::MariaDb { login, .. }
            | Service::Ldap { login }
            | Service::Redis { login, .. } => login.password.as_ref(),
            Service::Http { auth, .. } => match auth {
                Auth::None | Auth::OwnHeader => None,
                Auth::Basic(login) => login.password.as_ref(),
                Auth::Bearer(token) => Some(token),
            },
        };
        held.map(Held::expose)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_text_is_spoken_only_on_purpose_or_at_home() {
        for (mode, host, expected) in [
            (None, "db.prod.example", Ok(Tls::Verified)),
            (None, "10.1.2.3", Ok(Tls::Verified)),
            (None, "localhost.evil.example", Ok(Tls::Verified)),
            (None, "127.0.0.1", Ok(Tls::Off)),
            (None, "[::1]", Ok(Tls::Off)),
            (None, "LocalHost", Ok(Tls::Off)),
            (None, "/run/postgresql", Ok(Tls::Off)),
            (Some("disable"), "db.prod.example", Ok(Tls::Off)),
            (Some("require"), "localhost", Ok(Tls::Unverified)),
            (Some("verify-ca"), "db", Ok(Tls::Verified)),
            (Some("verify-full"), "localhost", Ok(Tls::Verified)),
            (Some("prefer"), "db", Err(BadTlsMode::FailsOpen)),
            (Some("allow"), "localhost", Err(BadTlsMode::FailsOpen)),
            (Some("Verify-Full"), "db", Err(BadTlsMode::Unknown)),
            (Some("verify_full"), "db", Err(BadTlsMode::Unknown)),
            (Some("require "), "db", Err(BadTlsMode::Unknown)),
            (Some(""), "db", Err(BadTlsMode::Unknown)),
        ] {
            assert_eq!(Tls::of(mode, host), expected, "{mode:?} {host}");
        }
    }
}
