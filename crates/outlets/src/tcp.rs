//! Name lookup and TCP.

use std::io;
use std::net::{TcpStream, ToSocketAddrs as _};

use cledger_core::probe::Answer;

use crate::failure::{Deadline, Failure};

/// Connects to the first address of a host that lets us.
pub(crate) fn connect(host: &str, port: u16, deadline: Deadline) -> Result<TcpStream, Failure> {
    let addresses = (host, port).to_socket_addrs();
    let nowhere = || Failure::new(Answer::NoSuchHost, "its name leads nowhere");
    let addresses = addresses.map_err(|_| nowhere())?;
    let mut failures = Vec::new();
    for address in addresses {
        match TcpStream::connect_timeout(&address, deadline.left()?) {
            Ok(stream) => {
                let left = Some(deadline.left()?);
                let limited = stream.set_read_timeout(left).and_then(|()| stream.set_write_timeout(left));
                limited.map_err(|error| of_io(&error))?;
                return Ok(stream);
            }
            Err(error) => failures.push(of_io(&error)),
        }
    }
    // That one address refuses does not say it of the others.
    failures.sort_by_key(|failure| failure.answer != Answer::Refused);
    Err(failures.pop().unwrap_or_else(nowhere))
}

/// What an error of the system says.
pub(crate) fn of_io(error: &io::Error) -> Failure {
    match error.kind() {
        io::ErrorKind::ConnectionRefused => Failure::new(Answer::Refused, "nothing listens there"),
        io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock => {
            Failure::new(Answer::NoAnswer, "within the time limit")
        }
        io::ErrorKind::HostUnreachable | io::ErrorKind::NetworkUnreachable => {
            Failure::new(Answer::NoWay, "as this machine's network says")
        }
        io::ErrorKind::ConnectionReset
        | io::ErrorKind::ConnectionAborted
        | io::ErrorKind::UnexpectedEof
        | io::ErrorKind::BrokenPipe => Failure::new(Answer::Unexpected, "it closes the connection"),
        // The system's own words for what the standard library has no kind for.
        _ if error.to_string().starts_with("failed to lookup address") => {
            Failure::new(Answer::NoSuchHost, "its name leads nowhere")
        }
        _ => Failure::new(Answer::Unexpected, error.to_string()),
    }
}
