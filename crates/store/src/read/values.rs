//! Reading no more of a ledger than some values need: the units that they are of, in the stages that are meant, and
//! whatever their texts lead to, until nothing is lacking.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, Part, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Resolver, Unfetched};

use super::{Scope, manifest, read_scope, unit_names};
use crate::MANIFEST;
use crate::mistake::{Mistakes, Unreadable};
use crate::read::documents::Documents;
use crate::tree::Tree;

/// Reads what the values of these addresses need. Where one names no stage, the ledger's default is meant.
pub(super) fn read(tree: &dyn Tree, addresses: &[Address]) -> Result<Ledger, Unreadable> {
    let mut part = Part::default();
    for (owner, stage) in addresses.iter().filter_map(|address| meant(tree, address)) {
        part.add(owner, stage);
    }
    loop {
        let ledger = read_scope(tree, &Scope::Part(part.clone()))?;
        let mut is_lacking = false;
        for (owner, stages) in lacking(&ledger, addresses).stages {
            for stage in stages {
                is_lacking |= part.add(owner.clone(), stage);
            }
        }
        if !is_lacking {
            return Ok(with_names(tree, ledger, part));
        }
    }
}

/// Whose value an address means, and in which stage; nothing where it names none that there is.
fn meant(tree: &dyn Tree, address: &Address) -> Option<(Option<Name>, StageId)> {
    let mistakes = Mistakes::default();
    let manifest = Documents::new(tree, &mistakes).with(MANIFEST, manifest::manifest)?;
    let stage = match &address.stage {
        None => manifest.default_stage?,
        Some(name) => {
            let at = manifest.stages.iter().position(|stage| stage.name == *name)?;
            StageId(u16::try_from(at).ok()?)
        }
    };
    let owner = match address.owner.as_ref()? {
        Owner::Unit(unit, _) => Some(unit.clone()),
        Owner::Shared => None,
    };
    Some((owner, stage))
}

/// What the values of these addresses lead to that was not read.
fn lacking(ledger: &Ledger, addresses: &[Address]) -> Part {
    let resolver = Resolver::new(ledger, &Unfetched, &[]);
    for field in addresses.iter().flat_map(|address| fields(ledger, address)) {
        let home = match field.subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        };
        resolver.session(home).outcome(field);
    }
    resolver.lacking()
}

/// The fields that an address means, if it means something that there is.
fn fields(ledger: &Ledger, address: &Address) -> Vec<FieldId> {
    let named = address.stage.as_ref().map(|name| ledger.stage_id(name.as_str()));
    let stage = named.unwrap_or(ledger.default_stage);
    let subject = match address.owner.as_ref() {
        Some(Owner::Shared) => Some(Subject::Shared),
        Some(Owner::Unit(unit, instance)) => ledger.unit_id(unit.as_str()).and_then(|id| {
            let instance = match instance {
                Some(name) => Some(ledger.unit(id).instance(name.as_str())?),
                None => None,
            };
            Some(Subject::Unit(id, instance))
                .filter(|_| stage.is_some_and(|stage| ledger.unit(id).belongs_to(stage, instance)))
        }),
        None => None,
    };
    let (Some(stage), Some(subject)) = (stage, subject) else { return Vec::new() };
    let is_meant = |field: &FieldId| {
        let (entry, declaration) = ledger.field(subject, field.slot);
        address.entry.as_ref().is_none_or(|name| *name == entry.name)
            && address.field.as_ref().is_none_or(|name| declaration.name.as_ref() == Some(name))
    };
    let all = ledger.slots(subject).all().map(|slot| FieldId { subject, stage, slot });
    all.filter(is_meant).collect()
}

/// The ledger with what was read of it; with the names of all units where one of these is not there.
fn with_names(tree: &dyn Tree, mut ledger: Ledger, mut part: Part) -> Ledger {
    let is_there = |name: &Name| ledger.unit_id(name.as_str()).is_some();
    if part.stages.keys().flatten().any(|name| !is_there(name)) {
        part.names = unit_names(tree);
        let resolved = ledger.part.insert(part);
        resolved.names.retain(|name| ledger.units.binary_search_by(|unit| unit.name.cmp(name)).is_err());
        return ledger;
    }
    ledger.part = Some(part);
    ledger
}
