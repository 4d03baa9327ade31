//! The environment variables that a unit's program gets in a stage.

use std::collections::BTreeMap;
use std::collections::btree_map::Entry;

use crate::findings::{self, Finding};
use crate::model::{OutputFormat, StageId, Subject};
use crate::resolve::{Effective, FieldId, Outcome, Session};

/// The variables of a unit or instance in a stage.
#[derive(Debug, Clone, Default)]
pub struct Environment<'l> {
    /// The values by their names, which are those of dotenv files.
    pub variables: BTreeMap<String, (FieldId, Effective<'l>)>,
    /// What keeps it from being whole: fields without the value they need, or with a wrong one.
    pub gaps: Vec<Finding>,
    /// Fields that have the name of another one.
    pub clashes: Vec<(String, FieldId)>,
}

/// Works out the variables of a subject that belongs to the stage. Lookup tables with a file of their
/// own are left out.
pub fn environment<'l>(session: &mut Session<'_, 'l>, subject: Subject, stage: StageId) -> Environment<'l> {
    let ledger = session.ledger();
    let mut made = Environment::default();
    let Subject::Unit(unit, _) = subject else { return made };
    let outputs = &ledger.unit(unit).outputs;
    for slot in ledger.slots(subject).all() {
        let field = FieldId { subject, stage, slot };
        let (entry, declaration) = ledger.field(subject, slot);
        let is_of = |output: &crate::model::Output| {
            output.table.as_ref().is_some_and(|table| table.entry == entry.name)
        };
        if outputs.iter().any(is_of) {
            continue;
        }
        made.gaps.extend(findings::of_field(session, field));
        made.gaps.extend(findings::of_rows(session, field));
        if let Outcome::Value(effective) = session.outcome(field) {
            let name = OutputFormat::Dotenv.name_of(entry, declaration).concat();
            match made.variables.entry(name) {
                Entry::Vacant(vacant) => drop(vacant.insert((field, effective))),
                Entry::Occupied(known) => made.clashes.push((known.key().clone(), field)),
            }
        }
    }
    made
}
