//! A delivery or withdrawal that was left open, given up: for one that nobody can finish any more.

use cledger_core::address::Address;
use cledger_core::model::Stage;
use cledger_store::daybook::{Daybook as _, Meta};

use crate::bringing::baseline::left_open;
use crate::change::{CHANGES, Consent, countersigned};
use crate::daybook;
use crate::meant::whole_unit;
use crate::opened::Opened;
use crate::shared_book::{Held, SharedBook};
use crate::trouble::Trouble;

/// What was left open, and is given up.
#[derive(Debug)]
pub struct Dropped {
    /// What is known of it.
    pub meta: Meta,
    /// Whether it is done.
    pub written: bool,
}

/// Gives up what was left open of a unit in a stage, whether the ledger knows them or not. What of it came to the
/// outlets is nobody's then.
pub fn drop_open(
    opened: &Opened,
    address: &Address,
    consent: &Consent,
    write: bool,
) -> Result<Dropped, Trouble> {
    let owner = whole_unit(address)?.to_string();
    let Some(stage) = &address.stage else {
        return Err(Trouble::usage(format!("`{address}` names no stage")).help("write UNIT@STAGE --drop"));
    };
    let none = || {
        Trouble::usage(format!("nothing of `{owner}@{stage}` was left open"))
            .help("`cledger history` tells what was")
    };
    let mut book = SharedBook::new(daybook::for_writing(opened, write)?);
    let mut open = left_open(&mut book, &owner, stage.as_str())?.ok_or_else(none)?;
    if write {
        let ledger = &opened.ledger;
        let known: Vec<&Stage> =
            ledger.stage_id(stage.as_str()).map(|id| ledger.stage(id)).into_iter().collect();
        countersigned(&opened.at, &known, &consent.countersign, CHANGES)?;
        let mut held = Held::take(&book, &owner, stage.as_str())?;
        open = left_open(&mut held.book, &owner, stage.as_str())?.ok_or_else(none)?;
        let token = held.book.take_up(&open)?;
        held.book.close(&owner, stage.as_str(), &token)?;
    }
    Ok(Dropped { meta: open.meta, written: write })
}
