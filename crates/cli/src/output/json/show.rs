//! `show` and `get` for programs.

use std::collections::BTreeMap;

use cledger_core::model::{Kind, Ledger, Subject};
use cledger_core::resolve::{Effective, FieldId, Outcome, Resolver, Session};
use cledger_work::Opened;
use cledger_work::deliver::history::Recorded;
use cledger_work::meant::unit_of;
use cledger_work::show::{Shown, fingerprint};
use serde::Serialize;

use super::FORMAT;
use super::history::{self, RecordDocument};
use crate::output::origin::{self, OriginDocument};
use crate::output::values;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'l> {
    format: u32,
    unit: Option<&'l str>,
    instance: Option<&'l str>,
    stage: &'l str,
    class: &'static str,
    values: Vec<ValueDocument<'l>>,
    missing: Vec<AddressDocument>,
    problems: Vec<ProblemDocument>,
}

#[derive(Debug, Serialize)]
pub(crate) struct ValueDocument<'l> {
    address: String,
    #[serde(rename = "type")]
    this_type: &'static str,
    value: serde_json::Value,
    secret: bool,
    /// Why it was not read: `outside` or `no-key`.
    #[serde(skip_serializing_if = "Option::is_none")]
    unread: Option<&'static str>,
    /// Of a secret, where it can be read: what is the same for all who see the same one.
    #[serde(skip_serializing_if = "Option::is_none")]
    fingerprint: Option<String>,
    origin: OriginDocument<'l>,
    /// Of a lookup table: where each row comes from.
    #[serde(skip_serializing_if = "Option::is_none")]
    rows: Option<BTreeMap<String, OriginDocument<'l>>>,
}

#[derive(Debug, Serialize)]
struct AddressDocument {
    address: String,
}

#[derive(Debug, Serialize)]
struct ProblemDocument {
    address: String,
    code: &'static str,
}

/// What `get` prints: one value.
#[derive(Debug, Serialize)]
pub(crate) struct OneDocument<'l> {
    format: u32,
    #[serde(flatten)]
    value: ValueDocument<'l>,
}

pub(crate) fn one<'l>(
    ledger: &'l Ledger,
    field: FieldId,
    effective: &Effective<'l>,
    unmask: bool,
) -> OneDocument<'l> {
    OneDocument { format: FORMAT, value: value(ledger, field, effective, unmask) }
}

pub(crate) fn value<'l>(
    ledger: &'l Ledger,
    field: FieldId,
    effective: &Effective<'l>,
    unmask: bool,
) -> ValueDocument<'l> {
    ValueDocument {
        address: ledger.address(field).to_string(),
        this_type: ledger.field(field.subject, field.slot).1.this_type.name(),
        value: values::json(effective, unmask),
        secret: effective.is_secret(),
        unread: values::unread_word(effective),
        fingerprint: None,
        origin: origin::document(ledger, effective.origin),
        rows: None,
    }
}

/// Where the rows of a lookup table come from; nothing for other fields.
fn rows<'l>(session: &Session<'_, 'l>, field: FieldId) -> Option<BTreeMap<String, OriginDocument<'l>>> {
    let ledger = session.ledger();
    let (entry, _) = ledger.field(field.subject, field.slot);
    matches!(entry.kind, Kind::Table { .. }).then(|| {
        let rows = session.rows(field).rows;
        rows.into_iter().map(|(key, row)| (key.to_string(), origin::document(ledger, row.origin))).collect()
    })
}

pub(crate) fn document<'l>(
    opened: &Opened,
    resolver: &Resolver<'l>,
    shown: &Shown,
    unmask: bool,
) -> Document<'l> {
    let ledger = resolver.ledger();
    let (subject, stage) = (shown.subject, shown.chosen.stage);
    let mut session = resolver.session(unit_of(subject));
    let (unit, instance) = match subject {
        Subject::Shared => (None, None),
        Subject::Unit(id, instance) => {
            let unit = ledger.unit(id);
            let instance = instance.map(|id| unit.instances[usize::from(id.0)].name.as_str());
            (Some(unit.name.as_str()), instance)
        }
    };
    let known = ledger.stage(stage);
    let mut document = Document {
        format: FORMAT,
        unit,
        instance,
        stage: known.name.as_str(),
        class: known.class.name(),
        values: Vec::new(),
        missing: Vec::new(),
        problems: Vec::new(),
    };
    for &field in &shown.fields {
        let address = || ledger.address(field).to_string();
        match session.outcome(field) {
            Outcome::Value(effective) => {
                let value = value(ledger, field, &effective, unmask);
                let (rows, fingerprint) = (rows(&session, field), fingerprint(opened, stage, &effective));
                document.values.push(ValueDocument { fingerprint, rows, ..value });
            }
            Outcome::Missing(..) => document.missing.push(AddressDocument { address: address() }),
            Outcome::Broken(problems) => {
                document.problems.extend(
                    problems
                        .iter()
                        .map(|problem| ProblemDocument { address: address(), code: problem.code.name() }),
                );
            }
            Outcome::Unset | Outcome::Absent(_) => {}
        }
    }
    document.values.sort_by(|a, b| a.address.cmp(&b.address));
    document.missing.sort_by(|a, b| a.address.cmp(&b.address));
    document.problems.sort_by(|a, b| (&a.address, a.code).cmp(&(&b.address, b.code)));
    document
}

#[derive(Debug, Serialize)]
pub(crate) struct DeliveryDocument<'r> {
    format: u32,
    record: RecordDocument<'r>,
    values: Vec<DeliveredDocument<'r>>,
}

#[derive(Debug, Serialize)]
struct DeliveredDocument<'r> {
    field: &'r str,
    secret: bool,
    value: serde_json::Value,
}

/// A delivery with its values.
pub(crate) fn delivery(recorded: &Recorded, unmask: bool) -> DeliveryDocument<'_> {
    let Recorded { record, content } = recorded;
    let values = content.values.iter().map(|(field, kept)| DeliveredDocument {
        field,
        secret: kept.is_secret(),
        value: values::kept_json(kept, unmask),
    });
    DeliveryDocument { format: FORMAT, record: history::record(record), values: values.collect() }
}
