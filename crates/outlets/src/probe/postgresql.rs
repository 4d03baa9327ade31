//! PostgreSQL: a login, and a query that reads nothing.

use cledger_core::probe::{Answer, Login, Probed, Target, Tls};
use postgres::Config;
use zeroize::Zeroizing;

use super::Prober;
use crate::failure::{Deadline, Failure};
use crate::postgresql::{connect, failure};
use crate::tcp;

pub(super) fn probe(
    prober: &Prober,
    target: &Target,
    (database, login, encrypted): (Option<&str>, &Login, Tls),
    deadline: Deadline,
) -> Result<Probed, Failure> {
    // The library does not tell these steps apart.
    drop(tcp::connect(&target.host, target.port, deadline)?);
    let mut config = Config::new();
    config.host(&target.host).port(target.port);
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
    let mut client = connect(config, &prober.trust, encrypted, deadline)?;
    client.simple_query("SELECT 1").map_err(|error| failure(&error))?;
    let encrypted = if encrypted == Tls::Off { "" } else { ", over TLS" };
    Ok(Probed::new(Answer::Answers, format!("logged in{encrypted}")))
}
