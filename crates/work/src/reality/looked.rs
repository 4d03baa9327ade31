//! What was seen at places.

use std::sync::Arc;

use cledger_core::model::Subject;
use cledger_outlets::Tables;
use cledger_outlets::held::Held;

use crate::reality::making::Made;
use crate::reality::places::Place;
use crate::reality::standing::UnitDrift;

/// A unit or instance at a place.
pub(crate) struct Look<'l> {
    pub(crate) subject: Subject,
    pub(crate) made: Made<'l>,
    /// What was there; `None` where it was not reached in time.
    pub(crate) held: Option<Held>,
    /// The tables that it has rows in, if it has.
    pub(crate) tables: Option<Arc<Tables>>,
}

/// A place, and what was seen there.
pub(crate) struct Looked<'l> {
    pub(crate) place: Place<'l>,
    pub(crate) looks: Vec<Look<'l>>,
    /// How each of these stands, and units that the ledger does not know.
    pub(crate) units: Vec<UnitDrift>,
    /// Why the place as a whole does not answer.
    pub(crate) trouble: Option<String>,
}
