//! `default-in-use`: hosts and URLs of production units that nobody has set; and of tested ones, where the default
//! names this very machine, or what belongs to development.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use super::hosts::is_for_development;
use crate::model::{Class, Slot, Vary, Verdict};
use crate::resolve::{FieldId, Winner};
use crate::types::Type;

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    for (subject, stage) in bounds.places_of(id) {
        let class = ledger.stage(stage).class;
        if class == Class::Development {
            continue;
        }
        let winners = checking.session.winners(subject, stage);
        let in_use: Vec<Slot> = ledger
            .slots(subject)
            .all()
            .zip(winners)
            .filter(|(slot, winner)| {
                // What the kind of entry gives is nobody's choice, and what refers to another value follows it.
                let Winner::Default(default, _) = winner else { return false };
                if default.place.is_none() || default.verdict != Verdict::Fits {
                    return false;
                }
                let (_, field) = ledger.field(subject, *slot);
                let this = field.this_type;
                field.vary == Vary::May
                    && matches!(this, Type::Host | Type::Url)
                    && (class == Class::Production
                        || is_for_development(&bounds.development, ledger, default.value.expose(), this))
            })
            .map(|(slot, _)| slot)
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
