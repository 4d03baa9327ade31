//! `default-in-use`: hosts and URLs of production units that nobody has set; and of tested ones, where the default
//! names this very machine, or what belongs to development.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use super::hosts::is_for_development;
use crate::model::{Class, Declaration, Ledger, Slot, SlotEntry, Subject, UnitId, Vary, Verdict};
use crate::resolve::{FieldId, Winner};
use crate::types::Type;
use crate::value::Value;

/// The hosts and URLs that a unit sees by default, and that may be otherwise.
fn defaults_of<'l>(ledger: &'l Ledger, unit: UnitId) -> Vec<(Slot, Type, &'l Value)> {
    let subject = Subject::Unit(unit, None);
    let of_entry =
        |known: &SlotEntry| (known.first..).map(Slot).zip(&ledger.entry(subject, known.entry).fields);
    let fields = ledger.slots(subject).entries.iter().flat_map(of_entry);
    let hosts =
        fields.filter(|(_, it)| it.vary == Vary::May && matches!(it.this_type, Type::Host | Type::Url));
    let of_field = |(slot, field): (Slot, &'l Declaration)| {
        // What the kind of entry gives is nobody's choice, and what refers to another value follows it.
        let default = field.default.as_ref()?;
        let is_chosen = default.place.is_some() && default.verdict == Verdict::Fits;
        is_chosen.then(|| (slot, field.this_type, default.value.expose()))
    };
    hosts.filter_map(of_field).collect()
}

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let defaults = defaults_of(ledger, id);
    if defaults.is_empty() {
        return;
    }
    for (subject, stage) in bounds.places_of(id) {
        let class = ledger.stage(stage).class;
        if class == Class::Development {
            continue;
        }
        let winners = checking.session.winners(subject, stage);
        let in_use: Vec<Slot> = (defaults.iter())
            .filter(|(slot, this, value)| {
                matches!(winners[slot.0 as usize], Winner::Default(..))
                    && (class == Class::Production
                        || is_for_development(&bounds.development, ledger, value, *this))
            })
            .map(|(slot, ..)| *slot)
            .collect();
        for slot in in_use {
            let field = FieldId { subject, stage, slot };
            let (entry, declaration) = ledger.field(subject, slot);
            let about = whose(ledger, checking.session, field, |outcome| outcome.value().is_some());
            let called = called(entry, declaration);
            let here = &ledger.stage(stage).name;
            let message = match class {
                Class::Production => {
                    format!("{called} is still at its default in `{here}`, a production stage")
                }
                _ => format!("{called} is still at its default in `{here}`, which is for development"),
            };
            let mut finding = Finding::of_field(ledger, field, about, Code::DefaultInUse, message);
            finding.severity = Severity::Warning;
            finding.place = declaration.default.as_ref().and_then(|default| default.place);
            finding.help = format!("cledger set {}=…, even if to the same value", ledger.address(about));
            checking.tell(field, finding);
        }
    }
}
