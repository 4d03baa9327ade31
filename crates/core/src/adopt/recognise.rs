//! Recognising connections and endpoints: by URLs, and by names that end with `host`, `port`, `user`…

use std::collections::BTreeMap;

use percent_encoding::percent_decode_str;

use super::infer::all_as;
use super::secrecy::password_of;
use super::words::words;
use super::{OldField, ProposedKind};
use crate::model::{Declaration, StageId, UrlShape, auth, endpoint_fields, protocol_fields, usual_port};
use crate::name::Name;
use crate::resolve::UrlParts;
use crate::source::Place;
use crate::types::Type;
use crate::value::Value;

/// What the end of a name says its value is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Role {
    Host,
    Port,
    User,
    Password,
    Database,
    Url,
    Token,
    ApiKey,
    Timeout,
    Proxy,
}

/// The role of a name, and the words in front of it.
fn role(mut words: Vec<String>) -> Option<(Vec<String>, Role)> {
    let last = words.pop()?;
    let before = words.last().map(String::as_str)?;
    let role = match last.as_str() {
        "host" | "hostname" => Role::Host,
        "port" => Role::Port,
        "user" | "username" | "login" => Role::User,
        "password" | "passwd" | "pwd" | "pass" => Role::Password,
        "database" | "dbname" => Role::Database,
        "name" if matches!(before, "db" | "database") => Role::Database,
        "url" | "uri" | "dsn" | "base" | "endpoint" => Role::Url,
        "token" => Role::Token,
        "key" if before == "api" && words.len() > 1 => {
            words.pop();
            Role::ApiKey
        }
        "timeout" => Role::Timeout,
        "proxy" => Role::Proxy,
        _ => return None,
    };
    Some((words, role))
}

/// An entry that was recognised among fields.
pub(super) struct Recognised {
    /// The words of its name.
    pub(super) words: Vec<String>,
    pub(super) kind: ProposedKind,
    /// Its fields: how each is declared for its kind, its values, and which of the old ones it is.
    pub(super) fields: Vec<(Declaration, BTreeMap<StageId, Value>, Option<usize>)>,
    /// A value for the field `auth` that stands in no file.
    pub(super) auth: Option<&'static str>,
}

/// Finds connections and endpoints among fields. Each field is in one of them at most.
pub(super) fn recognise(fields: &[OldField], place: Place) -> Vec<Recognised> {
    let mut groups: BTreeMap<Vec<String>, BTreeMap<Role, usize>> = BTreeMap::new();
    for (at, field) in fields.iter().enumerate() {
        if let Some((prefix, role)) = role(words(field.name())) {
            // Of two spellings, the one that more stages have.
            let known = groups.entry(prefix).or_default().entry(role).or_insert(at);
            if field.values.len() > fields[*known].values.len() {
                *known = at;
            }
        }
    }
    let of_group = |(prefix, roles): (Vec<String>, BTreeMap<Role, usize>)| {
        connection(fields, &prefix, &roles, place)
            .or_else(|| endpoint(fields, &prefix, &roles, place))
            .or_else(|| by_url(fields, &prefix, &roles, place))
    };
    groups.into_iter().filter_map(of_group).collect()
}

/// The protocols that are recognised, each with the words that speak for it.
const PROTOCOLS: [(&str, &[&str]); 7] = [
    ("postgresql", &["postgresql", "postgres", "pg"]),
    ("mysql", &["mysql"]),
    ("redis", &["redis"]),
    ("amqp", &["amqp"]),
    ("sftp", &["sftp"]),
    ("ldap", &["ldap", "directory"]),
    ("smtp", &["smtp", "mail"]),
];

fn protocol(prefix: &[String], ports: &BTreeMap<StageId, Value>) -> &'static str {
    let says = |words: &[&str]| prefix.iter().any(|word| words.contains(&word.as_str()));
    let has = |port: u16| ports.values().any(|it| *it == Value::Integer(port.into()));
    let by_word = PROTOCOLS.iter().find(|(_, words)| says(words));
    let by_port = PROTOCOLS.iter().find(|(name, _)| usual_port(name).is_some_and(has));
    by_word.or(by_port).map_or("tcp", |(name, _)| name)
}

fn connection(
    fields: &[OldField],
    prefix: &[String],
    roles: &BTreeMap<Role, usize>,
    place: Place,
) -> Option<Recognised> {
    let (host, port) = (*roles.get(&Role::Host)?, *roles.get(&Role::Port)?);
    let ports = all_as(&fields[port], Type::Port)?;
    all_as(&fields[host], Type::Host)?;
    let protocol = protocol(prefix, &ports);
    let (declared, shape) = protocol_fields(protocol, place);
    let place_field = shape.and_then(|shape| shape.place).unwrap_or_default();
    let role_of = |name: &str| match name {
        "host" => Some(Role::Host),
        "port" => Some(Role::Port),
        "user" => Some(Role::User),
        "password" => Some(Role::Password),
        _ if name == place_field => Some(Role::Database),
        _ => None,
    };
    let fields = declared.into_iter().filter_map(|declaration| {
        let role = role_of(declaration.name.as_ref().map_or("", Name::as_str))?;
        let found = roles.get(&role).and_then(|&at| Some((at, all_as(&fields[at], declaration.this_type)?)));
        Some(match found {
            Some((at, values)) => (declaration, values, Some(at)),
            None => (declaration, BTreeMap::new(), None),
        })
    });
    let kind = ProposedKind::Connection(protocol);
    Some(Recognised { words: prefix.to_vec(), kind, fields: fields.collect(), auth: None })
}

