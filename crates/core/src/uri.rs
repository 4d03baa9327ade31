//! Parts of URLs (RFC 3986).

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC};

/// Everything but the unreserved characters of section 2.3, which stay as they are.
pub const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// The login, if there is one, and the host with its port (section 3.2).
pub fn authority(url: &str) -> Option<(Option<&str>, &str)> {
    let (_, rest) = url.split_once("://")?;
    let authority = rest.split(['/', '?', '#']).next()?;
    Some(match authority.rsplit_once('@') {
        Some((login, address)) => (Some(login), address),
        None => (None, authority),
    })
}

/// The host and the port, that of the scheme if none is written.
pub fn host_of(url: &str) -> Option<(String, u16)> {
    let (_, address) = authority(url)?;
    let usual = match url.split("://").next() {
        Some("http") => Some(80),
        Some("https") => Some(443),
        _ => None,
    };
    if let Some(inside) = address.strip_prefix('[') {
        let (host, rest) = inside.split_once(']')?;
        let port = rest.strip_prefix(':').map_or(usual, |port| port.parse().ok())?;
        return Some((host.to_owned(), port));
    }
    let (host, port) = match address.rsplit_once(':') {
        Some((host, port)) => (host, port.parse().ok()?),
        None => (address, usual?),
    };
    (!host.is_empty()).then(|| (host.to_owned(), port))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_and_ports_are_found() {
        for (url, found) in [
            ("http://a.example/x", Some(("a.example", 80))),
            ("https://u:p@a.example:8443?x=/@b", Some(("a.example", 8443))),
            ("https://[::1]/", Some(("::1", 443))),
            ("amqp://[2001:db8::1]:5672/v", Some(("2001:db8::1", 5672))),
            ("amqp://a.example", None),
            ("http://a:b/", None),
            ("http://", None),
            ("a.example:80", None),
        ] {
            assert_eq!(host_of(url), found.map(|(host, port)| (host.to_owned(), port)), "{url}");
        }
        assert_eq!(authority("x://u:p@h/a@b"), Some((Some("u:p"), "h")));
    }
}
