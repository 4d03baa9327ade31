//! Probing: which services a unit would talk to in a stage, and how one of them can answer.
//!
//! Nothing here opens a connection: [`targets`] says what to try, with the values as they resolve.

use std::collections::BTreeMap;
use std::fmt;

use crate::model::{Entry, Kind, Slot, StageId, Subject, auth};
use crate::resolve::{Effective, FieldId, Outcome, Session};
use crate::uri::host_of;
use crate::value::{Held, Value};

/// The port at which LDAP is spoken over TLS alone.
const LDAPS: u16 = 636;

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
    fn of(protocol: &str, port: u16) -> Option<Self> {
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

/// Something that cannot be tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotTried {
    /// The entry.
    pub address: String,
    /// Why.
    pub reason: String,
}

/// What came back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Answer {
    /// It answers, and lets the login in.
    Answers,
    /// Its name leads nowhere.
    NoSuchHost,
    /// Nothing listens at the port.
    Refused,
    /// Nothing came back in time.
    NoAnswer,
    /// Its certificate is not accepted.
    Certificate,
    /// The login is not accepted.
    AccessDenied,
    /// The database is not there.
    NoSuchDatabase,
    /// Something else answers, or it answers in a way that is not meant.
    Unexpected,
}

impl Answer {
    /// The words for it.
    pub fn words(self) -> &'static str {
        match self {
            Answer::Answers => "answers",
            Answer::NoSuchHost => "no such host",
            Answer::Refused => "refused",
            Answer::NoAnswer => "no answer",
            Answer::Certificate => "certificate",
            Answer::AccessDenied => "access denied",
            Answer::NoSuchDatabase => "no such database",
            Answer::Unexpected => "unexpected",
        }
    }
}

/// What a probe came to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Probed {
    /// What came back.
    pub answer: Answer,
    /// More of it in words; never a secret.
    pub detail: String,
    /// How many days the certificate is still good for, if one was seen.
    pub days_left: Option<i64>,
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
    fn key(&self) -> (String, String, u16, Option<String>) {
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
        (self.shown(), self.host.clone(), self.port, more)
    }

    /// What is shown to be let in, compared where it lies.
    fn secret(&self) -> Option<&Value> {
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

/// Merges targets that are one, and keeps their order.
pub fn merged(targets: Vec<Target>) -> Vec<Target> {
    // Few are alike in all but their secrets.
    let mut known: BTreeMap<_, Vec<usize>> = BTreeMap::new();
    let mut merged: Vec<Target> = Vec::new();
    for target in targets {
        let alike = known.entry(target.key()).or_default();
        if let Some(&at) = alike.iter().find(|at| merged[**at].secret() == target.secret()) {
            merged[at].addresses.extend(target.addresses);
        } else {
            alike.push(merged.len());
            merged.push(target);
        }
    }
    merged
}

/// The services of a subject in a stage where it belongs: of its connections and endpoints, as they
/// resolve there.
pub fn targets(
    session: &mut Session<'_, '_>,
    subject: Subject,
    stage: StageId,
) -> (Vec<Target>, Vec<NotTried>) {
    let ledger = session.ledger();
    let (mut found, mut not_tried) = (Vec::new(), Vec::new());
    for slot_entry in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, slot_entry.entry);
        if !matches!(entry.kind, Kind::Connection { .. } | Kind::Endpoint) {
            continue;
        }
        let address = format!("{}/{}@{}", ledger.owner(subject), entry.name, ledger.stage(stage).name);
        let slots =
            (slot_entry.first..).zip(&entry.fields).map(|(slot, field)| (Slot(slot), field.name.as_ref()));
        let mut values: Values<'_> = BTreeMap::new();
        for (slot, name) in slots {
            let outcome = session.outcome(FieldId { subject, stage, slot });
            if let (Some(name), Outcome::Value(effective)) = (name, outcome) {
                values.insert(name.as_str(), effective);
            }
        }
        match of_entry(entry, &values) {
            Ok(targets) => found.extend(
                targets.into_iter().map(|target| Target { addresses: vec![address.clone()], ..target }),
            ),
            Err(reason) => not_tried.push(NotTried { address, reason }),
        }
    }
    (found, not_tried)
}

