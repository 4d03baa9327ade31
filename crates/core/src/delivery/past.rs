//! What has happened to a unit in a stage so far, as far as the rules ask.

/// What one record is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Event<'p> {
    /// A delivery of a contract, by its hash.
    Delivered {
        /// The hash.
        contract: &'p str,
    },
    /// What was delivered was taken off again.
    Withdrawn,
    /// What was there before the first delivery was taken into the ledger.
    Found,
    /// The chore with this text was done.
    ChoreDone(&'p str),
    /// Chores were asked for beside a delivery.
    ChoresAsked,
}

/// How far a delivery or withdrawal came.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Arrived {
    /// All outlets have all of it.
    Whole,
    /// Some of it is known not to be there.
    InPart,
    /// Of some of it nobody can tell.
    NotKnown,
}

/// One record of a unit in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Past<'p> {
    /// Its place in the chain of all records: greater is later.
    pub place: u64,
    /// Its number among the deliveries and withdrawals of the unit in the stage.
    pub number: u64,
    /// What it is of.
    pub event: Event<'p>,
    /// How far it came.
    pub arrived: Arrived,
    /// The texts of the chores that are open after it, where that is recorded; where they are asked for beside a
    /// delivery, these alone.
    pub chores: Option<&'p [String]>,
}

impl Past<'_> {
    /// Whether it is a delivery.
    pub fn is_delivery(&self) -> bool {
        matches!(self.event, Event::Delivered { .. })
    }

    /// Whether it says what the stage has now: a delivery or a withdrawal.
    pub fn is_standing(&self) -> bool {
        matches!(self.event, Event::Delivered { .. } | Event::Withdrawn)
    }
}

/// The last record that says what a stage has now.
pub(super) fn standing<'r, 'p>(records: &'r [Past<'p>]) -> Option<&'r Past<'p>> {
    records.iter().filter(|past| past.is_standing()).max_by_key(|past| past.place)
}

/// The last delivery.
pub(super) fn delivery<'r, 'p>(records: &'r [Past<'p>]) -> Option<&'r Past<'p>> {
    records.iter().filter(|past| past.is_delivery()).max_by_key(|past| past.place)
}
