//! Files that exist outside of the ledger: live ones, old ones, exported ones.

use std::fs::File;
use std::io::{self, Read as _};
use std::path::Path;

use cledger_core::model::OutputFormat;
use cledger_formats::{Found, LARGEST, Particulars, ReadError, format};

/// Why a file is not read.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ExistingError {
    #[error("it is not there")]
    NotThere,
    #[error("it is a folder")]
    Folder,
    #[error("it is not UTF-8 text")]
    NotText,
    #[error("it is larger than {} MiB, which no file of names and values is", LARGEST >> 20)]
    TooLarge,
    #[error("{0}")]
    Io(io::Error),
    #[error(transparent)]
    Form(#[from] ReadError),
    #[error("the format of a file made by a template is not known")]
    NoForm,
}

/// The bytes of a file that is not too large.
pub(crate) fn bytes(path: &Path, largest: usize) -> Result<Vec<u8>, ExistingError> {
    let wrong = |error: io::Error| match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => ExistingError::NotThere,
        io::ErrorKind::IsADirectory => ExistingError::Folder,
        _ => ExistingError::Io(error),
    };
    let mut bytes = Vec::new();
    // One more byte than allowed tells that there are more.
    let most = u64::try_from(largest).unwrap_or(u64::MAX).saturating_add(1);
    File::open(path).map_err(wrong)?.take(most).read_to_end(&mut bytes).map_err(wrong)?;
    if bytes.len() > largest { Err(ExistingError::TooLarge) } else { Ok(bytes) }
}

/// The text of a file.
pub(crate) fn text(path: &Path) -> Result<String, ExistingError> {
    String::from_utf8(bytes(path, LARGEST)?).map_err(|_| ExistingError::NotText)
}

/// What is in a text of a format.
pub(crate) fn read(
    text: &str,
    this: OutputFormat,
    particulars: Particulars<'_>,
) -> Result<Found, ExistingError> {
    Ok(format(this, particulars).ok_or(ExistingError::NoForm)?.read(text)?)
}
