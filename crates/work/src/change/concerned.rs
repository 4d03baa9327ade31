//! The units that a change can concern.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Address;
use cledger_core::model::{LayerId, Ledger, Unit};
use cledger_core::name::Name;
use cledger_store::Changed;
use rayon::prelude::*;

/// What a change can concern.
#[derive(Debug, Clone)]
pub(crate) enum Concerns {
    /// Everything.
    All,
    /// These units, in what they have and what is found of them.
    Units(BTreeSet<Name>),
    /// What these rules of the ledger find, and no value.
    Rules(BTreeSet<Name>),
    /// Which patterns of `ledger.toml` cover nothing, and no value.
    Patterns,
}

impl Concerns {
    /// What two changes concern together.
    pub(crate) fn and(self, other: Self) -> Self {
        match (self, other) {
            (Self::Units(one), Self::Units(other)) => Self::Units(&one | &other),
            (Self::Rules(one), Self::Rules(other)) => Self::Rules(&one | &other),
            (Self::Patterns, Self::Patterns) => Self::Patterns,
            _ => Self::All,
        }
    }
}

/// The units whose own files change, and all that refer to them, directly or through others; nothing where a file is of
/// more than one unit.
pub(crate) fn units(ledger: &Ledger, changed: &Changed) -> Option<BTreeSet<Name>> {
    let found: BTreeSet<Name> = changed.keys().map(|path| unit_of(path)).collect::<Option<_>>()?;
    Some(referring_to(ledger, found))
}

/// The stages in which values can change where nothing but settings of stages and groups does; nothing where more does.
pub(crate) fn stages(ledger: &Ledger, changed: &Changed) -> Option<BTreeSet<Name>> {
    let mut layers = BTreeSet::new();
    for path in changed.keys() {
        let parts: Vec<&str> = path.strip_suffix(".toml")?.split('/').collect();
        match parts[..] {
            ["stages", name] | ["stages", name, _] => {
                layers.extend(ledger.stage_id(name).map(LayerId::Stage));
            }
            ["groups", name] | ["groups", name, _] => {
                layers.insert(LayerId::Group(ledger.group_id(name)?));
            }
            _ => return None,
        }
    }
    let stages = ledger.stages_hanging_on(layers)?;
    Some(stages.into_iter().map(|id| ledger.stage(id).name.clone()).collect())
}

/// These units, and all that refer to them, directly or through others.
pub(crate) fn referring_to(ledger: &Ledger, mut found: BTreeSet<Name>) -> BTreeSet<Name> {
    let others: Vec<BTreeSet<&str>> = ledger.units.par_iter().map(|unit| others_named(unit)).collect();
    let mut referring: BTreeMap<&str, Vec<&Name>> = BTreeMap::new();
    for (unit, others) in ledger.units.iter().zip(&others) {
        for other in others {
            referring.entry(other).or_default().push(&unit.name);
        }
    }
    let mut open: Vec<Name> = found.iter().cloned().collect();
    while let Some(name) = open.pop() {
        for &other in referring.get(name.as_str()).into_iter().flatten() {
            if found.insert(other.clone()) {
                open.push(other.clone());
            }
        }
    }
    found
}

/// The units that the texts of one name, beside itself.
fn others_named(unit: &Unit) -> BTreeSet<&str> {
    let mut others = BTreeSet::new();
    unit.each_reference(&mut |inside| {
        if let Some((owner, _)) = inside.split_once('/') {
            others.insert(owner.split('+').next().unwrap_or(owner));
        }
    });
    others.remove(unit.name.as_str());
    others
}

/// The one unit that a file is of.
pub(crate) fn unit_of(path: &str) -> Option<Name> {
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

/// Whether a file is one of shared entries or settings.
pub(crate) fn is_of_shared(path: &str) -> bool {
    let parts: Vec<&str> = path.strip_suffix(".toml").unwrap_or_default().split('/').collect();
    matches!(parts[..], ["shared"] | ["shared", _] | ["stages" | "groups", _, "shared"])
}
