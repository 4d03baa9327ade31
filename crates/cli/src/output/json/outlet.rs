//! `outlet` for programs.

use cledger_core::value::Held;
use serde::Serialize;

use super::at::{self, OutletPlan};
use super::brought::{OneBrought, one_brought};
use super::error::{self, TroubleDocument};
use super::{FORMAT, deliver, drift};
use cledger_work::drift::Against;
use cledger_work::outlet::list::Listed;
use cledger_work::outlet::prepare::{Prepared, Preparing};
use cledger_work::outlet::put::Put;
use cledger_work::outlet::put_captured::{AllPutBack, PutBack};
use cledger_work::reality::lookups::Lookup;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'o> {
    format: u32,
    outlets: Vec<OutletDocument<'o>>,
}

#[derive(Debug, Serialize)]
struct OutletDocument<'o> {
    name: &'o str,
    kind: &'static str,
    stage: &'o str,
    units: usize,
    there: usize,
    /// RFC 3339; null where the daybook has nothing.
    last: Option<&'o str>,
    answers: bool,
    reason: Option<&'o str>,
}

pub(crate) fn document(outlets: &[Listed]) -> Document<'_> {
    let of = outlets.iter().map(|it| OutletDocument {
        name: &it.name,
        kind: it.kind,
        stage: &it.stage,
        units: it.units,
        there: it.there,
        last: it.last.as_deref(),
        answers: it.trouble.is_none(),
        reason: it.trouble.as_deref(),
    });
    Document { format: FORMAT, outlets: of.collect() }
}

#[derive(Debug, Serialize)]
pub(crate) struct PreparedDocument<'o> {
    format: u32,
    written: bool,
    tables: Vec<TableDocument<'o>>,
}

#[derive(Debug, Serialize)]
struct TableDocument<'o> {
    outlet: &'o str,
    #[serde(rename = "for")]
    of: Option<&'o str>,
    table: &'o str,
    state: &'static str,
    reason: Option<&'o str>,
}

pub(crate) fn prepared(prepared: &[Prepared], written: bool) -> PreparedDocument<'_> {
    let tables = prepared.iter().map(|it| {
        let (state, reason) = match &it.what {
            Preparing::Wanted => ("wanted", None),
            Preparing::TheirOwn => ("their-own", None),
            Preparing::Made => ("made", None),
            Preparing::WasThere => ("was-there", None),
            Preparing::Failed(reason) => ("failed", Some(reason.as_str())),
        };
        let of = Some(it.of.as_str()).filter(|of| !of.is_empty());
        TableDocument { outlet: &it.outlet, of, table: &it.table, state, reason }
    });
    PreparedDocument { format: FORMAT, written, tables: tables.collect() }
}

#[derive(Debug, Serialize)]
pub(crate) struct PutDocument<'o> {
    #[serde(flatten)]
    delivered: deliver::Document<'o>,
    /// How programs stand that are only looked at.
    processes: drift::Document<'o>,
}

/// What `outlet put` came to.
pub(crate) fn put(put: &Put) -> PutDocument<'_> {
    PutDocument {
        delivered: deliver::document(&put.delivered),
        processes: drift::document(&put.processes, Against::Outlets, false),
    }
}

#[derive(Debug, Serialize)]
pub(crate) struct LookedUpDocument<'o> {
    format: u32,
    written: bool,
    values: Vec<LookedUp<'o>>,
}

#[derive(Debug, Serialize)]
struct LookedUp<'o> {
    address: String,
    #[serde(rename = "looked_up")]
    place: &'o str,
    secret: bool,
    ledger: Option<String>,
    there: Option<String>,
    /// Null where nobody can tell.
    same: Option<bool>,
    reason: Option<&'o str>,
}

pub(crate) fn looked_up<'o>(lookups: &'o [Lookup<'_>], written: bool) -> LookedUpDocument<'o> {
    let values = lookups.iter().map(|lookup| {
        let said = lookup.said.as_ref().ok().and_then(Option::as_ref);
        let found = lookup.found.as_ref().ok();
        let open = |held: Option<&Held>| Some(held?.open()?.to_text().to_string());
        LookedUp {
            address: lookup.field.address.to_string(),
            place: lookup.look_up.as_written(),
            secret: said.into_iter().chain(found).any(Held::is_secret),
            ledger: open(said),
            there: open(found),
            same: lookup.is_same().ok(),
            reason: lookup.is_same().err(),
        }
    });
    LookedUpDocument { format: FORMAT, written, values: values.collect() }
}

#[derive(Debug, Serialize)]
pub(crate) struct PutBackDocument<'p> {
    format: u32,
    written: bool,
    /// When the capture was taken (RFC 3339).
    taken: &'p str,
    units: Vec<OnePutBack<'p>>,
}

#[derive(Debug, Serialize)]
struct OnePutBack<'p> {
    unit: &'p str,
    stage: &'p str,
    number: Option<u64>,
    plan: Vec<OutletPlan<'p>>,
    /// Outlets that are left as they are, each with the reason.
    passed_over: &'p [(String, String)],
    outlets: Vec<OneBrought<'p>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<TroubleDocument<'p>>,
}

/// What bringing a capture back comes to.
pub(crate) fn put_back(back: &AllPutBack) -> PutBackDocument<'_> {
    PutBackDocument {
        format: FORMAT,
        written: back.write,
        taken: &back.taken.0,
        units: back.units.iter().map(one_put_back).collect(),
    }
}

fn one_put_back(unit: &PutBack) -> OnePutBack<'_> {
    OnePutBack {
        unit: &unit.owner,
        stage: &unit.stage,
        number: unit.number,
        plan: at::outlets(&unit.outlets),
        passed_over: &unit.passed_over,
        outlets: unit.brought.iter().map(one_brought).collect(),
        trouble: unit.trouble.as_ref().map(error::trouble),
    }
}
