//! What everybody needs who speaks to PostgreSQL.

use cledger_core::probe::{Answer, Tls};
use postgres::config::SslMode;
use postgres::error::SqlState;
use postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;

use crate::failure::Failure;
use crate::tls;
use crate::trust::Trust;

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
