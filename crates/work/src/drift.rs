//! What is really there, compared with what the ledger says.

mod asked;
mod follow;
mod live;
mod new_name;
mod take;
mod taking;
mod wanted;

use std::sync::Arc;

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
    /// Whether that is what was delivered, and not what is there.
    pub is_delivered: bool,
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
    let units = see(&opened, &wanted, asked.today.as_deref(), sight, |looked, lookups, today| {
        let mut units: Vec<UnitDrift> = looked.into_iter().flat_map(|looked| looked.units).collect();
        units.extend(standing(lookups, &opened.ledger, today));
        Ok(units)
    })?;
    opened.tell_unread();
    Ok(Drift { units, is_delivered: matches!(asked.at, LookedAt::Delivered(_)) })
}
