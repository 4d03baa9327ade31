//! What everybody needs who speaks to PostgreSQL.

use std::str::FromStr as _;
use std::time::Duration;

use cledger_core::probe::{Answer, Tls};
use postgres::config::SslMode;
use postgres::error::SqlState;
use postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;
use zeroize::Zeroizing;

use crate::failure::Failure;
use crate::reach::Sent;
use crate::tls;
use crate::trust::Trust;

/// Logs in to the database at an address, which may hold the password itself, within a time.
pub fn log_in(
    url: &Sent,
    password: Option<&Sent>,
    trust: &Trust,
    limit: Duration,
) -> Result<Client, Failure> {
    let (url, mode) = without_mode(url.expose());
    // What is wrong with it is not told: a password may stand in it.
    let wrong = |_| Failure::unexpected("its `url` is no address of PostgreSQL");
    let mut config = Config::from_str(&url).map_err(wrong)?;
    config.connect_timeout(limit).application_name("cledger");
    if let Some(password) = password {
        config.password(password.expose().as_bytes());
    }
    connect(config, trust, Tls::of(mode.as_deref()))
}

/// Logs in.
pub(crate) fn connect(mut config: Config, trust: &Trust, encrypted: Tls) -> Result<Client, Failure> {
    let client = match encrypted {
        Tls::Off => config.ssl_mode(SslMode::Disable).connect(NoTls),
        Tls::Verified | Tls::Unverified => {
            let roots = (encrypted == Tls::Verified).then(|| trust.store());
            let connector = MakeRustlsConnect::new(tls::config(roots)?);
            config.ssl_mode(SslMode::Require).connect(connector)
        }
    };
    client.map_err(|error| failure(&error))
}

/// What an error says, without what the server says: that may hold values.
pub(crate) fn failure(error: &postgres::Error) -> Failure {
    let Some(said) = error.as_db_error() else { return tls::of_any(error) };
    let code = said.code();
    if *code == SqlState::INVALID_CATALOG_NAME {
        return Failure::new(Answer::NoSuchDatabase, "the server is there, and the database is not");
    }
    let denied = [
        SqlState::INVALID_PASSWORD,
        SqlState::INVALID_AUTHORIZATION_SPECIFICATION,
        SqlState::INSUFFICIENT_PRIVILEGE,
    ];
    if *code == SqlState::T_R_SERIALIZATION_FAILURE || *code == SqlState::LOCK_NOT_AVAILABLE {
        return Failure::unexpected("somebody else is changing it");
    }
    if *code == SqlState::QUERY_CANCELED {
        return Failure::new(Answer::NoAnswer, "within the time limit");
    }
    if denied.contains(code) {
        return Failure::new(Answer::AccessDenied, format!("SQLSTATE {}", code.code()));
    }
    Failure::new(Answer::Unexpected, format!("SQLSTATE {}", code.code()))
}

/// The address without `sslmode`, of which the library does not know all words, and its value.
fn without_mode(url: &str) -> (Zeroizing<String>, Option<String>) {
    let Some((before, query)) = url.split_once('?') else { return (Zeroizing::new(url.to_owned()), None) };
    let mut mode = None;
    let rest = query.split('&').filter(|part| match part.strip_prefix("sslmode=") {
        Some(found) => {
            mode = Some(found.to_owned());
            false
        }
        None => true,
    });
    let rest: Vec<&str> = rest.collect();
    let gap = if rest.is_empty() { "" } else { "?" };
    (Zeroizing::new(format!("{before}{gap}{}", rest.join("&"))), mode)
}
