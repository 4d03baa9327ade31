//! The private key that is one's own.

use cledger_store::Made;

use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// One's own identity.
#[derive(Debug, Clone)]
pub struct OwnIdentity {
    /// Where it is kept.
    pub path: String,
    /// Its public keys, for whoever lets one in.
    pub recipients: Vec<String>,
    /// Whether it was made just now.
    pub is_new: bool,
    /// Whether it is there, and not only shown.
    pub written: bool,
}

/// Makes an identity where there is none, if that is to be written, and gives its public keys.
pub fn identity(at: &Workplace, write: bool) -> Result<OwnIdentity, Trouble> {
    if !write && !at.identity.is_there()? {
        let path = at.identity.shown().trim_matches('`').to_owned();
        return Ok(OwnIdentity { path, recipients: Vec::new(), is_new: true, written: false });
    }
    let made = at.identity.make()?;
    let path = at.identity.shown().trim_matches('`').to_owned();
    let recipients = at.identity.recipients()?.iter().map(ToString::to_string).collect();
    Ok(OwnIdentity { path, recipients, is_new: made == Made::New, written: true })
}
