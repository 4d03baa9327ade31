//! `deliver` for programs.

use cledger_core::delivery::FieldChange;
use cledger_core::kept::Kept;
use cledger_core::model::Ledger;
use serde::Serialize;

use super::FORMAT;
use super::at::{self, OutletPlan};
use super::brought::{OneBrought, one_brought};
use super::bundle::{BundleDocument, bundle};
use super::check::{self, FindingDocument};
use super::error::{self, TroubleDocument};
use super::withdraw::{self, WithdrawalDocument};
use crate::output::values;
use cledger_store::daybook::Meta;
use cledger_work::deliver::dropping::Dropped;
use cledger_work::deliver::{Delivered, Delivery, Untested};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'d> {
    format: u32,
    written: bool,
    /// The bundle that is delivered, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    bundle: Option<BundleDocument<'d>>,
    deliveries: Vec<DeliveryDocument<'d>>,
    /// What is left over of units that do not belong to the stage any more.
    left_over: Vec<WithdrawalDocument<'d>>,
    gaps: Vec<FindingDocument<'d>>,
    /// What ended the work after some of it was done.
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<TroubleDocument<'d>>,
}

#[derive(Debug, Serialize)]
struct DeliveryDocument<'d> {
    unit: &'d str,
    stage: &'d str,
    /// Whether there was nothing to do.
    left_out: bool,
    /// The number, where it was recorded.
    number: Option<u64>,
    again: Option<u64>,
    changes: Vec<ChangeDocument>,
    chores: Vec<&'d str>,
    /// What is not as it was delivered to the stages before, with these.
    untested: &'d Untested,
    /// The outlets that are reached by hand, each with what to do.
    by_hand: &'d [(String, String)],
    /// What the outlets have and are to have.
    plan: Vec<OutletPlan<'d>>,
    /// What they answered.
    outlets: Vec<OneBrought<'d>>,
    /// Why it was not made.
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<TroubleDocument<'d>>,
}

#[derive(Debug, Serialize)]
pub(crate) struct ChangeDocument {
    field: String,
    change: &'static str,
    secret: bool,
    before: serde_json::Value,
    after: serde_json::Value,
}

pub(crate) fn document(delivered: &Delivered) -> Document<'_> {
    let ledger = &delivered.ledger;
    Document {
        format: FORMAT,
        written: delivered.write,
        bundle: delivered.together.as_ref().map(bundle),
        deliveries: delivered.deliveries.iter().map(|delivery| one(ledger, delivery)).collect(),
        left_over: delivered.left_over.iter().map(withdraw::one).collect(),
        gaps: delivered.gaps.iter().map(|gap| check::finding(ledger, gap)).collect(),
        trouble: delivered.trouble.as_ref().map(error::trouble),
    }
}

fn one<'d>(ledger: &'d Ledger, delivery: &'d Delivery) -> DeliveryDocument<'d> {
    DeliveryDocument {
        unit: &delivery.plan.owner,
        stage: ledger.stage(delivery.plan.stage).name.as_str(),
        left_out: delivery.plan.is_idle(),
        number: delivery.recorded.as_ref().map(|record| record.meta.number),
        again: delivery.plan.again,
        changes: changes(&delivery.plan.changes()),
        chores: delivery.plan.chores(ledger).iter().map(|chore| chore.text.as_str()).collect(),
        untested: &delivery.plan.untested,
        by_hand: &delivery.plan.by_hand,
        plan: at::outlets(&delivery.plan.outlets),
        outlets: delivery.brought.iter().map(one_brought).collect(),
        trouble: delivery.trouble.as_ref().map(error::trouble),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct DroppedDocument<'d> {
    format: u32,
    written: bool,
    dropped: &'d Meta,
}

/// What was left open, and is given up.
pub(crate) fn dropped(dropped: &Dropped) -> DroppedDocument<'_> {
    DroppedDocument { format: FORMAT, written: dropped.written, dropped: &dropped.meta }
}

pub(crate) fn changes(changes: &std::collections::BTreeMap<String, FieldChange<'_>>) -> Vec<ChangeDocument> {
    let json = |value: Option<&Kept>| value.map(|kept| values::kept_json(kept, false)).unwrap_or_default();
    let one = |(name, change): (&String, &FieldChange<'_>)| {
        let (before, after) = match change {
            FieldChange::New(now) => (None, Some(*now)),
            FieldChange::Changed(then, now) => (Some(*then), Some(*now)),
            FieldChange::Gone(then) => (Some(*then), None),
            FieldChange::NotKnown => (None, None),
        };
        let secret =
            matches!(change, FieldChange::NotKnown) || before.into_iter().chain(after).any(Kept::is_secret);
        ChangeDocument {
            field: name.clone(),
            change: change.word(),
            secret,
            before: json(before),
            after: json(after),
        }
    };
    changes.iter().map(one).collect()
}
