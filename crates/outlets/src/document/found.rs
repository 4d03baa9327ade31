//! Finding the address of a unit's document in a list, page by page.

use cledger_core::json::Json;
use cledger_core::model::found_by;
use cledger_core::uri::ENCODED;
use percent_encoding::utf8_percent_encode;

use super::Documents;
use crate::failure::Failure;
use crate::held::DocumentOf;

/// The most pages of a list that are followed.
const MOST_PAGES: usize = 1000;

impl Documents<'_> {
    /// The address of a unit's document; `None` where its list does not lead to one.
    pub(super) fn find(&self, of: &DocumentOf) -> Result<Option<String>, Failure> {
        let Some(query) = &of.find else { return Ok(Some(of.url.clone())) };
        let mut found: Vec<String> = Vec::new();
        let mut page = of.url.clone();
        for _ in 0..MOST_PAGES {
            let Some((document, link)) = self.get_page(&page)? else {
                return Err(Failure::unexpected(format!("`{page}` is not there, and is to list documents")));
            };
            let values = found_by(query, &document.text).map_err(Failure::unexpected)?;
            found.extend(values.iter().map(|value| value.to_text().to_string()));
            let next = match &of.next {
                Some(steps) => text_at(&document.text, steps),
                None => link,
            };
            let Some(next) = next.filter(|next| !next.is_empty()) else {
                return match &found[..] {
                    [] => Ok(None),
                    [one] => resolved(&of.url, one, Below::List).map(Some),
                    several => {
                        let count = several.len();
                        Err(Failure::unexpected(format!(
                            "`{query}` leads to {count} documents, and must lead to one"
                        )))
                    }
                };
            };
            page = resolved(&page, &next, Below::Beside)?;
        }
        Err(Failure::unexpected(format!("`{}` has more than {MOST_PAGES} pages", of.url)))
    }
}

/// The text below these steps of a document, if there is one.
fn text_at(document: &str, steps: &[String]) -> Option<String> {
    match Json::parse(document).ok()?.part(steps)? {
        Json::Text(text) => Some(text.to_string()),
        _ => None,
    }
}

/// Where a relative address starts.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Below {
    /// Below the list: it is what tells its documents apart.
    List,
    /// Beside the page (RFC 3986, section 5).
    Beside,
}

/// An address that a service gives, as seen from one of its own. It never leads to another host: what is shown at the
/// door is for that one alone.
fn resolved(base: &str, given: &str, below: Below) -> Result<String, Failure> {
    let start = base.find("://").map_or(0, |at| at + 3);
    let end = base[start..].find(['/', '?', '#']).map_or(base.len(), |at| start + at);
    let origin = &base[..end];
    if given.contains("://") {
        let is_below = given.strip_prefix(origin).is_some_and(|rest| rest.starts_with('/'));
        let elsewhere = || Failure::unexpected(format!("it leads to another host: `{given}`"));
        return if is_below { Ok(given.to_owned()) } else { Err(elsewhere()) };
    }
    if given.starts_with("//") || given.split('/').any(|step| step == "..") {
        return Err(Failure::unexpected(format!("`{given}` is no address of this service")));
    }
    if given.starts_with('/') {
        return Ok(format!("{origin}{given}"));
    }
    let path = base.split(['?', '#']).next().unwrap_or(base);
    Ok(match below {
        Below::List => {
            let steps: Vec<String> =
                given.split('/').map(|step| utf8_percent_encode(step, ENCODED).to_string()).collect();
            format!("{}/{}", path.trim_end_matches('/'), steps.join("/"))
        }
        Below::Beside if given.starts_with('?') => format!("{path}{given}"),
        Below::Beside => {
            let folder = path.rfind('/').filter(|at| *at >= end).map_or(path, |at| &path[..at]);
            format!("{folder}/{given}")
        }
    })
}

/// The address that a `Link` header gives for the next page (RFC 8288), if it gives one.
pub(super) fn next_of(link: &str) -> Option<String> {
    for link in link.split('<').skip(1) {
        let (address, parameters) = link.split_once('>')?;
        let is_next = parameters.split(';').any(|parameter| {
            let (name, value) = parameter.split_once('=').unwrap_or((parameter, ""));
            let value = value.trim().trim_end_matches(',').trim_matches('"');
            let mut relations = value.split_whitespace();
            name.trim().eq_ignore_ascii_case("rel") && relations.any(|it| it.eq_ignore_ascii_case("next"))
        });
        if is_next {
            return Some(address.to_owned());
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        /// Whatever a service says, the host that is asked is its own, and so is what is shown at the door.
        #[test]
        fn no_address_leads_to_another_host(given in "[a-z:/.@?#%\\\\0-9 -]{0,24}", is_list in any::<bool>()) {
            let below = if is_list { Below::List } else { Below::Beside };
            for base in ["https://r.example:8443/api/berths?page=1", "http://r.example"] {
                if let Ok(address) = resolved(base, &given, below) {
                    let (origin, port) = cledger_core::uri::host_of(base).unwrap();
                    prop_assert_eq!(cledger_core::uri::host_of(&address), Some((origin, port)), "{}", address);
                    prop_assert_eq!(address.starts_with("https://"), base.starts_with("https://"));
                }
            }
        }

        #[test]
        fn no_link_header_is_too_strange(link in "[<>;,=\"a-z /?]{0,40}") {
            if let Some(next) = next_of(&link) {
                let addressed = format!("<{next}>");
                prop_assert!(link.contains(&addressed) && link.contains("next"));
            }
        }
    }

    #[test]
    fn addresses_stay_with_their_service() {
        let list = "https://r.example:8443/api/berths?page=1";
        for (given, below, expected) in [
            ("b 17", Below::List, Some("https://r.example:8443/api/berths/b%2017")),
            ("/x/b-17", Below::List, Some("https://r.example:8443/x/b-17")),
            ("https://r.example:8443/x", Below::List, Some("https://r.example:8443/x")),
            ("?page=2", Below::Beside, Some("https://r.example:8443/api/berths?page=2")),
            ("berths?page=2", Below::Beside, Some("https://r.example:8443/api/berths?page=2")),
            ("https://r.example:8443.evil.example/x", Below::Beside, None),
            ("http://r.example:8443/x", Below::Beside, None),
            ("//evil.example/x", Below::Beside, None),
            ("../../admin", Below::List, None),
        ] {
            assert_eq!(resolved(list, given, below).ok().as_deref(), expected, "{given}");
        }
        assert_eq!(resolved("http://h", "p", Below::Beside).unwrap(), "http://h/p");
    }

    #[test]
    fn links_say_which_page_is_next() {
        for (link, next) in [
            (r#"</b?page=2>; rel="next""#, Some("/b?page=2")),
            (r#"</b?page=9>; rel=last, </b?page=2>; title=x; REL="prefetch next""#, Some("/b?page=2")),
            (r"</b?ids=1,2&page=2>;rel=next,</a>;rel=first", Some("/b?ids=1,2&page=2")),
            (r#"</b?page=9>; rel="last""#, None),
            ("nonsense", None),
            ("", None),
        ] {
            assert_eq!(next_of(link).as_deref(), next, "{link}");
        }
    }
}
