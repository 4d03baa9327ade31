//! MariaDB: a login, and a query that reads nothing.

use cledger_core::probe::{Answer, Login, Probed, Target, Tls};
use mysql::OptsBuilder;
use mysql::prelude::Queryable as _;

use super::Prober;
use crate::failure::{Deadline, Failure};
use crate::mariadb::{connect, failure};
use crate::tcp;

pub(super) fn probe(
    prober: &Prober,
    target: &Target,
    (database, login, encrypted): (Option<&str>, &Login, Tls),
    deadline: Deadline,
) -> Result<Probed, Failure> {
    // The library does not tell these steps apart.
    drop(tcp::connect(&target.host, target.port, deadline)?);
    let password = login.password.as_ref().map(|password| password.expose().to_secret_text());
    let builder = OptsBuilder::new()
        .ip_or_hostname(Some(&target.host))
        .tcp_port(target.port)
        .user(login.user.as_deref())
        .pass(password.as_ref().map(|password| password.as_str()))
        .db_name(database);
    let mut connection = connect(builder, &prober.trust, encrypted, deadline)?;
    connection.query_drop("SELECT 1").map_err(|error| failure(&error))?;
    let encrypted = if encrypted == Tls::Off { "" } else { ", over TLS" };
    Ok(Probed::new(Answer::Answers, format!("logged in{encrypted}")))
}
