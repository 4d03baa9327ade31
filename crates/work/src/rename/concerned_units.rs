//! The units that another name can concern.

use std::collections::BTreeSet;

use cledger_core::address::Owner;
use cledger_core::effects::shared_says_the_same;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_store::{Changed, Named, Renaming, WAIVERS};

use super::moved;
use crate::change::concerned;

/// The units that may be concerned when something of a unit gets another name, or something shared, as they are called
/// before and after; nothing where all may be.
pub(super) fn concerned_units(
    (before, after): (&Ledger, &Ledger),
    changed: &Changed,
    renaming: &Renaming,
) -> Option<[BTreeSet<Name>; 2]> {
    match &renaming.what {
        Named::Unit(unit)
        | Named::Instance(unit, _)
        | Named::Entry(Owner::Unit(unit, _), _)
        | Named::Field(Owner::Unit(unit, _), ..) => {
            let old = concerned::referring_to(before, BTreeSet::from([unit.clone()]));
            let mut new = old.clone();
            if matches!(renaming.what, Named::Unit(_)) {
                new.remove(unit);
                new.insert(renaming.to.clone());
            }
            Some([old, new])
        }
        Named::Entry(Owner::Shared, entry) | Named::Field(Owner::Shared, entry, _) => {
            let units = of_shared((before, after), changed, renaming, entry)?;
            Some([units.clone(), units])
        }
        Named::Stage(_) | Named::Group(_) | Named::Outlet(_) | Named::Rule(_) => None,
    }
}

/// Where shared text says the same, the units that use the entry, as they must to name it, or change themselves, and all
/// that refer to them.
fn of_shared(
    (before, after): (&Ledger, &Ledger),
    changed: &Changed,
    renaming: &Renaming,
    entry: &Name,
) -> Option<BTreeSet<Name>> {
    if !shared_says_the_same(before, after, &|address| moved(renaming, before, address)) {
        return None;
    }
    let of_units = changed.keys().filter(|path| *path != WAIVERS && !concerned::is_of_shared(path));
    let mut units: BTreeSet<Name> = of_units.map(|path| concerned::unit_of(path)).collect::<Option<_>>()?;
    let used = before.shared_id(entry.as_str())?;
    let using = before.units.iter().filter(|unit| unit.uses.contains(&used));
    units.extend(using.map(|unit| unit.name.clone()));
    Some(concerned::referring_to(before, units))
}
