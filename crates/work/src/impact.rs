//! Everything that depends on one value that is written.

use cledger_core::address::Address;
use cledger_core::impact::{Affected, Cause, Written, impact as affected_by};
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::resolve::{Resolver, Unfetched};
use cledger_store::Target;

use crate::opened::Opened;
use crate::setting::there;
use crate::trouble::Trouble;

/// What depends on a value.
#[derive(Debug)]
pub struct Impact<'l> {
    /// The ledger.
    pub ledger: &'l Ledger,
    /// The value's address, with the stage, the group or `default`.
    pub address: Address,
    /// What depends on it.
    pub affected: Vec<Affected>,
}

/// Finds what depends on the value at an address, in a stage or group if it names none; `default` may stand for them.
pub fn impact<'l>(opened: &'l Opened, address: &str, stage: Option<&Name>) -> Result<Impact<'l>, Trouble> {
    let (ledger, place) = (&*opened.ledger, opened.place(address, stage)?);
    let written = match place.target {
        Target::Layer(layer) => Written::In(layer),
        Target::Default => Written::Default,
    };
    let resolver = Resolver::new(ledger, &Unfetched, &[]);
    let affected = affected_by(&resolver, Cause { subject: place.subject, slot: place.slot, written });
    if place.target != Target::Default && there(ledger, &place).is_none() {
        let address = &place.address;
        let text = format!("{address} is not set there: what follows counts its effective value");
        opened.at.telling.notice(&text);
    }
    Ok(Impact { ledger, address: place.address, affected })
}
