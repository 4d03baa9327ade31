//! What taking live values over changes.

use std::collections::BTreeMap;

use cledger_core::model::{LayerId, Ledger, OutputFormat};
use cledger_core::name::Name;
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
    /// New variables, with the names that they have there: by unit, variable and format.
    pub(crate) declared: BTreeMap<(Name, Name), (OutputFormat, Vec<String>)>,
}
