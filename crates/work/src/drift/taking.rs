//! What taking live values over changes.

use std::collections::BTreeMap;

use cledger_core::model::{LayerId, Ledger, OutputFormat};
use cledger_core::name::Name;
use cledger_core::types::Type;
use cledger_store::{Edit, Keys};

use crate::change::Consent;
use crate::setting::Written;

/// What everything is taken with.
#[derive(Clone, Copy)]
pub(crate) struct With<'t> {
    pub(crate) ledger: &'t Ledger,
    pub(crate) keys: &'t Keys<'t>,
    /// Whether secrets may stand in plain text where there is no key.
    pub(crate) plain_secrets: bool,
    pub(crate) consent: &'t Consent,
}

/// What is to be changed.
#[derive(Default)]
pub(crate) struct Changes {
    pub(crate) edits: Vec<Edit>,
    pub(crate) layers: Vec<LayerId>,
    pub(crate) written: Vec<Written>,
    /// New variables, by unit and name, with where they were found.
    pub(crate) declared: BTreeMap<(Name, Name), Found>,
    /// What was asked for and is there as the ledger says.
    pub(crate) agreeing: Vec<String>,
    /// What stays as it is, each with the reason.
    pub(crate) left: Vec<(String, String)>,
}

/// What a name becomes that no contract had, and where it was found.
pub(crate) struct Found {
    /// Its type.
    pub(crate) this_type: Type,
    /// Whether it is a secret.
    pub(crate) secret: bool,
    /// In which format.
    pub(crate) format: OutputFormat,
    /// How it is called there.
    pub(crate) steps: Vec<String>,
    /// The paths, as they are written, of the outputs whose files have it.
    pub(crate) paths: Vec<String>,
}
