//! `in-no-output`: what a unit declares or uses, and none of its files holds.

use std::sync::OnceLock;

use rayon::prelude::*;
use rustc_hash::FxHashSet;

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::address::{Address, Owner};
use crate::model::{
    Declaration, Entry, EntryRef, Ledger, Output, SharedId, SlotEntry, Subject, Unit, UnitId,
};
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
    fn has(&self, ledger: &Ledger, unit: UnitId, entry: (&Entry, EntryRef)) -> bool {
        let mentioned = self.0.get_or_init(|| Mentioned::read(ledger));
        let (entry, of) = entry;
        // Shared text names shared entries, and means them as the unit sees them.
        let as_shared = matches!(of, EntryRef::Shared(_)) && mentioned.shared.contains(&entry.name);
        as_shared || mentioned.of_units.contains(&(unit, entry.name.clone()))
    }
}

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, id) = (checking.ledger(), checking.unit);
    let unit = ledger.unit(id);
    let owner = Owner::Unit(unit.name.clone(), None);
    let is_open = |output: &Output| {
        output.only.is_empty() && output.except.is_empty() && output.table.is_none() && takes_all(output)
    };
    if unit.outputs.is_empty() || unit.outputs.iter().any(is_open) {
        return;
    }
    let contents = contents(ledger, id);
    let subject = Subject::Unit(id, None);
    for &SlotEntry { entry: of, .. } in &unit.slots.entries {
        let entry = ledger.entry(subject, of);
        let reaches = |field: &Declaration| {
            let mut all = unit.outputs.iter().chain(contents.iter().copied());
            all.any(|output| output.secrets.takes(field.secret) && output.holds(unit, entry, field))
        };
        if entry.fields.is_empty()
            || entry.fields.iter().any(reaches)
            || !checking.bounds.covers(&owner, entry.name.as_str(), None)
            || checking.bounds.mentions.has(ledger, id, (entry, of))
        {
            continue;
        }
        checking.findings.push(finding(unit, id, entry, of));
    }
}

fn takes_all(output: &Output) -> bool {
    output.secrets.takes(true) && output.secrets.takes(false)
}

/// What outlets without files hold of a unit.
fn contents(ledger: &Ledger, id: UnitId) -> Vec<&Output> {
    let name = ledger.unit(id).name.as_str();
    let takes = |outlet: &&crate::model::Outlet| {
        ledger
            .stage_ids()
            .any(|stage| ledger.unit(id).belongs_to(stage, None) && outlet.takes(stage, (name, None)))
    };
    ledger.outlets.iter().filter(takes).filter_map(|outlet| outlet.kind.output()).collect()
}

fn finding(unit: &Unit, id: UnitId, entry: &Entry, of: EntryRef) -> Finding {
    let owner = Owner::Unit(unit.name.clone(), None);
    let address = Address::of_field(owner, &entry.name, None, None).to_string();
    let own = matches!(of, EntryRef::Own(_));
    Finding {
        code: Code::InNoOutput,
        severity: Severity::Warning,
        subject: address.clone(),
        stage: None,
        unit: Some(id),
        message: format!("`{}` is in no output of `{}`, and nothing refers to it", entry.name, unit.name),
        place: Some(if own { entry.place } else { unit.place }),
        hides_value: false,
        help: format!(
            "take it out of `except` of an [[output]], or into `only`; or {}",
            if own {
                format!("cledger remove {address}")
            } else {
                format!("take `{}` out of `uses`", entry.name)
            }
        ),
        address,
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
