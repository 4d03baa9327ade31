//! Which services a unit would talk to in a stage, with the values as they resolve.

use std::collections::BTreeMap;

use super::service::{Auth, BadTlsMode, Greeting, Login, Service, Target, Tls, Wanted};
use crate::model::{Entry, Kind, Slot, SlotEntry, StageId, Subject, auth};
use crate::resolve::{Effective, FieldId, Outcome, Session};
use crate::uri::host_of;
use crate::value::{Held, Value};

/// The port at which LDAP is spoken over TLS alone.
const LDAPS: u16 = 636;

/// Something that cannot be tried.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotTried {
    /// The entry, or what the contract expects of it.
    pub address: String,
    /// Why.
    pub reason: String,
}

/// The address of an entry of a subject in a stage.
pub(super) fn address(
    session: &Session<'_, '_>,
    entry: &Entry,
    (subject, stage): (Subject, StageId),
) -> String {
    let ledger = session.ledger();
    format!("{}/{}@{}", ledger.owner(subject), entry.name, ledger.stage(stage).name)
}

/// The services behind a connection or endpoint of a subject in a stage, as it resolves there; the reason why they cannot
/// be tried.
pub(super) fn of_slot_entry(
    session: &mut Session<'_, '_>,
    slot_entry: SlotEntry,
    (subject, stage): (Subject, StageId),
) -> Result<Vec<Target>, NotTried> {
    let entry = session.ledger().entry(subject, slot_entry.entry);
    let address = address(session, entry, (subject, stage));
    let slots =
        (slot_entry.first..).zip(&entry.fields).map(|(slot, field)| (Slot(slot), field.name.as_ref()));
    let mut values: Values<'_> = BTreeMap::new();
    for (slot, name) in slots {
        let outcome = session.outcome(FieldId { subject, stage, slot });
        if let (Some(name), Outcome::Value(effective)) = (name, outcome) {
            values.insert(name.as_str(), effective);
        }
    }
    let found = of_entry(entry, &values).map_err(|reason| NotTried { address: address.clone(), reason })?;
    Ok(found.into_iter().map(|target| Target { addresses: vec![address.clone()], ..target }).collect())
}

/// Where a subject's connections and endpoints lead in a stage, as far as that can be read here: each by the entry's
/// address, with host and port, and the proxy between if there is one. Logins do not matter for that.
pub fn places(session: &mut Session<'_, '_>, subject: Subject, stage: StageId) -> Vec<PlaceOfService> {
    let ledger = session.ledger();
    let mut found = Vec::new();
    for slot_entry in &ledger.slots(subject).entries {
        let entry = ledger.entry(subject, slot_entry.entry);
        let address = address(session, entry, (subject, stage));
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
            address: address.clone(),
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
    let target = |host: String, port: u16, service: Service| Target {
        addresses: Vec::new(),
        host,
        port,
        service,
        wanted: Wanted::default(),
    };
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
