//! `deliver` for programs.

use cledger_core::delivery::FieldChange;
use cledger_core::kept::Kept;
use cledger_core::model::Ledger;
use serde::Serialize;

use super::FORMAT;
use super::check::{self, FindingDocument};
use super::error::{self, TroubleDocument};
use super::outlet::{OneBrought, one_brought};
use crate::output::values;
use cledger_work::deliver::{Delivered, Delivery};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'d> {
    format: u32,
    written: bool,
    deliveries: Vec<DeliveryDocument<'d>>,
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
    outlets: Vec<OneBrought<'d>>,
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
        deliveries: delivered.deliveries.iter().map(|delivery| one(ledger, delivery)).collect(),
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
        outlets: delivery.brought.iter().map(one_brought).collect(),
    }
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
