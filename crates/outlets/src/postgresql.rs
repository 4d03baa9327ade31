//! What everybody needs who speaks to PostgreSQL.

use std::str::FromStr as _;
use std::sync::mpsc;
use std::thread;
use std::time::Duration;

use cledger_core::probe::{Answer, Tls};
use postgres::config::{Host, SslMode};
use postgres::error::{DbError, SqlState};
use postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::database_url::without_mode;
use crate::failure::{Deadline, Failure};
use crate::sent::Sent;
use crate::tls;
use crate::trust::Trust;

/// Logs in to the database at an address, which may hold the password itself, within a time.
pub fn log_in(
    url: &Sent,
    password: Option<&Sent>,
    trust: &Trust,
    limit: Duration,
) -> Result<Client, Failure> {
    // What is wrong with it is not told: a password may stand in it.
    let wrong = || Failure::unexpected("its `url` is no address of PostgreSQL");
    if !is_address(url.expose()) {
        return Err(wrong());
    }
    let (url, mode) = without_mode(url.expose())?;
    let mut config = Config::from_str(&url).map_err(|_| wrong())?;
    config.application_name("cledger");
    if let Some(password) = password {
        config.password(password.expose().as_bytes());
    }
    let mut encrypted = Tls::Off;
    for host in config.get_hosts() {
        let host = match host {
            Host::Tcp(name) => name.clone(),
            Host::Unix(path) => path.display().to_string(),
        };
        let of_host = Tls::of(mode.as_deref(), &host);
        let of_host = of_host.map_err(|error| Failure::unexpected(format!("its `url`: {error}")))?;
        // Of several hosts, the one that needs it most counts for all.
        if encrypted == Tls::Off {
            encrypted = of_host;
        }
    }
    connect(config, trust, encrypted, Deadline::within(limit))
}

/// Whether a text is an address of PostgreSQL, and not a list of settings or a path.
pub fn is_address(text: &str) -> bool {
    text.starts_with("postgresql://") || text.starts_with("postgres://")
}

/// Logs in. What accepts a connection and then says nothing is given up when the time is over.
pub(crate) fn connect(
    mut config: Config,
    trust: &Trust,
    encrypted: Tls,
    deadline: Deadline,
) -> Result<Client, Failure> {
    config.connect_timeout(deadline.left()?);
    let connector = match encrypted {
        Tls::Off => None,
        Tls::Verified => Some(MakeRustlsConnect::new(tls::config(Some(trust.store()))?)),
        Tls::Unverified => Some(MakeRustlsConnect::new(tls::config(None)?)),
    };
    let (sender, receiver) = mpsc::channel();
    thread::spawn(move || {
        let client = match connector {
            None => config.ssl_mode(SslMode::Disable).connect(NoTls),
            Some(connector) => config.ssl_mode(SslMode::Require).connect(connector),
        };
        // Nobody listens any more once the time is over.
        let _ = sender.send(client);
    });
    let late = || Failure::new(Answer::NoAnswer, "within the time limit");
    receiver.recv_timeout(deadline.left()?).map_err(|_| late())?.map_err(|error| failure(&error))
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
    refusal(said).unwrap_or_else(|| Failure::new(Answer::Unexpected, format!("SQLSTATE {}", code.code())))
}

/// What a server says of a row that it does not take, without the values that it may say.
fn refusal(error: &DbError) -> Option<Failure> {
    let constraint = error.constraint().map(|name| format!(" (`{name}`)")).unwrap_or_default();
    let column = error.column().map(|name| format!("the column `{name}`")).unwrap_or_default();
    let words = [
        (SqlState::UNIQUE_VIOLATION, format!("there is such a row already{constraint}")),
        (SqlState::NOT_NULL_VIOLATION, format!("{column} is never empty")),
        (SqlState::FOREIGN_KEY_VIOLATION, format!("another table does not go with it{constraint}")),
        (SqlState::CHECK_VIOLATION, format!("a condition of the table is not met{constraint}")),
        (SqlState::STRING_DATA_RIGHT_TRUNCATION, "it is longer than its column".to_owned()),
        (SqlState::NUMERIC_VALUE_OUT_OF_RANGE, "a number is greater than its column takes".to_owned()),
        (SqlState::INVALID_TEXT_REPRESENTATION, "a value is not of its column's type".to_owned()),
        (SqlState::INVALID_DATETIME_FORMAT, "a value is no time as its column takes it".to_owned()),
    ];
    let (code, words) = words.into_iter().find(|(code, _)| code == error.code())?;
    Some(Failure::new(Answer::Unexpected, format!("{words}, SQLSTATE {}", code.code())))
}

#[cfg(test)]
mod tests {
    use super::is_address;

    #[test]
    fn an_address_is_told_from_a_list_of_settings() {
        assert!(!is_address("host=db password=x") && !is_address("Postgresql://db/x"));
        assert!(is_address("postgres://db"));
    }
}
