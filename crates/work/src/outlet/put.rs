//! One unit brought to the outlets of a stage beside the usual way: recorded, but as no delivery.

use cledger_core::address::Address;
use cledger_core::model::Stage;
use cledger_store::daybook::Kind as RecordKind;

use crate::change::Consent;
use crate::deliver::{Delivered, Edits, ToDeliver, deliver};
use crate::meant::whole_unit;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::look::{Seeing, look};
use crate::reality::places;
use crate::reality::standing::UnitDrift;
use crate::trouble::{Kind, Trouble};
use crate::whole_units::WholeUnits;

/// What came of it.
#[derive(Debug)]
pub struct Put {
    /// What was brought, or would be.
    pub delivered: Delivered,
    /// How programs stand that are only looked at, once it was brought.
    pub processes: Vec<UnitDrift>,
}

impl Put {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        self.delivered.kind()
    }
}

/// Brings what a unit should have to the outlets of a stage, or shows what differs there.
pub fn put(
    opened: &Opened,
    address: &Address,
    edits: &Edits,
    consent: &Consent,
    write: bool,
) -> Result<Put, Trouble> {
    let owner = whole_unit(address)?;
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(owner, stage)?;
    if write {
        refuse_locked(opened.ledger.stage(stage), consent)?;
    }
    let asked = ToDeliver {
        what: WholeUnits::of(owner.clone(), Some(&opened.ledger.stage(stage).name)),
        kind: RecordKind::Put,
        edits: edits.clone(),
        consent: consent.clone(),
        write,
        ..ToDeliver::all_of(None)
    };
    let delivered = deliver(opened, &asked)?;
    let mut processes = Vec::new();
    if write && delivered.gaps.is_empty() {
        let around = Around::of(opened);
        let mut places = places::of_owner(&opened.ledger, &around, owner, stage)?;
        places.retain(places::Place::is_process);
        for place in &mut places {
            place.subjects.push(subject);
        }
        let resolver = opened.resolver();
        let looked = look(places, &resolver, opened.at.today()?, Seeing::Live(&*opened.at.telling))?;
        processes = looked.into_iter().flat_map(|looked| looked.units).collect();
    }
    Ok(Put { delivered, processes })
}

/// Refuses what a change of the stage's settings would be refused for.
pub(crate) fn refuse_locked(stage: &Stage, consent: &Consent) -> Result<(), Trouble> {
    if stage.locked && consent.why.is_none() {
        let message = format!("`{}` is locked: what is there changes with a reason only", stage.name);
        return Err(Trouble::refused(message).help("add --why TEXT"));
    }
    Ok(())
}
