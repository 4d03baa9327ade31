//! `impact` for programs.

use cledger_core::address::Address;
use cledger_core::impact::Affected;
use cledger_core::model::Ledger;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document {
    format: u32,
    address: String,
    affected: Vec<AffectedDocument>,
}

#[derive(Debug, Serialize)]
struct AffectedDocument {
    address: String,
    through: Option<String>,
}

pub(crate) fn document(ledger: &Ledger, address: &Address, affected: &[Affected]) -> Document {
    let affected = affected.iter().map(|one| AffectedDocument {
        address: ledger.address(one.field).to_string(),
        through: one.through.map(|field| ledger.address(field).to_string()),
    });
    Document { format: FORMAT, address: address.to_string(), affected: affected.collect() }
}
