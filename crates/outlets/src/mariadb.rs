//! What everybody needs who speaks to MariaDB.

use std::io::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use cledger_core::probe::{Answer, Tls};
use mysql::{Conn, Error, OptsBuilder, SslOpts};
use tempfile::NamedTempFile;

use crate::failure::{Deadline, Failure};
use crate::tls;
use crate::trust::Trust;

/// Logs in within a time.
pub(crate) fn connect(
    builder: OptsBuilder,
    trust: &Trust,
    encrypted: Tls,
    deadline: Deadline,
) -> Result<Conn, Failure> {
    let left = Some(deadline.left()?);
    let builder =
        builder.prefer_socket(false).tcp_connect_timeout(left).read_timeout(left).write_timeout(left);
    let roots = if encrypted == Tls::Verified { Some(pem(trust)?) } else { None };
    let encryption = match (encrypted, &roots) {
        (Tls::Off, _) => None,
        (_, Some(roots)) => Some(SslOpts::default().with_root_cert_path(Some(roots.path().to_owned()))),
        (_, None) => Some(SslOpts::default().with_danger_accept_invalid_certs(true)),
    };
    Conn::new(builder.ssl_opts(encryption)).map_err(|error| failure(&error))
}

/// The certificates that are trusted, in a file as the library wants it (RFC 7468); there is no secret in them.
fn pem(trust: &Trust) -> Result<NamedTempFile, Failure> {
    let written = || -> std::io::Result<NamedTempFile> {
        let mut file = NamedTempFile::new()?;
        for certificate in trust.certificates() {
            let text = STANDARD.encode(certificate);
            writeln!(file, "-----BEGIN CERTIFICATE-----")?;
            for at in (0..text.len()).step_by(64) {
                writeln!(file, "{}", &text[at..text.len().min(at + 64)])?;
            }
            writeln!(file, "-----END CERTIFICATE-----")?;
        }
        file.flush()?;
        Ok(file)
    };
    written()
        .map_err(|error| Failure::unexpected(format!("trusted certificates cannot be handed on: {error}")))
}

/// What an error says, without what the server says: that may hold values.
pub(crate) fn failure(error: &Error) -> Failure {
    let said = match error {
        Error::MySqlError(said) => said,
        Error::IoError(error) => return tls::of_any(error),
        Error::CodecError(error) => return tls::of_any(error),
        error => return tls::of_any(error),
    };
    let (answer, words) = match said.code {
        1045 | 1044 | 1142 | 1698 => (Answer::AccessDenied, "the login or its rights"),
        1049 => {
            return Failure::new(Answer::NoSuchDatabase, "the server is there, and the database is not");
        }
        1205 | 1213 => return Failure::unexpected("somebody else is changing it"),
        1969 => return Failure::new(Answer::NoAnswer, "within the time limit"),
        1062 => (Answer::Unexpected, "there is such a row already"),
        1048 | 1364 => (Answer::Unexpected, "a column that is never empty would be"),
        1451 | 1452 => (Answer::Unexpected, "another table does not go with it"),
        4025 => (Answer::Unexpected, "a condition of the table is not met"),
        1406 | 1264 | 1265 | 1366 | 1292 => (Answer::Unexpected, "a value does not fit its column"),
        _ => (Answer::Unexpected, "the server refuses it"),
    };
    Failure::new(answer, format!("{words}, error {} (SQLSTATE {})", said.code, said.state))
}
