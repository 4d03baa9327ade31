//! `default-in-use`: hosts and URLs of production units that nobody has set.

use super::check::{Bounds, UnitStanding};
use super::effective::{new, whose};
use super::values::called;
use super::{Code, Finding, Severity};
use crate::model::{Class, Slot, UnitId, Vary, Verdict};
use crate::name::Name;
use crate::resolve::{FieldId, Session, Winner};
use crate::types::Type;

pub(super) fn of_unit(
    bounds: &Bounds<'_>,
    session: &mut Session<'_, '_>,
    id: UnitId,
    standing: &mut UnitStanding,
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    for (subject, stage) in bounds.places_of(id) {
        if ledger.stage(stage).class != Class::Production {
            continue;
        }
        let winners = session.winners(subject, stage);
        let in_use: Vec<Slot> = ledger
            .slots(subject)
            .all()
            .zip(winners)
            .filter(|(slot, winner)| {
                // What the kind of entry gives is nobody's choice, and what refers to another value follows it.
                let Winner::Default(default, _) = winner else { return false };
                let written = default.place.is_some() && default.verdict == Verdict::Fits;
                let (_, field) = ledger.field(subject, *slot);
                written && field.vary == Vary::May && matches!(field.this_type, Type::Host | Type::Url)
            })
            .map(|(slot, _)| slot)
            .collect();
        for slot in in_use {
            let field = FieldId { subject, stage, slot };
            let (entry, declaration) = ledger.field(subject, slot);
            let name = declaration.name.as_ref().map(Name::as_str);
            let about = whose(ledger, session, field, |outcome| outcome.value().is_some());
            let called = called(entry, declaration);
            let here = &ledger.stage(stage).name;
            let message = format!("{called} is still at its default in `{here}`, a production stage");
            let mut finding = new(ledger, field, about, Code::DefaultInUse, message);
            finding.severity = Severity::Warning;
            finding.place = declaration.default.as_ref().and_then(|default| default.place);
            finding.help = format!("cledger set {}=…, even if to the same value", ledger.address(about));
            finding.needed_by.extend(finding.unit.is_none().then_some(id));
            standing.stages[usize::from(stage.0)].count(bounds.counts(&finding));
            if bounds.covers(&ledger.owner(subject), entry.name.as_str(), name) {
                findings.push(finding);
            }
        }
    }
}
