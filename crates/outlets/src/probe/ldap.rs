//! LDAP: a simple bind (RFC 4511, section 4.2), of nobody where no user is said.

use std::io::{Read as _, Write as _};

use cledger_core::probe::{Answer, Login, Probed, Target, is_this_machine};
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure};
use crate::tcp::{connect, of_io};

/// The largest answer that is looked at, in bytes.
const LARGEST: u64 = 4096;

/// The code of a login that is not right (RFC 4511, section 4.1.9).
const WRONG_LOGIN: u8 = 49;

pub(super) fn probe(target: &Target, login: &Login, deadline: Deadline) -> Result<Probed, Failure> {
    let mut stream = connect(&target.host, target.port, deadline)?;
    // A password goes nowhere in plain text but to this machine itself.
    let nobody = Login::default();
    let is_open = login.password.is_some() && !is_this_machine(&target.host);
    let login = if is_open { &nobody } else { login };
    stream.write_all(&bind(login)).map_err(|error| of_io(&error))?;
    let mut head = [0; 2];
    stream.read_exact(&mut head).map_err(|error| of_io(&error))?;
    let other = || Failure::unexpected("it does not answer as LDAP does");
    if head[0] != SEQUENCE {
        return Err(other());
    }
    let length = length(head[1], &mut stream).map_err(|error| of_io(&error))?.filter(|it| *it <= LARGEST);
    let mut answer = vec![0; length.and_then(|it| usize::try_from(it).ok()).ok_or_else(other)?];
    stream.read_exact(&mut answer).map_err(|error| of_io(&error))?;
    match result(&answer).ok_or_else(other)? {
        0 if login.user.is_some() => Ok(Probed::new(Answer::Answers, "logged in")),
        0 if is_open => {
            let detail = "without a login, which would go there in plain text".to_owned();
            Ok(Probed::new(Answer::Answers, detail))
        }
        0 => Ok(Probed::new(Answer::Answers, "without a login")),
        WRONG_LOGIN => Err(Failure::new(Answer::AccessDenied, "the login")),
        code if login.user.is_some() => {
            Err(Failure::new(Answer::AccessDenied, format!("it refuses the login with code {code}")))
        }
        // It speaks LDAP, and does not let in just anybody.
        code => Ok(Probed::new(Answer::Answers, format!("answers with code {code}, without a login"))),
    }
}

/// The tags of BER (X.690) that are needed.
const SEQUENCE: u8 = 0x30;
const INTEGER: u8 = 0x02;
const TEXT: u8 = 0x04;
const ENUMERATED: u8 = 0x0a;
/// The request and the answer of a bind, and a password in it.
const BIND: u8 = 0x60;
const BOUND: u8 = 0x61;
const SIMPLE: u8 = 0x80;

/// The message with number 1 that binds.
fn bind(login: &Login) -> Zeroizing<Vec<u8>> {
    let password = login.password.as_ref().map(|password| password.expose().to_secret_text());
    let password = password.as_ref().map(|password| password.as_bytes()).unwrap_or_default();
    let user = login.user.as_deref().unwrap_or_default().as_bytes();
    let parts = [part(INTEGER, &[3]), part(TEXT, user), part(SIMPLE, password)];
    let request = Zeroizing::new(parts.iter().flat_map(|part| part.iter().copied()).collect::<Vec<u8>>());
    let (number, request) = (part(INTEGER, &[1]), part(BIND, &request));
    let both = Zeroizing::new([number.as_slice(), request.as_slice()].concat());
    part(SEQUENCE, &both)
}

fn part(tag: u8, inside: &[u8]) -> Zeroizing<Vec<u8>> {
    let mut part = Zeroizing::new(Vec::with_capacity(inside.len() + 6));
    part.push(tag);
    if let Ok(length @ ..=127) = u8::try_from(inside.len()) {
        part.push(length);
    } else {
        part.push(0x84);
        part.extend(u32::try_from(inside.len()).unwrap_or(u32::MAX).to_be_bytes());
    }
    part.extend(inside);
    part
}

/// A length whose first byte this is.
fn length(first: u8, from: &mut impl std::io::Read) -> std::io::Result<Option<u64>> {
    if first < 0x80 {
        return Ok(Some(first.into()));
    }
    let count = usize::from(first & 0x7f);
    if count == 0 || count > 4 {
        return Ok(None);
    }
    let mut bytes = [0; 4];
    from.read_exact(&mut bytes[4 - count..])?;
    Ok(Some(u32::from_be_bytes(bytes).into()))
}

/// The code in the answer to a bind.
fn result(message: &[u8]) -> Option<u8> {
    let (tag, _, rest) = taken(message)?;
    if tag != INTEGER {
        return None;
    }
    let (tag, answer, _) = taken(rest)?;
    if tag != BOUND {
        return None;
    }
    match taken(answer)? {
        (ENUMERATED, [code], _) => Some(*code),
        _ => None,
    }
}

/// The first part of some: its tag, what is inside, and what follows.
fn taken(parts: &[u8]) -> Option<(u8, &[u8], &[u8])> {
    let (tag, rest) = parts.split_first()?;
    let (first, mut rest) = rest.split_first()?;
    let length = length(*first, &mut rest).ok()??;
    let (inside, rest) = rest.split_at_checked(usize::try_from(length).ok()?)?;
    Some((*tag, inside, rest))
}
