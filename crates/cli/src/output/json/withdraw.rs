//! `withdraw` for programs.

use cledger_work::deliver::withdraw::{AllWithdrawn, Withdrawn};
use serde::Serialize;

use super::FORMAT;
use super::at::{self, OutletPlan};
use super::brought::{OneBrought, one_brought};
use super::bundle::{BundleDocument, bundle};
use super::error::{self, TroubleDocument};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'w> {
    format: u32,
    written: bool,
    /// The bundle that is withdrawn, if it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    bundle: Option<BundleDocument<'w>>,
    withdrawals: Vec<WithdrawalDocument<'w>>,
}

#[derive(Debug, Serialize)]
pub(crate) struct WithdrawalDocument<'w> {
    unit: &'w str,
    stage: &'w str,
    /// Whether the unit belongs to the stage.
    belongs: bool,
    /// How it is called now, if it was only renamed.
    #[serde(skip_serializing_if = "Option::is_none")]
    called_now: Option<&'w str>,
    /// The delivery that is taken off, or the withdrawal that is done again.
    withdraws: u64,
    /// Whether it is a withdrawal that is done again.
    again: bool,
    /// The number, where it was recorded.
    number: Option<u64>,
    /// What the outlets have and are to have.
    plan: Vec<OutletPlan<'w>>,
    /// What they answered.
    outlets: Vec<OneBrought<'w>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<TroubleDocument<'w>>,
}

pub(crate) fn document(withdrawn: &AllWithdrawn) -> Document<'_> {
    Document {
        format: FORMAT,
        written: withdrawn.units.iter().any(|withdrawn| withdrawn.write),
        bundle: withdrawn.together.as_ref().map(bundle),
        withdrawals: withdrawn.units.iter().map(one).collect(),
    }
}

pub(crate) fn one(withdrawn: &Withdrawn) -> WithdrawalDocument<'_> {
    WithdrawalDocument {
        unit: &withdrawn.owner,
        stage: &withdrawn.stage,
        belongs: withdrawn.subject.is_some(),
        called_now: withdrawn.now.as_deref(),
        withdraws: withdrawn.number,
        again: withdrawn.again,
        number: withdrawn.recorded,
        plan: at::outlets(&withdrawn.outlets),
        outlets: withdrawn.brought.iter().map(one_brought).collect(),
        trouble: withdrawn.trouble.as_ref().map(error::trouble),
    }
}
