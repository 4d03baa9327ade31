//! Where on a host something is: its port, and its path or database.
//!
//! Two stages may live on one host, parted by their ports or paths. Ports and paths are read as
//! RFC 3986 writes them; a connection has them in fields beside its host.

use rustc_hash::{FxHashMap, FxHashSet};

use crate::model::{Subject, usual_port};
use crate::resolve::{FieldId, Resolver};
use crate::value::Value;

/// A port, and whether somebody wrote it or it only comes with the scheme.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
struct Port {
    number: u16,
    is_written: bool,
}

/// A place on a host; what is not known of it may be anything.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Spot {
    port: Option<Port>,
    /// Without slashes at its ends.
    path: Option<String>,
}

/// A host in a text, and what stands around it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Sighting<'t> {
    pub(super) host: &'t str,
    /// The text up to `://`, if that stands before it.
    before: Option<&'t str>,
    /// What follows it.
    rest: &'t str,
}

impl<'t> Sighting<'t> {
    /// The host in a URL (RFC 3986 section 3.2.2), or before the port of `host:port`.
    pub(super) fn in_url(text: &'t str) -> Self {
        let mut colons = memchr::memchr_iter(b':', text.as_bytes());
        let (before, after) = match colons.find(|&at| text.as_bytes()[at..].starts_with(b"://")) {
            Some(at) => (Some(&text[..at]), &text[at + 3..]),
            None => (None, text),
        };
        let end = memchr::memchr3(b'/', b'?', b'#', after.as_bytes()).unwrap_or(after.len());
        let start = memchr::memrchr(b'@', &after.as_bytes()[..end]).map_or(0, |at| at + 1);
        let whole = &after[start..];
        let authority = &after[start..end];
        let in_brackets = authority.strip_prefix('[').and_then(|inner| inner.split_once(']'));
        if let Some((host, _)) = in_brackets {
            return Self { host, before, rest: &whole[host.len() + 2..] };
        }
        let host = authority.split(':').next().unwrap_or_default();
        let rest = &whole[host.len()..];
        Self { host, before, rest }
    }

    /// All that may be a host in a text: words of letters, digits, hyphens and dots.
    pub(super) fn all(text: &'t str) -> impl Iterator<Item = Self> {
        let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
        let mut start = 0;
        std::iter::from_fn(move || {
            start += text[start..].find(is_part)?;
            let end = text[start..].find(|c| !is_part(c)).map_or(text.len(), |length| start + length);
            let host = text[start..end].trim_matches(['.', '-']);
            let before = &text[..start];
            let rest = &text[start + text[start..end].trim_end_matches(['.', '-']).len()..];
            start = end;
            Some(Self { host, before: before.strip_suffix("://"), rest })
        })
    }

    /// Whether it stands where only a host can stand: after `://`, or before a port.
    pub(super) fn is_placed(&self) -> bool {
        self.before.is_some() || self.spot().port.is_some()
    }

    /// What is written of its port and path.
    pub(super) fn spot(&self) -> Spot {
        let after_colon = self.rest.strip_prefix(':').unwrap_or_default();
        let digits = after_colon.len() - after_colon.trim_start_matches(|c: char| c.is_ascii_digit()).len();
        let written = after_colon[..digits].parse().ok();
        let of_scheme = match self.before.map(last_scheme) {
            Some("http" | "ws") => Some(80),
            Some("https" | "wss") => Some(443),
            scheme => scheme.and_then(usual_port),
        };
        let port = match written {
            Some(number) => Some(Port { number, is_written: true }),
            None => of_scheme.map(|number| Port { number, is_written: false }),
        };
        let rest = if written.is_some() { &after_colon[digits..] } else { self.rest };
        let ends = |c: char| c.is_whitespace() || matches!(c, '?' | '#' | ',' | ';' | '"' | '\'' | ')' | '>');
        let path = rest.split(ends).next().unwrap_or_default();
        let is_known = path.starts_with('/') || self.before.is_some();
        Spot { port, path: is_known.then(|| path.trim_matches(['/', '.']).to_owned()) }
    }
}

/// The scheme before `://`, of `scheme:scheme` the inner one.
fn last_scheme(before: &str) -> &str {
    before.rsplit(|c: char| !c.is_ascii_alphanumeric()).next().unwrap_or_default()
}

impl Spot {
    /// That of a host which stands in a field of its own: as the fields beside it say.
    pub(super) fn of_field(resolver: &Resolver<'_>, field: FieldId) -> Self {
        let ledger = resolver.ledger();
        let mut session = resolver.session(match field.subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        });
        let mut beside = |names: &[&str]| {
            let beside = names.iter().find_map(|name| field.beside(ledger, name))?;
            let outcome = session.outcome(beside);
            let value = outcome.value().filter(|value| !value.is_secret())?;
            value.expose().cloned()
        };
        let port = match beside(&["port"]) {
            Some(Value::Integer(number)) => u16::try_from(number).ok(),
            _ => None,
        };
        let path = match beside(&["database", "path"]) {
            Some(Value::Text(text)) => Some(text.trim_matches('/').to_owned()),
            Some(Value::Integer(number)) => Some(number.to_string()),
            _ => None,
        };
        Self { port: port.map(|number| Port { number, is_written: true }), path }
    }
}

