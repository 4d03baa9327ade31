//! One unit brought to the outlets of a stage by hand.

use std::sync::Arc;

use cledger_core::address::Address;
use cledger_core::findings::Finding;
use cledger_core::model::{Ledger, Stage};
use cledger_core::render::rendering;

use crate::change::{CHANGES, Consent, countersigned};
use crate::daybook;
use crate::deliver::made::made;
use crate::meant::{unit_of, whole_unit};
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::bring::Bringer;
use crate::reality::brought::Brought;
use crate::reality::load::Bringing;
use crate::reality::standing::UnitDrift;
use crate::reality::veiling;
use crate::rendered::not_readable;
use crate::trouble::{Kind, Trouble};
use crate::workplace::Workplace;

/// What came of it.
#[derive(Debug)]
pub struct Put {
    /// The ledger that it was made from.
    pub ledger: Arc<Ledger>,
    /// What keeps it from being brought.
    pub gaps: Vec<Finding>,
    /// What the outlets answered.
    pub brought: Vec<Brought>,
    /// How all of it stands: afterwards, or now where it is only shown.
    pub units: Vec<UnitDrift>,
    /// Whether it was to be brought, and not only shown.
    pub write: bool,
}

impl Put {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        if !self.gaps.is_empty() {
            return Some(Kind::Found);
        }
        (!self.brought.iter().all(Brought::is_well)).then_some(Kind::Outside)
    }
}

/// Brings what a unit should have to the outlets of a stage, or shows what differs there.
pub fn put(opened: &Opened, address: &Address, consent: &Consent, write: bool) -> Result<Put, Trouble> {
    let owner = whole_unit(address)?;
    let ledger = &opened.ledger;
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(owner, stage)?;
    let resolver = opened.resolver();
    let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, stage);
    if !rendering.unreadable.is_empty() {
        return Err(not_readable(&[owner.to_string()], &opened.surroundings, ""));
    }
    let mut put =
        Put { ledger: ledger.clone(), gaps: Vec::new(), brought: Vec::new(), units: Vec::new(), write };
    if !rendering.gaps.is_empty() {
        put.gaps = rendering.gaps;
        return Ok(put);
    }
    let around = Around::of(opened);
    let bringer = Bringer { opened, resolver: &resolver, around: &around };
    if write {
        guard(&opened.at, ledger.stage(stage), consent)?;
        let whole = made(&resolver, &rendering, subject, stage)?;
        let bringing = Bringing { content: &whole, before: None, is_of_ledger: true };
        put.brought = bringer.bring(subject, stage, &bringing)?;
    }
    put.units = bringer.look(subject, stage)?.into_iter().flat_map(|looked| looked.units).collect();
    if let Some(mut book) = daybook::reading(opened)? {
        veiling::by_deliveries(&mut *book, &mut put.units)?;
    }
    Ok(put)
}

/// Refuses what a change of the stage's settings would be refused for.
fn guard(at: &Workplace, stage: &Stage, consent: &Consent) -> Result<(), Trouble> {
    if stage.locked && consent.why.is_none() {
        let message = format!("`{}` is locked: what is there changes with a reason only", stage.name);
        return Err(Trouble::refused(message).help("add --why TEXT"));
    }
    countersigned(at, &[stage], &consent.countersign, CHANGES)
}
