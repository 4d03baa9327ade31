//! Some fields alone, while the rest stays as it was delivered last.

use cledger_core::model::{FieldPatterns, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Assumption, FieldId, Outcome};
use cledger_core::value::Held;
use cledger_store::daybook::Daybook;

use crate::deliver::recorded::Planner;
use crate::meant::unit_of;
use crate::trouble::Trouble;

/// The values that stay, for each field that the patterns do not cover. What was a secret when it was delivered
/// stays one.
pub(crate) fn staying(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    subjects: &[Subject],
    stage: StageId,
    only: &[String],
) -> Result<Vec<Assumption>, Trouble> {
    let patterns = patterns(only)?;
    let mut staying = Vec::new();
    for &subject in subjects {
        staying.extend(of_unit(planner, book, subject, stage, &patterns)?);
    }
    Ok(staying)
}

pub(crate) fn patterns(only: &[String]) -> Result<FieldPatterns, Trouble> {
    let mut patterns = FieldPatterns::default();
    for text in only {
        patterns.add(text).map_err(|_| {
            Trouble::usage(format!("`{text}` is no pattern of fields")).help("write ENTRY or ENTRY.FIELD")
        })?;
    }
    Ok(patterns)
}

fn of_unit(
    planner: &Planner<'_, '_>,
    book: &mut dyn Daybook,
    subject: Subject,
    stage: StageId,
    patterns: &FieldPatterns,
) -> Result<Vec<Assumption>, Trouble> {
    let ledger = planner.resolver.ledger();
    let owner = ledger.owner(subject).to_string();
    let last = planner.last(book, &owner, stage)?;
    let Some((_, content)) = last.filter(|(record, _)| record.meta.kind.is_brought()) else {
        let message = format!("`{owner}` has no delivery there of which the rest could stay");
        return Err(Trouble::usage(message).help("leave --only out: the first delivery is a whole one"));
    };
    let mut session = planner.resolver.session(unit_of(subject));
    let mut staying = Vec::new();
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        let is_meant = patterns.covers(entry.name.as_str(), field.name.as_ref().map(Name::as_str));
        if field.derived || is_meant {
            continue;
        }
        let name = ledger.field_name(subject, slot);
        let Some(kept) = content.values.get(&name) else {
            let outcome = session.outcome(FieldId { subject, stage, slot });
            if matches!(outcome, Outcome::Value(_)) {
                let message =
                    format!("`{name}` of `{owner}` is new since the last delivery, and cannot stay out");
                return Err(Trouble::usage(message).help(format!("add it: --only {name}")));
            }
            continue;
        };
        let held = kept.value().ok_or_else(|| {
            let message =
                format!("`{name}` of `{owner}` stays as it was delivered, and is not readable here");
            Trouble::refused(message).help("let a reader of the stage's key do it")
        })?;
        let held = Held::new(held.expose().escaped(), held.is_secret());
        staying.push(Assumption::exactly(ledger, subject, stage, slot, held));
    }
    Ok(staying)
}