/// Where a setting stands whose host was learned: enough to tell its spot when that is asked for.
#[derive(Clone, Copy)]
pub(super) enum Learned<'l> {
    /// The name of a database.
    Database,
    /// A host in a field of its own.
    Field(FieldId),
    /// A host in a text.
    Text(Sighting<'l>),
}

impl Learned<'_> {
    pub(super) fn spot(&self, resolver: &Resolver<'_>) -> Spot {
        match self {
            Self::Database => Spot::default(),
            Self::Field(field) => Spot::of_field(resolver, *field),
            Self::Text(sighting) => sighting.spot(),
        }
    }
}

/// All spots of a stage on one host.
#[derive(Default)]
pub(super) struct Spots(FxHashMap<Option<Port>, Paths>);

#[derive(Default)]
struct Paths {
    /// One of them is not known.
    has_unknown: bool,
    whole: FxHashSet<String>,
    /// Every path above one of them, but for the root.
    above: FxHashSet<String>,
}

impl Spots {
    pub(super) fn add(&mut self, spot: Spot) {
        let paths = self.0.entry(spot.port).or_default();
        match spot.path {
            None => paths.has_unknown = true,
            Some(path) => {
                paths.above.extend(above(&path).map(str::to_owned));
                paths.whole.insert(path);
            }
        }
    }

    /// Whether a place may be one of these: nothing parts it from one of them. A path lies in those above
    /// it, but for the root, in which everything would.
    pub(super) fn may_have(&self, spot: &Spot) -> bool {
        let ports_part = |one: Option<Port>, other: Option<Port>| match (one, other) {
            (Some(one), Some(other)) => one.number != other.number && (one.is_written || other.is_written),
            _ => false,
        };
        let near = self.0.iter().filter(|(port, _)| !ports_part(**port, spot.port)).map(|(_, paths)| paths);
        near.into_iter().any(|paths| match &spot.path {
            None => true,
            Some(path) => {
                paths.has_unknown
                    || paths.whole.contains(path)
                    || paths.above.contains(path)
                    || above(path).any(|above| paths.whole.contains(above))
            }
        })
    }
}

/// The paths above a path, but for the root.
fn above(path: &str) -> impl Iterator<Item = &str> {
    path.match_indices('/').map(|(at, _)| &path[..at])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_are_found_in_urls() {
        for (text, host) in [
            ("https://db.test.example/x?y@z", "db.test.example"),
            ("amqp://u:p@mq.example:5672/v", "mq.example"),
            ("jdbc:mysql://db-7:3306/x", "db-7"),
            ("http://[2001:db8::1]:80/", "2001:db8::1"),
            ("http://[2001:é", "[2001"),
            ("kafka-1.example:9092", "kafka-1.example"),
            ("http://", ""),
        ] {
            assert_eq!(Sighting::in_url(text).host, host);
        }
    }

    #[test]
    fn one_host_is_parted_by_ports_and_paths() {
        let spots = |texts: &[&str]| {
            let mut spots = Spots::default();
            for text in texts {
                spots.add(Sighting::in_url(text).spot());
            }
            spots
        };
        for (there, here, may) in [
            ("http://gw.example:81/a", "http://gw.example:81/a", true),
            ("http://gw.example:81/a", "http://gw.example:82/a", false),
            ("http://gw.example:81/a", "http://gw.example/a", false),
            ("http://gw.example/a", "http://gw.example:80/a", true),
            ("http://gw.example/a", "https://gw.example/a/", true),
            ("http://gw.example/a", "http://gw.example/b", false),
            ("http://gw.example/a", "http://gw.example/ab", false),
            ("http://gw.example/a", "http://gw.example/a/b?c", true),
            ("http://gw.example/a/b", "http://gw.example/a", true),
            ("http://gw.example/a", "http://gw.example", false),
            ("http://gw.example/a", "gw.example", true),
            ("http://[::5]:1/a", "http://[::5]:2/a", false),
            ("postgresql://gw.example/a", "gw.example:5432", true),
            ("postgresql://gw.example/a", "gw.example:5433", false),
            ("kafka-1.example:9092", "kafka-1.example:9093", false),
        ] {
            assert_eq!(spots(&[there]).may_have(&Sighting::in_url(here).spot()), may, "{there} {here}");
            assert_eq!(spots(&[here]).may_have(&Sighting::in_url(there).spot()), may, "{here} {there}");
        }
    }

    #[test]
    fn words_of_a_text_that_may_be_hosts_are_seen_with_what_follows_them() {
        let text = "ask gw.example:81/a, or http://gw2.example. then -x.";
        let told: Vec<_> =
            Sighting::all(text).map(|seen| (seen.host, seen.is_placed(), seen.spot().path)).collect();
        let path = |path: &str| Some(path.to_owned());
        assert!(told.contains(&("gw.example", true, path("a"))), "{told:?}");
        assert!(told.contains(&("gw2.example", true, path(""))), "{told:?}");
        assert!(told.contains(&("ask", false, None)) && told.contains(&("x", false, None)), "{told:?}");
    }
}