fn endpoint(
    fields: &[OldField],
    prefix: &[String],
    roles: &BTreeMap<Role, usize>,
    place: Place,
) -> Option<Recognised> {
    let base = &fields[*roles.get(&Role::Url)?];
    let urls = all_as(base, Type::Url)?;
    let is_http = |value: &Value| {
        let text = value.to_text();
        (text.starts_with("http://") || text.starts_with("https://")) && password_of(&text).is_none()
    };
    if urls.is_empty() || !urls.values().all(is_http) {
        return None;
    }
    let token = if roles.contains_key(&Role::Token) { Role::Token } else { Role::ApiKey };
    let role_of = |name: &str| match name {
        "base" => Some(Role::Url),
        "proxy" => Some(Role::Proxy),
        "timeout" => Some(Role::Timeout),
        "user" => Some(Role::User),
        "password" => Some(Role::Password),
        "token" => Some(token),
        _ => None,
    };
    let found = endpoint_fields(place).into_iter().filter_map(|declaration| {
        let at = *roles.get(&role_of(declaration.name.as_ref()?.as_str())?)?;
        let values = all_as(&fields[at], declaration.this_type)?;
        Some((declaration, values, Some(at)))
    });
    let found: Vec<_> = found.collect();
    let has =
        |name: &str| found.iter().any(|(it, ..)| it.name.as_ref().is_some_and(|it| it.as_str() == name));
    let auth = match (has("token"), has("user") && has("password")) {
        (true, _) if token == Role::ApiKey => Some(auth::API_KEY),
        (true, _) => Some(auth::BEARER),
        (false, true) => Some(auth::BASIC),
        (false, false) => None,
    };
    Some(Recognised { words: prefix.to_vec(), kind: ProposedKind::Endpoint, fields: found, auth })
}

/// A connection whose URL is given as a whole, if one made of its parts is the same in every stage.
fn by_url(
    fields: &[OldField],
    prefix: &[String],
    roles: &BTreeMap<Role, usize>,
    place: Place,
) -> Option<Recognised> {
    let at = *roles.get(&Role::Url)?;
    let urls = all_as(&fields[at], Type::Url)?;
    let scheme = urls.values().next()?.as_text()?.split_once("://")?.0.to_owned();
    let (protocol, _) = PROTOCOLS.iter().find(|(name, _)| *name == scheme)?;
    let (declared, shape) = protocol_fields(protocol, place);
    let shape = shape?;
    let mut by_field: BTreeMap<&'static str, BTreeMap<StageId, Value>> = BTreeMap::new();
    for (stage, url) in &urls {
        for (name, value) in parts(url.as_text()?, protocol, shape)? {
            by_field.entry(name).or_default().insert(*stage, value);
        }
    }
    let with_values = declared.into_iter().filter_map(|declaration| {
        let name = declaration.name.as_ref()?.as_str();
        let values = by_field.remove(name).unwrap_or_default();
        let is_url = declaration.derived;
        let fits = values.values().all(|value| declaration.this_type.fits(value));
        Some((declaration, values, is_url.then_some(at), fits))
    });
    let with_values: Vec<_> = with_values.collect();
    if with_values.iter().any(|(.., fits)| !fits) {
        return None;
    }
    let fields = with_values.into_iter().map(|(declaration, values, old, _)| (declaration, values, old));
    let kind = ProposedKind::Connection(protocol);
    Some(Recognised { words: prefix.to_vec(), kind, fields: fields.collect(), auth: None })
}

/// The values that a URL is made of, if it is made of them again.
fn parts(url: &str, protocol: &str, shape: UrlShape) -> Option<BTreeMap<&'static str, Value>> {
    let decode = |text: &str| percent_decode_str(text).decode_utf8().ok().map(|text| Value::text(&text));
    let rest = url.strip_prefix(protocol)?.strip_prefix("://")?;
    let (rest, query) = rest.split_once('?').map_or((rest, None), |(rest, query)| (rest, Some(query)));
    let (authority, path) =
        rest.split_once('/').map_or((rest, None), |(authority, path)| (authority, Some(path)));
    let (login, address) =
        authority.rsplit_once('@').map_or((None, authority), |(login, it)| (Some(login), it));
    let (host, port) = address.rsplit_once(':')?;
    let mut found = BTreeMap::new();
    found.insert("host", decode(host.trim_start_matches('[').trim_end_matches(']'))?);
    found.insert("port", Type::Port.read(port)?);
    if let Some(login) = login {
        let (user, password) = login.split_once(':').map_or((login, None), |(user, it)| (user, Some(it)));
        found.insert("user", decode(user)?);
        if let Some(password) = password {
            found.insert("password", decode(password)?);
        }
    }
    if let (Some(path), Some(place)) = (path, shape.place) {
        let text = decode(path)?;
        let value = if protocol == "redis" { Type::Integer.read(text.as_text()?)? } else { text };
        found.insert(place, value);
    }
    if let Some(query) = query {
        let pair = |pair: &str| {
            let (name, value) = pair.split_once('=')?;
            Some((decode(name)?.to_text(), decode(value)?))
        };
        found.insert("options", Value::Map(query.split('&').map(pair).collect::<Option<_>>()?));
    }
    let made = UrlParts {
        host: found.get("host").and_then(Value::as_text),
        port: found.get("port"),
        place: shape.place.and_then(|place| found.get(place)),
        user: found.get("user"),
        password: found.get("password"),
        options: found.get("options"),
    };
    let same = made.url(protocol, shape).as_deref() == Some(url);
    same.then_some(found)
}
