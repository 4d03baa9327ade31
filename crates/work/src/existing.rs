//! Files that exist outside of the ledger, as trees of names and values: live ones, old ones.

use std::path::Path;

use cledger_core::model::OutputFormat;
use cledger_formats::{Found, Particulars, ReadError, format};
use cledger_outlets::file::FileError;
use cledger_store::{Capture, NoCapture};

use crate::trouble::Trouble;

pub(crate) use cledger_outlets::file::{bytes, text, text_up_to};

/// The largest capture, in bytes.
pub(crate) const LARGEST_CAPTURE: usize = 64 << 20;

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

/// A capture that was written to a file.
pub(crate) fn capture(path: &Path) -> Result<Capture, Trouble> {
    let wrong = |reason: String| Trouble::usage(format!("`{}` cannot be read: {reason}", path.display()));
    let usual = "name a file that `cledger capture @STAGE --out FILE` has written";
    let text = text_up_to(path, LARGEST_CAPTURE).map_err(|error| wrong(error.to_string()).help(usual))?;
    Capture::parse(&text).map_err(|error| {
        let is_later = matches!(error, NoCapture::Version(_));
        wrong(error.to_string()).help(if is_later {
            "take a newer cledger, or capture it again"
        } else {
            usual
        })
    })
}
