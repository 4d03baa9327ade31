//! PostgreSQL: a login, and a query that reads nothing.

use cledger_core::probe::{Answer, Login, Target, Tls};
use postgres::config::SslMode;
use postgres::error::SqlState;
use postgres::{Client, Config, NoTls};
use tokio_postgres_rustls::MakeRustlsConnect;
use zeroize::Zeroizing;

use super::{Deadline, Failure, Prober, Reached, tcp, tls};

pub(super) fn probe(
    prober: &Prober,
    target: &Target,
    (database, login, encrypted): (Option<&str>, &Login, Tls),
    deadline: Deadline,
) -> Result<Reached, Failure> {
    // The library does not tell these steps apart.
    drop(tcp::connect(&target.host, target.port, deadline)?);
    let mut config = Config::new();
    config.host(&target.host).port(target.port).connect_timeout(deadline.left()?);
    config.application_name("cledger probe");
    if let Some(user) = &login.user {
        config.user(user);
    }
    if let Some(password) = &login.password {
        config.password(Zeroizing::new(password.expose().to_text().to_string()).as_bytes());
    }
    if let Some(database) = database {
        config.dbname(database);
    }
    let client = match encrypted {
        Tls::Off => config.ssl_mode(SslMode::Disable).connect(NoTls),
        Tls::Verified | Tls::Unverified => {
            let roots = (encrypted == Tls::Verified).then(|| prober.roots.clone());
            let connector = MakeRustlsConnect::new(tls::config(roots)?);
            config.ssl_mode(SslMode::Require).connect(connector)
        }
    };
    let mut client: Client = client.map_err(|error| failure(&error))?;
    client.simple_query("SELECT 1").map_err(|error| failure(&error))?;
    let encrypted = if encrypted == Tls::Off { "" } else { ", over TLS" };
    Ok(Reached { detail: format!("logged in{encrypted}"), days_left: None })
}

fn failure(error: &postgres::Error) -> Failure {
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
    if denied.contains(code) {
        return Failure::new(Answer::AccessDenied, format!("SQLSTATE {}", code.code()));
    }
    Failure::new(Answer::Unexpected, format!("SQLSTATE {}", code.code()))
}