/// Where a subject's connections and endpoints lead in a stage, as far as that can be read here: each by the entry's
/// address, with host and port, and the proxy between if there is one. Logins do not matter for that.
pub fn places(session: &mut Session<'_, '_>, subject: Subject, stage: StageId) -> Vec<PlaceOfService> {
    let ledger = session.ledger();
    let mut found = Vec::new();
    for slot_entry in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, slot_entry.entry);
        let address = || format!("{}/{}@{}", ledger.owner(subject), entry.name, ledger.stage(stage).name);
        let mut text = |name: &str| {
            let fields = (slot_entry.first..).zip(&entry.fields);
            let mut fields =
                fields.filter(|(_, field)| field.name.as_ref().is_some_and(|it| it.as_str() == name));
            let field = FieldId { subject, stage, slot: Slot(fields.next()?.0) };
            match session.outcome(field) {
                Outcome::Value(effective) => effective.expose().cloned(),
                _ => None,
            }
        };
        let one = |host: String, port: u16, proxy: Option<String>| PlaceOfService {
            address: address(),
            host,
            port,
            proxy,
        };
        match &entry.kind {
            Kind::Endpoint => {
                let base = text("base").map(|base| base.to_text().to_string());
                let proxy = text("proxy").map(|proxy| proxy.to_text().to_string());
                found.extend(base.and_then(|base| host_of(&base)).map(|(host, port)| one(host, port, proxy)));
            }
            Kind::Connection { .. } => {
                if let Some(Value::List(brokers)) = text("brokers") {
                    let brokers = brokers.iter().filter_map(broker);
                    found.extend(brokers.map(|(host, port)| one(host, port, None)));
                }
                let host = text("host").map(|host| host.to_text().to_string());
                let port = text("port").and_then(|port| port.to_text().parse().ok());
                found.extend(host.zip(port).map(|(host, port)| one(host, port, None)));
            }
            _ => {}
        }
    }
    found
}

/// Where a connection or endpoint leads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlaceOfService {
    /// The entry.
    pub address: String,
    /// The host.
    pub host: String,
    /// The port.
    pub port: u16,
    /// The proxy between.
    pub proxy: Option<String>,
}

/// The host and port of a broker.
fn broker(broker: &Value) -> Option<(String, u16)> {
    let text = broker.to_text();
    let (host, port) = text.rsplit_once(':')?;
    Some((host.to_owned(), port.parse().ok()?))
}

type Values<'l> = BTreeMap<&'l str, Effective<'l>>;

/// The targets of an entry, without addresses yet.
fn of_entry(entry: &Entry, values: &Values<'_>) -> Result<Vec<Target>, String> {
    if let Some((name, _)) = values.iter().find(|(name, it)| it.unread().is_some() && **name != "url") {
        return Err(format!("`{name}` is not readable here"));
    }
    let text =
        |name: &str| values.get(name).and_then(|it| it.expose()).map(|value| value.to_text().to_string());
    let held = |name: &str| {
        let value = values.get(name).and_then(|it| it.expose());
        value.map(|value| Held::new(value.clone(), true))
    };
    let login = || Login { user: text("user"), password: held("password") };
    let target =
        |host: String, port: u16, service: Service| Target { addresses: Vec::new(), host, port, service };
    match &entry.kind {
        Kind::Endpoint => {
            let url = text("base").ok_or("`base` has no value")?;
            let (host, port) = host_of(&url).ok_or("`base` is no address of a host")?;
            if !url.starts_with("http://") && !url.starts_with("https://") {
                let protocol = url.split("://").next().unwrap_or("tcp").to_owned();
                return Ok(vec![target(host, port, Service::Tcp { protocol })]);
            }
            let auth = match text("auth").as_deref() {
                Some(auth::BASIC) => Auth::Basic(login()),
                Some(auth::BEARER) => held("token").map_or(Auth::None, Auth::Bearer),
                Some(auth::API_KEY) => Auth::OwnHeader,
                _ => Auth::None,
            };
            Ok(vec![target(host, port, Service::Http { url, proxy: text("proxy"), auth })])
        }
        Kind::Connection { protocol, .. } => {
            let brokers = match values.get("brokers").and_then(|it| it.expose()) {
                Some(Value::List(brokers)) => brokers.as_slice(),
                _ => &[],
            };
            if !brokers.is_empty() {
                let service = || Service::Tcp { protocol: protocol.to_string() };
                let of_broker = |broker: &Value| {
                    let (host, port) = self::broker(broker)
                        .ok_or_else(|| format!("the broker `{}` is no HOST:PORT", broker.to_text()))?;
                    Ok(target(host, port, service()))
                };
                return brokers.iter().map(of_broker).collect();
            }
            let host = text("host").ok_or("`host` has no value")?;
            let port = text("port").and_then(|port| port.parse().ok()).ok_or("`port` has no value")?;
            let service = match protocol.as_str() {
                "postgresql" => {
                    let tls = tls(values, &host).map_err(|error| error.to_string())?;
                    Service::Postgresql { database: text("database"), login: login(), tls }
                }
                "redis" => {
                    let database = text("database").and_then(|number| number.parse().ok());
                    Service::Redis { database, login: login() }
                }
                "mysql" => {
                    let tls = tls(values, &host).map_err(|error| error.to_string())?;
                    Service::MariaDb { database: text("database"), login: login(), tls }
                }
                "ldap" if port != LDAPS => Service::Ldap { login: login() },
                other => Greeting::of(other, port)
                    .map_or_else(|| Service::Tcp { protocol: other.to_owned() }, Service::Greeting),
            };
            Ok(vec![target(host, port, service)])
        }
        _ => Ok(Vec::new()),
    }
}

/// What the option `sslmode` of PostgreSQL asks for.
fn tls(values: &Values<'_>, host: &str) -> Result<Tls, BadTlsMode> {
    let options = values.get("options").and_then(|it| it.expose());
    let mode = match options {
        Some(Value::Map(options)) => options.get("sslmode").map(Value::to_text),
        _ => None,
    };
    Tls::of(mode.as_deref(), host)
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
