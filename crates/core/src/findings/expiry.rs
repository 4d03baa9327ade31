//! `expired`: settings past their last day, and credentials and certificates past theirs.

use jiff::civil::Date;

use super::check::{Bounds, UnitStanding};
use super::effective::{new, whose};
use super::names::count_in_layer;
use super::values::called;
use super::{Code, Finding, Severity};
use crate::address::Address;
use crate::impact::Written;
use crate::model::{Kind, Subject, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Outcome, Resolver, Session, Unfetched};
use crate::search::{self, Conditions};
use crate::value::Value;

/// The settings whose `until` is over. They still count.
pub(super) fn of_settings(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    today: Date,
    standings: &mut [UnitStanding],
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let past = Conditions { past: Some(today), ..Conditions::default() };
    for found in search::settings(ledger, &Unfetched, &past) {
        let (Written::In(layer), Some(note)) =
            (found.written, found.setting.and_then(|setting| setting.note.as_deref()))
        else {
            continue;
        };
        let (entry, field) = ledger.field(found.subject, found.slot);
        let (owner, unit) = (ledger.owner(found.subject), unit_of(found.subject));
        let covered = bounds.covers(&owner, entry.name.as_str(), field.name.as_ref().map(Name::as_str));
        if !covered || !bounds.covers_layer(resolver, layer) {
            continue;
        }
        let (address, until) =
            (found.address(ledger), note.until.map(|day| day.to_string()).unwrap_or_default());
        let why = note.why.as_ref().map(|why| format!(" ({why})")).unwrap_or_default();
        findings.push(Finding {
            code: Code::Expired,
            severity: Severity::Warning,
            subject: Address { stage: None, ..address.clone() }.to_string(),
            stage: address.stage.as_ref().map(ToString::to_string),
            unit,
            message: format!("{} was to be set so until {until} only{why}", called(entry, field)),
            place: found.place,
            hides_value: field.secret,
            help: format!("cledger unset {address}, or give it another last day with --until"),
            because_of: None,
            needed_by: Vec::new(),
            address: address.to_string(),
        });
        if let Some(standing) = standings.iter_mut().find(|standing| Some(standing.unit) == unit) {
            count_in_layer(resolver, standing, layer, Severity::Warning);
        }
    }
}

/// The unit's credentials that have run out, by what they say of it or by their certificate.
pub(super) fn of_unit(
    bounds: &Bounds<'_>,
    session: &mut Session<'_, '_>,
    id: UnitId,
    today: Date,
    standing: &mut UnitStanding,
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let unit = ledger.unit(id);
    let last_days: Vec<_> = unit
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
    for stage in
        ledger.stage_ids().filter(|&stage| unit.belongs_to(stage, None) && bounds.covers_stage(stage))
    {
        for instance in std::iter::once(None).chain(unit.instances_in(stage).map(Some)) {
            let subject = Subject::Unit(id, instance);
            for &slot in &last_days {
                let field = FieldId { subject, stage, slot };
                let Outcome::Value(effective) = session.outcome(field) else { continue };
                let Some(Value::Date(last)) = effective.expose().filter(|_| !effective.secret) else {
                    continue;
                };
                if *last >= today {
                    continue;
                }
                standing.stages[usize::from(stage.0)].count(Severity::Error);
                let (entry, declaration) = ledger.field(subject, slot);
                let name = declaration.name.as_ref().map(Name::as_str);
                if !bounds.covers(&ledger.owner(subject), entry.name.as_str(), name) {
                    continue;
                }
                let message = format!("`{}` ran out on {last}", entry.name);
                let about = whose(ledger, session, field, |outcome| outcome.value().is_some());
                let mut finding = new(ledger, field, about, Code::Expired, message);
                finding.place = effective.origin.place;
                "put a new one in its place, and its last day with it".clone_into(&mut finding.help);
                if finding.unit.is_none() {
                    finding.needed_by.push(id);
                }
                findings.push(finding);
            }
        }
    }
}

fn unit_of(subject: Subject) -> Option<UnitId> {
    match subject {
        Subject::Unit(unit, _) => Some(unit),
        Subject::Shared => None,
    }
}
