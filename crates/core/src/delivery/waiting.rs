//! How a unit stands in its stages, and what waits there.

use super::past::{Arrived, Event, Past, standing};
use crate::model::{Ledger, StageId};

/// How a unit stands in a stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum InStage {
    /// Nothing was delivered there yet.
    Nothing,
    /// The delivery with this number is there.
    Delivered(u64),
    /// The delivery or withdrawal with this number came to a part only.
    InPart(u64),
    /// The delivery with this number waits for somebody to bring it by hand.
    ByHand(u64),
    /// Nobody can tell how far the delivery or withdrawal with this number came.
    NotKnown(u64),
    /// What was delivered was taken off again.
    Withdrawn,
}

/// Something that waits in a stage, most pressing first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Waiting {
    /// A file with its values cannot be read, so that nothing is known of them.
    Unreadable,
    /// Values are missing or wrong.
    Values,
    /// What is there is not as the ledger says.
    Drifted,
    /// Whether what is there is as the ledger says cannot be told.
    DriftNotKnown,
    /// What is there is not as it was tested in the stages before.
    Untested,
    /// What was brought is not taken up there, or does not come out as the contract expects.
    NotInEffect,
    /// The ledger says something else than was delivered last.
    Delivery,
    /// A stage before has a later delivery.
    Promotion,
    /// A chore is not done.
    Chore,
}

impl Waiting {
    /// All of them.
    pub const ALL: [Self; 9] = [
        Self::Unreadable,
        Self::Values,
        Self::Drifted,
        Self::DriftNotKnown,
        Self::Untested,
        Self::NotInEffect,
        Self::Delivery,
        Self::Promotion,
        Self::Chore,
    ];

    /// The word for it, for programs.
    pub fn name(self) -> &'static str {
        match self {
            Waiting::Unreadable => "unreadable",
            Waiting::Values => "values",
            Waiting::Drifted => "drifted",
            Waiting::DriftNotKnown => "drift-not-known",
            Waiting::Untested => "untested",
            Waiting::NotInEffect => "not-in-effect",
            Waiting::Delivery => "delivery",
            Waiting::Promotion => "promotion",
            Waiting::Chore => "chore",
        }
    }

    /// Whether something is wrong, and not only to be done.
    pub fn is_trouble(self) -> bool {
        match self {
            Waiting::Values
            | Waiting::Unreadable
            | Waiting::Drifted
            | Waiting::Untested
            | Waiting::NotInEffect => true,
            Waiting::DriftNotKnown | Waiting::Delivery | Waiting::Promotion | Waiting::Chore => false,
        }
    }
}

/// How a unit stands in a stage of which these are the records.
pub fn in_stage(past: &[Past<'_>]) -> InStage {
    let Some(last) = standing(past) else { return InStage::Nothing };
    match (last.arrived, last.event) {
        (Arrived::InPart, _) => InStage::InPart(last.number),
        (Arrived::NotKnown, _) => InStage::NotKnown(last.number),
        (Arrived::Whole, Event::Delivered { .. }) => InStage::Delivered(last.number),
        (Arrived::Whole, _) => InStage::Withdrawn,
    }
}

/// Whether a stage before this one has a later delivery, which waits to be promoted. What was withdrawn waits for
/// nothing.
pub fn has_news_below<'r, 'p: 'r>(
    ledger: &Ledger,
    stage: StageId,
    records: impl Fn(StageId) -> &'r [Past<'p>],
) -> bool {
    let here = standing(records(stage));
    let mut before = ledger.stage(stage).after.iter().filter_map(|&before| standing(records(before)));
    before.any(|before| {
        before.is_delivery() && here.is_none_or(|here| here.is_delivery() && here.place < before.place)
    })
}
