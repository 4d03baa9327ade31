//! What can be compared: the ledger, deliveries, captures and files.

use std::path::{Path, PathBuf};

use cledger_core::address::Address;
use cledger_core::model::Bundle;

use crate::reality::captured::CAPTURE;
use crate::trouble::Trouble;
use crate::whole_units::WholeUnits;

/// What a side that is a file begins with, and one that is a folio, and another ledger.
const FILE: &str = "file:";
const FOLIO: &str = "folio:";
const LEDGER: &str = "ledger:";

/// One of two sides.
#[derive(Debug, Clone)]
pub enum Side {
    /// What the ledger says, of a stage or of a unit in one.
    Ledger(Address),
    /// What the ledger says of several units in a stage: those of a bundle, or that a pattern covers.
    Units(WholeUnits),
    /// A delivery.
    Delivery(Address),
    /// A capture.
    Capture(PathBuf),
    /// The units of a folio.
    Folio(PathBuf),
    /// What another ledger says.
    Other(PathBuf),
    /// A file that exists.
    File(String),
}

impl Side {
    /// Reads `@STAGE`, `bundle:NAME@STAGE`, `UNIT@STAGE`, `UNIT@STAGE:NUMBER`, `capture:PATH` or `file:PATH`.
    pub fn parse(text: &str) -> Result<Self, Trouble> {
        if let Some(path) = text.strip_prefix(CAPTURE) {
            return Ok(Side::Capture(path.into()));
        }
        if let Some(path) = text.strip_prefix(FOLIO) {
            return Ok(Side::Folio(path.into()));
        }
        if let Some(path) = text.strip_prefix(LEDGER) {
            return Ok(Side::Other(path.into()));
        }
        if let Some(path) = text.strip_prefix(FILE) {
            return Ok(Side::File(path.to_owned()));
        }
        if text.starts_with(Bundle::WORD) || text.contains(['*', '?']) {
            let texts = [text.to_owned()];
            return Ok(Side::Units(WholeUnits::parse(&texts, None, "compared")?.without_delivery()?));
        }
        // A path is told as such, be it one that an address could be, too.
        let is_path = text.contains(['.', '/']) && !text.contains('@') && Path::new(text).is_file();
        if is_path {
            return Err(Trouble::usage(format!("`{text}` is a file")).help(format!("write {FILE}{text}")));
        }
        let address = Address::parse(text)?;
        if address.entry.is_some() {
            let message = format!("`{text}` names an entry, and whole units are compared");
            return Err(Trouble::usage(message).help("leave out what begins with `/`"));
        }
        Ok(if address.delivery.is_some() { Side::Delivery(address) } else { Side::Ledger(address) })
    }
}
