//! `expired` and `expiring`: settings past or near their last day, and credentials and certificates past
//! or near theirs.

use jiff::Span;
use jiff::civil::Date;
use rayon::prelude::*;

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use super::standing::{UnitStanding, standing_of};
use crate::address::Address;
use crate::model::{Kind, LayerId, Ledger, Setting, Slot, Subject, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Outcome, Resolver};
use crate::types::parse_date;
use crate::value::Value;

/// The settings whose `until` is over or near. They still count.
pub(super) fn of_settings(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    standings: &mut [UnitStanding],
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let Some(today) = bounds.today else { return };
    let soon = soon(bounds, today);
    for found in with_last_day(ledger) {
        let (layer, until) = (found.layer, found.until);
        if until > soon {
            continue;
        }
        let (entry, field) = ledger.field(found.subject, found.slot);
        let (owner, unit) = (ledger.owner(found.subject), unit_of(found.subject));
        let covered = bounds.covers(&owner, entry.name.as_str(), field.name.as_ref().map(Name::as_str));
        if !covered || !bounds.covers_layer(layer) {
            continue;
        }
        let layer_name = ledger.layer_name(layer);
        let address = Address::of_field(owner, &entry.name, field.name.as_ref(), Some(layer_name));
        let called = called(entry, field);
        let why = found.setting.note.as_ref().and_then(|note| note.why.as_ref());
        let why = why.map(|why| format!(" ({why})")).unwrap_or_default();
        let (code, message) = if until < today {
            (Code::Expired, format!("{called} was to be set so until {until} only{why}"))
        } else {
            (Code::Expiring, format!("{called} is to be set so until {until} only{why}"))
        };
        let finding = Finding {
            code,
            severity: Severity::Warning,
            subject: Address { stage: None, ..address.clone() }.to_string(),
            stage: address.stage.as_ref().map(ToString::to_string),
            unit,
            message,
            place: Some(found.setting.place),
            hides_value: field.secret,
            help: format!("cledger unset {address}, or give it another last day with --until"),
            because_of: None,
            needed_by: Vec::new(),
            rule: None,
            address: address.to_string(),
        };
        if let Some(standing) = unit.and_then(|unit| standing_of(standings, unit)) {
            standing.count_in_layer(resolver, layer, bounds.counts(&finding));
        }
        findings.push(finding);
    }
}

/// A setting that is meant to count until a day.
struct Dated<'l> {
    layer: LayerId,
    subject: Subject,
    slot: Slot,
    setting: &'l Setting,
    until: Date,
}

/// All settings with a last day. This goes over every setting of the ledger.
fn with_last_day(ledger: &Ledger) -> Vec<Dated<'_>> {
    let dated = |layer, subject, first: u32, setting| {
        let setting: &Setting = setting;
        let note = setting.note.as_deref()?;
        Some(Dated { layer, subject, slot: Slot(first + setting.slot.0), setting, until: note.until? })
    };
    let mut found = Vec::new();
    for layer in ledger.layer_ids() {
        for (known, settings) in ledger.shared_slots.entries.iter().zip(&ledger.layer(layer).shared) {
            found.extend(settings.iter().filter_map(|it| dated(layer, Subject::Shared, known.first, it)));
        }
    }
    let of_unit = |id: UnitId| {
        let mut found = Vec::new();
        for layer in ledger.layer_ids() {
            let settings = ledger.unit_layer(ledger.unit(id), layer);
            found.extend(settings.unit.iter().filter_map(|it| dated(layer, Subject::Unit(id, None), 0, it)));
            for (instance, _, list) in &settings.instances {
                let subject = Subject::Unit(id, Some(*instance));
                found.extend(list.iter().filter_map(|it| dated(layer, subject, 0, it)));
            }
        }
        found
    };
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    found.extend(units.into_par_iter().flat_map_iter(of_unit).collect::<Vec<_>>());
    found
}

/// The last of the days that are soon.
fn soon(bounds: &Bounds<'_>, today: Date) -> Date {
    today.saturating_add(Span::new().days(bounds.ledger.judging.expiring_days))
}

/// The unit's credentials that have run out or will soon, by what they say of it or by their certificate.
pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let Some(today) = bounds.today else { return };
    let last_days: Vec<_> = ledger
        .unit(id)
        .slots
        .all()
        .filter(|&slot| {
            let (entry, field) = ledger.field(Subject::Unit(id, None), slot);
            matches!(entry.kind, Kind::Credential(_))
                && field.name.as_ref().is_some_and(|name| name.as_str() == "expires")
        })
        .collect();
    if last_days.is_empty() {
        return;
    }
    let soon = soon(bounds, today);
    for (subject, stage) in bounds.places_of(id) {
        for &slot in &last_days {
            let field = FieldId { subject, stage, slot };
            let Outcome::Value(effective) = checking.session.outcome(field) else { continue };
            let last = match effective.expose() {
                Some(Value::Date(last)) if !effective.is_secret() => *last,
                Some(Value::Text(text)) if !effective.is_secret() => match parse_date(text) {
                    Some(last) => last,
                    None => continue,
                },
                _ => continue,
            };
            let entry = ledger.field(subject, slot).0;
            let (code, severity, message) = if last < today {
                (Code::Expired, Severity::Error, format!("`{}` ran out on {last}", entry.name))
            } else if last <= soon {
                (Code::Expiring, Severity::Warning, format!("`{}` runs out on {last}", entry.name))
            } else {
                continue;
            };
            let about = whose(ledger, checking.session, field, |outcome| outcome.value().is_some());
            let mut finding = Finding::of_field(ledger, field, about, code, message);
            finding.severity = severity;
            finding.place = effective.origin.place;
            "put a new one in its place, and its last day with it".clone_into(&mut finding.help);
            checking.tell(field, finding);
        }
    }
}

fn unit_of(subject: Subject) -> Option<UnitId> {
    match subject {
        Subject::Unit(unit, _) => Some(unit),
        Subject::Shared => None,
    }
}
