//! Addresses of databases.

use percent_encoding::percent_decode_str;
use zeroize::Zeroizing;

use crate::failure::Failure;

/// The address without `sslmode`, of which no library knows all words, and its value.
pub(crate) fn without_mode(url: &str) -> Result<(Zeroizing<String>, Option<String>), Failure> {
    let Some((before, query)) = url.split_once('?') else {
        return Ok((Zeroizing::new(url.to_owned()), None));
    };
    let (modes, rest): (Vec<&str>, Vec<&str>) = query.split('&').partition(|part| {
        let key = part.split('=').next().unwrap_or_default();
        percent_decode_str(key).decode_utf8_lossy().trim().eq_ignore_ascii_case("sslmode")
    });
    let mode = match modes[..] {
        [] => None,
        [mode] => Some(mode.split_once('=').map_or("", |(_, mode)| mode).to_owned()),
        _ => return Err(Failure::unexpected("its `url` says `sslmode` twice")),
    };
    let gap = if rest.is_empty() { "" } else { "?" };
    Ok((Zeroizing::new(format!("{before}{gap}{}", rest.join("&"))), mode))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_mode_is_found_however_it_is_written_and_never_twice() {
        let mode = |url: &str| without_mode(url).map(|(rest, mode)| (rest.as_str().to_owned(), mode));
        for (url, rest, found) in [
            ("postgresql://db/x", "postgresql://db/x", None),
            ("postgresql://db/x?sslmode=require", "postgresql://db/x", Some("require")),
            ("postgresql://db/x?a=1&SSLMODE=Require&b=2", "postgresql://db/x?a=1&b=2", Some("Require")),
            ("postgresql://db/x?ssl%6dode=disable", "postgresql://db/x", Some("disable")),
            ("postgresql://db/x?sslmode", "postgresql://db/x", Some("")),
        ] {
            assert_eq!(mode(url), Ok((rest.to_owned(), found.map(str::to_owned))), "{url}");
        }
        assert!(mode("postgresql://db/x?sslmode=require&sslmode=disable").is_err());
    }
}
