//! Reading no more of a ledger than some values need: the units that they are of, in the stages that are meant, and
//! whatever their texts lead to, until nothing is lacking.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, Part, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{FieldId, Resolver, Unfetched};

use super::documents::Documents;
use super::manifest::{self, Manifest};
use super::{Scope, read_scope, unit_names};
use crate::MANIFEST;
use crate::mistake::{Mistakes, Unreadable};
use crate::tree::Tree;

/// How many times one reads on. Each time all is read again, so for longer chains what the units refer to is read at
/// once, whatever stage or text it is in.
const MOST_ROUNDS: usize = 16;

/// What is asked for.
pub(super) enum Asked<'a> {
    /// The values of these addresses. Where one names no stage, the ledger's default is meant.
    Values(&'a [Address]),
    /// All values of this unit and its instances, in all stages.
    Unit(&'a Name),
}

/// Reads what is asked for, with what it needs.
pub(super) fn read(tree: &dyn Tree, asked: &Asked<'_>) -> Result<Ledger, Unreadable> {
    let mistakes = Mistakes::default();
    let manifest = Documents::new(tree, &mistakes).with(MANIFEST, manifest::manifest);
    let mut part = manifest.map(|manifest| asked.part(&manifest)).unwrap_or_default();
    let units = part.stages.keys().flatten().cloned().collect();
    for _ in 0..MOST_ROUNDS {
        let ledger = read_scope(tree, &Scope::Part(part.clone()))?;
        let mut is_lacking = false;
        for (owner, stages) in asked.lacking(&ledger).stages {
            for stage in stages {
                is_lacking |= part.add(owner.clone(), stage);
            }
        }
        if !is_lacking {
            return Ok(with_names(tree, ledger, part));
        }
    }
    read_scope(tree, &Scope::Units(units))
}

impl Asked<'_> {
    /// Whose values are asked for, and in which stages, as far as the manifest has these.
    fn part(&self, manifest: &Manifest) -> Part {
        let stages = (0..).map(StageId).zip(&manifest.stages);
        let mut part = Part::default();
        match self {
            Self::Unit(unit) => {
                part.stages.insert(Some((*unit).clone()), stages.map(|(stage, _)| stage).collect());
            }
            Self::Values(addresses) => {
                for Address { owner, stage, .. } in *addresses {
                    let stage = match stage {
                        None => manifest.default_stage,
                        Some(name) => stages.clone().find(|(_, it)| it.name == *name).map(|(id, _)| id),
                    };
                    let owner = match owner {
                        Some(Owner::Unit(unit, _)) => Some(unit.clone()),
                        Some(Owner::Shared) => None,
                        None => continue,
                    };
                    stage.map(|stage| part.add(owner, stage));
                }
            }
        }
        part
    }

    /// What this leads to that was not read.
    fn lacking(&self, ledger: &Ledger) -> Part {
        let resolver = Resolver::new(ledger, &Unfetched, &[]);
        let home = |field: &FieldId| match field.subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        };
        // One session for all of a unit, so that what they refer to is resolved once.
        for fields in self.fields(ledger).chunk_by(|one, other| home(one) == home(other)) {
            let mut session = resolver.session(fields.first().and_then(home));
            for &field in fields {
                session.outcome(field);
            }
        }
        resolver.lacking()
    }

    /// The fields that are asked for, as far as there are any.
    fn fields(&self, ledger: &Ledger) -> Vec<FieldId> {
        match self {
            Self::Values(addresses) => addresses.iter().flat_map(|it| fields_of(ledger, it)).collect(),
            Self::Unit(unit) => {
                let Some(id) = ledger.unit_id(unit.as_str()) else { return Vec::new() };
                let in_stage =
                    |stage| ledger.subjects_of(id).flat_map(move |subject| fields_in(ledger, subject, stage));
                ledger.stage_ids().flat_map(in_stage).collect()
            }
        }
    }
}

/// All fields of somebody in a stage; none where they do not belong.
fn fields_in(ledger: &Ledger, subject: Subject, stage: StageId) -> impl Iterator<Item = FieldId> {
    let belongs = match subject {
        Subject::Unit(unit, instance) => ledger.unit(unit).belongs_to(stage, instance),
        Subject::Shared => true,
    };
    let fields = ledger.slots(subject).all().map(move |slot| FieldId { subject, stage, slot });
    fields.filter(move |_| belongs)
}

/// The fields that an address means.
fn fields_of(ledger: &Ledger, address: &Address) -> Vec<FieldId> {
    let named = address.stage.as_ref().map(|name| ledger.stage_id(name.as_str()));
    let subject = match address.owner.as_ref() {
        Some(Owner::Shared) => Some(Subject::Shared),
        Some(Owner::Unit(unit, instance)) => ledger.unit_id(unit.as_str()).and_then(|id| {
            let instance = match instance {
                Some(name) => Some(ledger.unit(id).instance(name.as_str())?),
                None => None,
            };
            Some(Subject::Unit(id, instance))
        }),
        None => None,
    };
    let (Some(stage), Some(subject)) = (named.unwrap_or(ledger.default_stage), subject) else {
        return Vec::new();
    };
    let is_meant = |field: &FieldId| {
        let (entry, declaration) = ledger.field(subject, field.slot);
        address.entry.as_ref().is_none_or(|name| *name == entry.name)
            && address.field.as_ref().is_none_or(|name| declaration.name.as_ref() == Some(name))
    };
    fields_in(ledger, subject, stage).filter(is_meant).collect()
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
