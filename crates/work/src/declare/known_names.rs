//! Names of what is declared, as a ledger has them.

use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_store::{Item, MANIFEST, shared_file};

use crate::opened::Opened;
use crate::trouble::Trouble;

/// The file of a shared entry, or the one where new ones come.
pub(super) fn shared_file_of(ledger: &Ledger, path: &[String]) -> String {
    let known = path.get(1).and_then(|name| ledger.shared_id(name)).map(|id| ledger.shared_entry(id).place);
    known.map_or_else(|| shared_file(ledger), |place| ledger.files.locate(place).file.to_owned())
}

/// A name, as somebody types it.
pub(super) fn name(text: &str) -> Result<Name, Trouble> {
    Name::parse(text).map_err(|error| Trouble::usage(format!("`{text}` is no name: {error}")))
}

/// The names of stages.
pub(super) fn names(ledger: &Ledger, stages: &[cledger_core::model::StageId]) -> Vec<Name> {
    stages.iter().map(|&id| ledger.stage(id).name.clone()).collect()
}

/// The stages in the order in which an alignment of these has them, if there is one.
pub(super) fn in_written_order(ledger: &Ledger, stages: Vec<Name>) -> Vec<Name> {
    let same = |one: &[Name]| one.len() == stages.len() && stages.iter().all(|name| one.contains(name));
    let found = ledger.aligned.iter().map(|it| names(ledger, &it.stages)).find(|known| same(known));
    found.unwrap_or(stages)
}

/// The paths of a unit's outputs, as they are written.
pub(super) fn outputs(opened: &Opened, unit: &Name) -> Result<Vec<String>, Trouble> {
    let outputs = &opened.ledger.unit(opened.unit_id(unit)?).outputs;
    Ok(outputs.iter().map(|output| output.path.as_written().to_owned()).collect())
}

/// The names of what a unit expects of services.
pub(super) fn probes(opened: &Opened, unit: &Name) -> Result<Vec<Name>, Trouble> {
    let expectations = &opened.ledger.unit(opened.unit_id(unit)?).expectations;
    Ok(expectations.iter().map(|expectation| expectation.name.clone()).collect())
}

/// Whether the manifest has a routine.
pub(super) fn has_routine(ledger: &Ledger, name: &Name) -> bool {
    let file = ledger.files.0.iter().find(|file| file.path == MANIFEST);
    let item = Item::named("routine", name.as_str());
    file.is_some_and(|file| cledger_store::said(&file.text, &[item], &["name".to_owned()]).is_some())
}
