//! What a stage would have to set, and what it could.

use rayon::prelude::*;

use crate::model::{EntryRef, StageId, Subject, Vary};
use crate::resolve::{Because, FieldId, Outcome, Resolver, Session};

/// A field that a stage sets, or could set.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Blank {
    /// The field. Shared entries are named by themselves, not for the units that use them.
    pub field: FieldId,
    /// Whether it has no value as long as the stage does not set it.
    pub needed: bool,
}

/// The fields of a stage without settings of its own: shared entries that a unit there uses, then
/// the units' own, needed or with a default.
pub fn blanks(resolver: &Resolver<'_>, stage: StageId) -> Vec<Blank> {
    let ledger = resolver.ledger();
    let here: Vec<_> = ledger.unit_ids().filter(|&unit| ledger.unit(unit).belongs_to(stage, None)).collect();
    let mut found = of_subject(&mut resolver.session(None), (Subject::Shared, stage), |entry| {
        let EntryRef::Own(position) = entry else { return true };
        here.iter().any(|&unit| ledger.unit(unit).uses.iter().any(|used| used.0 == position))
    });
    let of_units = resolver.of_units(here, |session, unit| {
        of_subject(session, (Subject::Unit(unit, None), stage), |entry| entry.shared().is_none())
    });
    found.par_extend(of_units.flatten_iter());
    found
}

/// Those of a subject, of the entries that are its own.
fn of_subject(
    session: &mut Session<'_, '_>,
    (subject, stage): (Subject, StageId),
    is_own: impl Fn(EntryRef) -> bool,
) -> Vec<Blank> {
    let (ledger, mut found) = (session.ledger(), Vec::new());
    for slot in ledger.slots(subject).all() {
        let (entry, _) = ledger.slots(subject).entry_of(slot);
        let (_, declaration) = ledger.field(subject, slot);
        if declaration.derived || declaration.vary == Vary::Never || !is_own(entry.entry) {
            continue;
        }
        let field = FieldId { subject, stage, slot };
        let needed = match session.outcome(field) {
            Outcome::Missing(Because::NothingSet | Because::MustBeStated, _) => true,
            _ if declaration.default.is_some() => false,
            _ => continue,
        };
        found.push(Blank { field, needed });
    }
    found
}
