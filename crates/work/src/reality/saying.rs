//! What the ledger says of a stage, kept in a capture beside what its outlets hold.

use std::collections::BTreeMap;

use cledger_core::address::Owner;
use cledger_core::fields::{as_kept, fields};
use cledger_core::model::{OutputFormat, StageId};
use cledger_core::resolve::{Effective, Outcome};
use cledger_store::daybook::Daybook;
use cledger_store::{CapturedFile, CapturedUnit, CapturedValue};

use crate::meant::unit_of;
use crate::opened::Opened;
use crate::reality::captured::{SAID_OUTLET, SAID_PATH, place_of};
use crate::reality::capturing::{Hiding, LEFT_OUT};
use crate::reality::veiling::Veil;
use crate::trouble::Trouble;

/// What the ledger says of the units and instances of a stage.
#[derive(Default)]
pub(crate) struct Saying {
    /// Of each its fields that have a value.
    pub(crate) units: BTreeMap<String, CapturedUnit>,
    /// The addresses of those that are not in it, each with the reason.
    pub(crate) left_out: Vec<String>,
}

/// Writes down what the ledger says of the units and instances of a stage that are wanted.
pub(crate) fn saying(
    opened: &Opened,
    stage: StageId,
    wanted: impl Fn(&Owner) -> bool,
    mut book: Option<&mut (dyn Daybook + '_)>,
    hiding: &Hiding<'_>,
) -> Result<Saying, Trouble> {
    let (ledger, resolver) = (&opened.ledger, opened.resolver());
    let mut said = Saying::default();
    for subject in ledger.subjects_in(stage).filter(|subject| wanted(&ledger.owner(*subject))) {
        let owner = ledger.owner(subject).to_string();
        let veil = Veil::of(&resolver, Some(subject), (&owner, stage), book.as_deref_mut())?;
        let mut values = Vec::new();
        for (name, (field, outcome)) in fields(&mut resolver.session(unit_of(subject)), subject, stage) {
            let address = ledger.address(field).to_string();
            let (value, missing) = match &outcome {
                Outcome::Value(effective) => (effective.expose(), "it cannot be read here"),
                Outcome::Broken(_) => (None, "it has a mistake, and no value"),
                Outcome::Missing(..) | Outcome::Absent(_) | Outcome::Unset => continue,
            };
            let content = if let Some(value) = value {
                let secret = outcome.value().is_some_and(Effective::is_secret);
                let place = place_of(&owner, SAID_OUTLET, SAID_PATH, &name);
                hiding.content(&place, secret || veil.hides(Some(&address), value), &as_kept(value))?
            } else {
                said.left_out.push(format!("{address}: {missing}"));
                LEFT_OUT
            };
            values.push(CapturedValue { name, content });
        }
        let format = OutputFormat::Json;
        let file = CapturedFile { values, ..CapturedFile::empty(SAID_PATH, format.name()) };
        let version = ledger.unit_id(ledger.owner(subject).names().0);
        let version = version.and_then(|id| ledger.unit(id).version.clone());
        said.units.insert(owner, CapturedUnit::There { version, tag: None, files: vec![file] });
    }
    Ok(said)
}
