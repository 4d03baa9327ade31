//! The units that a change can concern.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Address;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::reference::Target;
use cledger_store::Changed;

/// The units whose own files change, and all that refer to them, directly or through others; nothing where a file is of
/// more than one unit.
pub(super) fn units(ledger: &Ledger, changed: &Changed) -> Option<BTreeSet<Name>> {
    let found: BTreeSet<Name> = changed.keys().map(|path| unit_of(path)).collect::<Option<_>>()?;
    Some(referring_to(ledger, found))
}

/// These units, and all that refer to them, directly or through others.
pub(crate) fn referring_to(ledger: &Ledger, mut found: BTreeSet<Name>) -> BTreeSet<Name> {
    let mut referring: BTreeMap<Name, Vec<Name>> = BTreeMap::new();
    for unit in &ledger.units {
        unit.each_target(&mut |target| {
            if let Target::OfUnit(other, ..) = target
                && other != unit.name
            {
                referring.entry(other).or_default().push(unit.name.clone());
            }
        });
    }
    let mut open: Vec<Name> = found.iter().cloned().collect();
    while let Some(name) = open.pop() {
        for other in referring.get(&name).into_iter().flatten() {
            if found.insert(other.clone()) {
                open.push(other.clone());
            }
        }
    }
    found
}

/// The one unit that a file is of.
fn unit_of(path: &str) -> Option<Name> {
    let parts: Vec<&str> = path.strip_suffix(".toml")?.split('/').collect();
    match parts[..] {
        ["units", unit] => Name::parse(unit).ok(),
        ["stages" | "groups", _, owner] => match Address::parse(owner).ok()?.owner? {
            cledger_core::address::Owner::Unit(unit, _) => Some(unit),
            cledger_core::address::Owner::Shared => None,
        },
        _ => None,
    }
}
