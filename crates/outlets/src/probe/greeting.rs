//! Services that say what they are: mail, AMQP and SSH. Nobody logs in there.

use std::io::{BufRead as _, BufReader, Read as _, Write as _};

use cledger_core::probe::{Answer, Greeting, Probed, Target};

use crate::failure::{Deadline, Failure};
use crate::tcp::{connect, of_io};

/// The longest line that is read, in bytes (RFC 4253, section 4.2; RFC 5321 has twice as much).
const LONGEST: u64 = 512;

/// What begins AMQP 0-9-1 (its section 4.2.2).
const AMQP: [u8; 8] = *b"AMQP\0\0\x09\x01";

/// A frame of a method, on the channel 0.
const METHOD: [u8; 3] = [1, 0, 0];

/// The method `connection.start`: its class and its number.
const START: [u8; 4] = [0, 10, 0, 10];

pub(super) fn probe(target: &Target, greeting: Greeting, deadline: Deadline) -> Result<Probed, Failure> {
    let mut stream = connect(&target.host, target.port, deadline)?;
    let reached = |detail: &str| Probed::new(Answer::Answers, detail);
    let other = |what: &str| Failure::unexpected(format!("it does not greet as {what} does"));
    let told = |error: std::io::Error| of_io(&error);
    match greeting {
        Greeting::Amqp => {
            stream.write_all(&AMQP).map_err(told)?;
            let mut answer = [0; 8];
            stream.read_exact(&mut answer).map_err(told)?;
            if answer.starts_with(b"AMQP") {
                return Err(Failure::unexpected("it speaks another version of AMQP than 0-9-1"));
            }
            let mut method = [0; 3];
            stream.read_exact(&mut method).map_err(told)?;
            // Behind the frame's head of seven bytes, of which the last four are its size.
            let method = [answer[7], method[0], method[1], method[2]];
            if answer[..3] != METHOD || method != START {
                return Err(other("AMQP"));
            }
            Ok(reached("greets as AMQP 0-9-1, without a login"))
        }
        Greeting::Smtp => {
            let line = line(&mut stream).map_err(told)?;
            if line.starts_with(['4', '5']) {
                let code = line.get(..3).unwrap_or_default();
                return Err(Failure::unexpected(format!("it greets with {code}: it takes no mail now")));
            }
            if !line.starts_with("220") {
                return Err(other("SMTP"));
            }
            // It has said what it is, whatever it says to that.
            let _ = stream.write_all(b"QUIT\r\n");
            Ok(reached("greets as SMTP, without a login"))
        }
        Greeting::Sftp => {
            // Some lines may come before (RFC 4253, section 4.2).
            let is_ssh = |line: &String| line.starts_with("SSH-2.0-") || line.starts_with("SSH-1.99-");
            let found = (0..20)
                .map(|_| line(&mut stream))
                .take_while(|line| !matches!(line, Ok(it) if it.is_empty()));
            for line in found {
                if is_ssh(&line.map_err(told)?) {
                    return Ok(reached("greets as SSH, without a login"));
                }
            }
            Err(other("SSH"))
        }
    }
}

/// A line that comes, without what ends it; empty where nothing comes any more.
fn line(stream: &mut std::net::TcpStream) -> std::io::Result<String> {
    let mut line = Vec::new();
    // A byte at a time: what comes behind the line is left for the next one.
    BufReader::with_capacity(1, stream).take(LONGEST).read_until(b'\n', &mut line)?;
    Ok(String::from_utf8_lossy(&line).trim_end().to_owned())
}
