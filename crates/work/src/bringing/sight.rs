//! Looking at the outlets of a unit.

use std::sync::Arc;

use cledger_core::address::Owner;
use cledger_core::model::StageId;
use cledger_outlets::Tables;
use cledger_outlets::held::{Held, Values};

use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::look::read_all;
use crate::reality::places::{self, Place};
use crate::trouble::Trouble;

/// An outlet, and what was seen there of a unit.
pub(crate) struct Sight<'l> {
    pub(crate) place: Place<'l>,
    pub(crate) held: Held,
    /// The tables that it has rows in, if it has.
    pub(crate) tables: Option<Arc<Tables>>,
}

/// Looks at all outlets of a unit in a stage, for the files that are asked of each, and in the words in which the
/// values of rows were said.
pub(crate) fn look<'l>(
    opened: &'l Opened,
    around: &Around<'l>,
    (owner, stage): (&Owner, StageId),
    asked: &dyn Fn(&str) -> Vec<String>,
    said: &dyn Fn(&str) -> Vec<Values>,
) -> Result<Vec<Sight<'l>>, Trouble> {
    let ledger = &opened.ledger;
    let mut places = places::of_owner(ledger, around, owner, stage)?;
    for place in &mut places {
        let outlet = place.outlet_name().map(|(name, _)| name).unwrap_or_default();
        let mut files = asked(&outlet);
        files.sort_unstable();
        files.dedup();
        place.ask(ledger, owner, files)?;
        place.say(owner, said(&outlet));
    }
    let sources: Vec<_> = places.iter().map(|place| place.source.clone()).collect();
    let backs = read_all(&sources, &*opened.at.telling, "outlets");
    let name = owner.to_string();
    let sights = places.into_iter().zip(backs).map(|(place, mut back)| {
        let held = back.units.remove(&name).unwrap_or_else(|| Held::NotKnown(place.trouble(&back)));
        let tables = back.tables.remove(&name);
        Sight { place, held, tables }
    });
    Ok(sights.collect())
}

/// The same outlets looked at once more.
pub(crate) fn look_again(sights: &[&Sight<'_>], owner: &str) -> Vec<Held> {
    let sources: Vec<_> = sights.iter().map(|sight| sight.place.source.clone()).collect();
    let backs = cledger_outlets::read_back::read_back(&sources, |_| ());
    let held = sights.iter().zip(backs).map(|(sight, mut back)| {
        back.units.remove(owner).unwrap_or_else(|| Held::NotKnown(sight.place.trouble(&back)))
    });
    held.collect()
}
