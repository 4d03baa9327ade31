//! What is really there, compared with what the ledger says.

mod asked;
mod follow;
mod live;
mod new_name;
mod rows;
mod take;
mod taking;
mod wanted;
pub mod words;

use std::sync::Arc;

use cledger_core::address::Pattern;

use crate::opened::Opened;
use crate::reality::lookups::standing;
use crate::reality::standing::UnitDrift;
use crate::trouble::{Kind, Trouble};
use crate::workplace::Workplace;

pub use self::take::{Taken, ToTake, take};
pub use self::wanted::{LookedAt, ToLookAt};
pub use crate::reality::delivered::Deliveries;

use self::wanted::{Sight, Wanted, see};

/// How units stand.
#[derive(Debug)]
pub struct Drift {
    /// One for each unit at each outlet.
    pub units: Vec<UnitDrift>,
    /// What the ledger was compared with.
    pub against: Against,
}

/// What the ledger was compared with.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Against {
    /// Outlets, as they are now.
    Outlets,
    /// A folder.
    Folder,
    /// What was captured of outlets.
    Capture,
    /// What the ledger said when a capture was taken.
    CapturedLedger,
    /// What was delivered.
    Delivery,
}

impl Against {
    fn of(asked: &ToLookAt) -> Self {
        match &asked.at {
            LookedAt::Outlets if asked.observed.is_some() => Against::Folder,
            LookedAt::Outlets => Against::Outlets,
            LookedAt::Captured(_) => Against::Capture,
            LookedAt::CapturedLedger(_) => Against::CapturedLedger,
            LookedAt::Delivered(_) => Against::Delivery,
        }
    }

    /// The word for it.
    pub fn name(self) -> &'static str {
        match self {
            Against::Outlets => "outlets",
            Against::Folder => "folder",
            Against::Capture => "capture",
            Against::CapturedLedger => "captured-ledger",
            Against::Delivery => "delivery",
        }
    }
}

impl Drift {
    /// What kind of trouble there is: drift, or what could not be looked at where nothing is known to differ.
    pub fn kind(&self) -> Option<Kind> {
        let is_known = |unit: &UnitDrift| !unit.is_clean() && !unit.is_unreachable();
        if self.units.iter().all(UnitDrift::is_clean) {
            None
        } else if self.units.iter().any(is_known) {
            Some(Kind::Found)
        } else {
            Some(Kind::Outside)
        }
    }
}

/// Compares what is there with what the ledger makes.
pub fn drift(at: &Arc<Workplace>, asked: &ToLookAt) -> Result<Drift, Trouble> {
    let mut sight = Sight::read(&asked.at)?;
    let wanted = Wanted::read(asked)?;
    let opened = Opened::read(at, &wanted.scope())?;
    sight.find(&opened)?;
    let wanted = wanted.within(&sight)?;
    let units = units(&opened, &wanted, asked.today.as_deref(), sight)?;
    opened.tell_unread();
    Ok(Drift { units, against: Against::of(asked) })
}

/// How what outlets have stands of the units that these patterns cover, of all without one.
pub(crate) fn at_outlets(opened: &Opened, patterns: Vec<Pattern>) -> Result<Vec<UnitDrift>, Trouble> {
    units(opened, &Wanted::Outlets(patterns), None, Sight::Outlets)
}

fn units(
    opened: &Opened,
    wanted: &Wanted,
    today: Option<&str>,
    sight: Sight,
) -> Result<Vec<UnitDrift>, Trouble> {
    see(opened, wanted, today, sight, |looked, lookups, today| {
        let mut units: Vec<UnitDrift> = looked.into_iter().flat_map(|looked| looked.units).collect();
        units.extend(standing(lookups, &opened.ledger, today));
        Ok(units)
    })
}
