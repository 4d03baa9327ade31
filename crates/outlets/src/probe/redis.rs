//! Redis: a login, the database, and PING.

use cledger_core::probe::{Answer, Login, Probed, Target};
use redis::{
    Client, ConnectionAddr, IntoConnectionInfo as _, RedisConnectionInfo, RedisError, ServerErrorKind,
};

use crate::failure::{Deadline, Failure};
use crate::{tcp, tls};

pub(super) fn probe(
    target: &Target,
    database: Option<i64>,
    login: &Login,
    deadline: Deadline,
) -> Result<Probed, Failure> {
    // The library does not tell these steps apart.
    drop(tcp::connect(&target.host, target.port, deadline)?);
    let mut settings = RedisConnectionInfo::default();
    if let Some(database) = database {
        settings = settings.set_db(database);
    }
    if let Some(user) = &login.user {
        settings = settings.set_username(user);
    }
    if let Some(password) = &login.password {
        settings = settings.set_password(password.expose().to_text().as_str());
    }
    let address = ConnectionAddr::Tcp(target.host.clone(), target.port);
    let info = address.into_connection_info().map_err(|error| failure(&error))?.set_redis_settings(settings);
    let client = Client::open(info).map_err(|error| failure(&error))?;
    let mut connection =
        client.get_connection_with_timeout(deadline.left()?).map_err(|error| failure(&error))?;
    let left = Some(deadline.left()?);
    let limited = connection.set_read_timeout(left).and_then(|()| connection.set_write_timeout(left));
    limited.map_err(|error| failure(&error))?;
    let pong: String = redis::cmd("PING").query(&mut connection).map_err(|error| failure(&error))?;
    if pong != "PONG" {
        return Err(Failure::new(Answer::Unexpected, "it does not answer PING with PONG"));
    }
    let login = if login.password.is_some() { "logged in" } else { "without a login" };
    Ok(Probed::new(Answer::Answers, login))
}

fn failure(error: &RedisError) -> Failure {
    let code = error.code().unwrap_or_default();
    let said = error.detail().unwrap_or_default();
    let denied = ["NOAUTH", "WRONGPASS", "NOPERM"].contains(&code)
        || error.kind() == redis::ErrorKind::AuthenticationFailed
        || error.kind() == redis::ErrorKind::Server(ServerErrorKind::NoPerm);
    if denied {
        return Failure::new(Answer::AccessDenied, if code.is_empty() { "the login" } else { code });
    }
    if said.contains("DB index") || error.to_string().contains("database number") {
        return Failure::new(Answer::NoSuchDatabase, "it has fewer databases");
    }
    if error.is_io_error() {
        return tls::of_any(error);
    }
    Failure::new(Answer::Unexpected, if code.is_empty() { "it does not speak RESP as we do" } else { code })
}
