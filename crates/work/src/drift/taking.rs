//! What taking live values over changes.

use std::collections::BTreeMap;

use cledger_core::address::Address;
use cledger_core::model::{LayerId, Ledger, OutputFormat, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Effective, FieldId, Resolver};
use cledger_core::types::Type;
use cledger_store::{Edit, Keys};
use zeroize::Zeroizing;

use crate::change::Consent;
use crate::meant::unit_of;
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
    /// What stays as it is.
    pub(crate) left: Vec<Left>,
}

/// Something that stays as it is.
pub(crate) struct Left {
    pub(crate) address: Address,
    /// Why.
    pub(crate) reason: String,
    /// The field, by the subject and stage that it is of, and what it has there, where that is known.
    pub(crate) there: Option<(Subject, StageId, Zeroizing<String>)>,
}

impl Left {
    /// Whether it comes to what is there all the same, once what it is made of has been taken over.
    pub(crate) fn comes_along(&self, after: &Resolver<'_>) -> bool {
        let (Some((subject, stage, there)), Some(entry)) = (&self.there, &self.address.entry) else {
            return false;
        };
        let (subject, stage) = (*subject, *stage);
        let field = self.address.field.as_ref().map(Name::as_str);
        let Ok(slot) = after.ledger().find_slot(subject, entry.as_str(), field) else { return false };
        let outcome = after.session(unit_of(subject)).outcome(FieldId { subject, stage, slot });
        let value = outcome.value().and_then(Effective::expose);
        value.is_some_and(|value| value.to_secret_text() == *there)
    }
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
