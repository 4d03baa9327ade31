//! Files that exist outside of the ledger, as trees of names and values: live ones, old ones.

use cledger_core::model::OutputFormat;
use cledger_formats::{Found, Particulars, ReadError, format};
use cledger_outlets::file::FileError;

pub(crate) use cledger_outlets::file::{bytes, text};

/// Why a file is not read.
#[derive(Debug, thiserror::Error)]
pub(crate) enum ExistingError {
    #[error(transparent)]
    File(#[from] FileError),
    #[error(transparent)]
    Form(#[from] ReadError),
    #[error("the format of a file made by a template is not known")]
    NoForm,
}

/// What is in a text of a format.
pub(crate) fn read(
    text: &str,
    this: OutputFormat,
    particulars: Particulars<'_>,
) -> Result<Found, ExistingError> {
    Ok(format(this, particulars).ok_or(ExistingError::NoForm)?.read(text)?)
}
