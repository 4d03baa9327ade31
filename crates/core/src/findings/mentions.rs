//! What texts refer to, wherever they stand.

use std::sync::OnceLock;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use crate::model::{Entry, EntryRef, Ledger, SharedId, UnitId};
use crate::name::Name;
use crate::reference::Target;

/// The entries that texts refer to. Only asked for where one is in no output, and worked out then.
#[derive(Default)]
pub(super) struct Mentions(OnceLock<Mentioned>);

#[derive(Default)]
struct Mentioned {
    /// By the unit as which they are seen.
    of_units: FxHashSet<(UnitId, Name)>,
    shared: FxHashSet<Name>,
}

impl Mentioned {
    fn read(ledger: &Ledger) -> Self {
        let units: Vec<UnitId> = ledger.unit_ids().collect();
        let of_unit = |mut all: Self, unit: &UnitId| {
            ledger.unit(*unit).each_target(&mut |target| all.add(ledger, Some(*unit), target));
            all
        };
        let mut all = units.par_iter().fold(Self::default, of_unit).reduce(Self::default, |mut all, more| {
            all.of_units.extend(more.of_units);
            all.shared.extend(more.shared);
            all
        });
        for id in (0_u16..).take(ledger.shared.len()).map(SharedId) {
            ledger.each_target_of_shared(id, &mut |target| all.add(ledger, None, target));
        }
        all
    }

    fn add(&mut self, ledger: &Ledger, unit: Option<UnitId>, target: Target) {
        let (unit, field) = match target {
            Target::Own(field) => (unit, field),
            Target::OfUnit(name, _, field) => (ledger.unit_id(name.as_str()), field),
            Target::OfShared(field) => (None, field),
            _ => return,
        };
        match unit {
            Some(unit) => drop(self.of_units.insert((unit, field.entry))),
            None => drop(self.shared.insert(field.entry)),
        }
    }
}

impl Mentions {
    pub(super) fn has(&self, ledger: &Ledger, unit: UnitId, entry: (&Entry, EntryRef)) -> bool {
        let mentioned = self.0.get_or_init(|| Mentioned::read(ledger));
        let (entry, of) = entry;
        // Shared text names shared entries, and means them as the unit sees them.
        let as_shared = matches!(of, EntryRef::Shared(_)) && mentioned.shared.contains(&entry.name);
        as_shared || mentioned.of_units.contains(&(unit, entry.name.clone()))
    }
}
