//! The way to an outlet, with addresses and tokens fetched from where they are kept.

use cledger_core::model::{Given, HttpOutlet, PostgresOutlet, Source};
use cledger_core::resolve::{Fetched, Outside};
use cledger_outlets::reach::{HttpReach, PostgresReach, Reach, Sent};
use zeroize::Zeroizing;

use crate::reality::around::Around;

/// The address of a service and the way there; the reason why there is none otherwise.
pub(super) fn http(http: &HttpOutlet, around: &Around<'_>) -> Result<(String, Reach), String> {
    let url = given(&http.url, around)?.to_string();
    let over_tls = url.starts_with("https://");
    if !over_tls && !url.starts_with("http://") {
        return Err("its `url` begins with neither http:// nor https://".to_owned());
    }
    let token = http.token.as_ref().map(|token| fetched(token, around.outside)).transpose()?;
    let reach = HttpReach {
        over_tls,
        token: token.map(Sent::new),
        proxy: http.proxy.clone(),
        retries: http.retries,
        trust: around.trust.clone(),
    };
    Ok((url, Reach::Http(reach)))
}

/// The way to a table; the reason why there is none otherwise.
pub(crate) fn postgres(postgres: &PostgresOutlet, around: &Around<'_>) -> Result<PostgresReach, String> {
    let url = given(&postgres.url, around)?;
    let password = postgres.password.as_ref().map(|it| fetched(it, around.outside)).transpose()?;
    Ok(PostgresReach {
        url: Sent::new(url),
        password: password.map(Sent::new),
        table: postgres.table.clone(),
        columns: postgres.columns.clone(),
        trust: around.trust.clone(),
    })
}

fn given(given: &Given, around: &Around<'_>) -> Result<Zeroizing<String>, String> {
    match given {
        Given::Text(text) => Ok(Zeroizing::new(text.clone())),
        Given::From(source) => fetched(source, around.outside),
    }
}

fn fetched(source: &Source, outside: &dyn Outside) -> Result<Zeroizing<String>, String> {
    match outside.fetch(&source.0) {
        Fetched::Text(text) => Ok(text),
        Fetched::Nothing(reason) => Err(reason),
        Fetched::Unread => Err("nothing is fetched here".to_owned()),
        Fetched::NotTrusted => Err(format!("nobody has said that `{}` may be read", source.0)),
    }
}
