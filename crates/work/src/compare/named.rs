//! Two sides that have names and values, of which at least one is a delivery, a capture or a file.

use std::sync::Arc;

use cledger_core::address::Address;
use cledger_core::compare::{Difference, Named, NamedCompared, mark_meant, named};
use cledger_core::model::{OutputFormat, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::render::as_written;
use cledger_core::resolve::FieldId;
use cledger_core::value::Held;
use cledger_store::Scope;
use cledger_store::daybook::Content;

use crate::compare::files::{Content as FileContent, of_unit};
use crate::compare::side::Side;
use crate::compare::structure::{self, Keys, Structure};
use crate::compare::{captures, ledgers};
use crate::daybook;
use crate::deliver::history::record;
use crate::meant::{scope_of, unit_of};
use crate::opened::Opened;
use crate::trouble::{Kind, Trouble};
use crate::workplace::Workplace;

/// How two sides stand to each other, name by name.
#[derive(Debug)]
pub struct NamedSides {
    /// One for each name.
    pub names: Vec<NamedCompared>,
}

impl NamedSides {
    /// What kind of trouble there is: differences that are not meant.
    pub fn kind(&self) -> Option<Kind> {
        let differs = |one: &NamedCompared| {
            !matches!(one.difference, Difference::Same | Difference::AsMeant | Difference::Unknown)
        };
        self.names.iter().any(differs).then_some(Kind::Found)
    }
}

/// Compares two sides by their names; `how` is for files.
pub fn named_sides(
    at: &Arc<Workplace>,
    (left, right): (&Side, &Side),
    (how, their_stage): (&Structure, Option<&Name>),
) -> Result<NamedSides, Trouble> {
    let format = how.format;
    if how.key.is_some() || how.names_only {
        refuse_all_but_files(left, right)?;
    }
    let names = match (left, right) {
        (Side::File(one), Side::File(other)) => {
            let keys = Keys::of(how);
            let ((one, of_one), (other, of_other)) =
                (structure::in_file(one, how, &keys)?, structure::in_file(other, how, &keys)?);
            keys.refuse_unused()?;
            named(one, other, of_one != of_other)
        }
        (Side::File(file), Side::Ledger(address)) => {
            let (unit, file, alike) = unit_and_file(at, address, file, format)?;
            named(file, unit, alike)
        }
        (Side::Ledger(address), Side::File(file)) => {
            let (unit, file, alike) = unit_and_file(at, address, file, format)?;
            named(unit, file, alike)
        }
        (Side::Folio(_) | Side::Other(_), _) | (_, Side::Folio(_) | Side::Other(_)) => {
            ledgers::compared(at, (left, right), their_stage)?
        }
        (Side::Units(_), _) | (_, Side::Units(_)) => {
            return Err(Trouble::usage("several units are compared between two stages")
                .help("write bundle:NAME@STAGE or a pattern of units, and then @STAGE"));
        }
        (Side::File(_), _) | (_, Side::File(_)) => {
            return Err(Trouble::usage("a file is compared with another file, or with a unit in a stage")
                .help("write file:PATH and UNIT[+INSTANCE]@STAGE"));
        }
        (Side::Capture(_), Side::Delivery(_)) | (Side::Delivery(_), Side::Capture(_)) => {
            return Err(Trouble::usage("a capture has names of files, and a delivery those of fields")
                .help("compare each of them with the unit itself: UNIT[+INSTANCE]@STAGE"));
        }
        (Side::Capture(_), _) | (_, Side::Capture(_)) => {
            let opened = Opened::read(at, &Scope::Whole)?;
            let names = captures::compared(&opened, left, right)?;
            opened.tell_unread();
            names
        }
        (Side::Delivery(_) | Side::Ledger(_), Side::Delivery(_) | Side::Ledger(_)) => {
            let opened = Opened::read(at, &Scope::Whole)?;
            let mut names = named(of_fields(&opened, left)?, of_fields(&opened, right)?, false);
            if let (Some(one), Some(other)) = (subject_of(&opened, left), subject_of(&opened, right))
                && one.1 != other.1
                && unit_of(one.0) == unit_of(other.0)
            {
                mark_meant(&mut opened.resolver().session(unit_of(one.0)), &mut names, one, other);
            }
            opened.tell_unread();
            names
        }
    };
    Ok(NamedSides { names })
}

/// Refuses to compare by structure what has none of its own.
fn refuse_all_but_files(left: &Side, right: &Side) -> Result<(), Trouble> {
    if matches!((left, right), (Side::File(_), Side::File(_))) {
        return Ok(());
    }
    Err(Trouble::usage("--match and --structure are for two files").help("write file:PATH file:PATH"))
}

/// What a unit gets in a stage, what is in a file, and whether only names that are spelled alike correspond.
fn unit_and_file(
    at: &Arc<Workplace>,
    address: &Address,
    file: &str,
    format: Option<OutputFormat>,
) -> Result<(Vec<Named>, Vec<Named>, bool), Trouble> {
    let file = FileContent::read(file, format)?;
    if address.owner.is_none() {
        let message = format!("`{address}` names no unit in a stage, and a file is of one");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    }
    let opened = Opened::read(at, &scope_of([address]))?;
    let found = of_unit(&opened, address, &file)?;
    opened.tell_unread();
    Ok(found)
}

/// The fields of a unit: as they were delivered, or as the ledger has them.
fn of_fields(opened: &Opened, side: &Side) -> Result<Vec<Named>, Trouble> {
    match side {
        Side::Delivery(address) => {
            let record = record(&mut *daybook::required(opened)?, address)?;
            Ok(of_content(&daybook::content(&record, &opened.ledger, opened.keys())?))
        }
        Side::Ledger(address) => of_ledger(opened, address),
        Side::Capture(_) | Side::File(_) | Side::Units(_) | Side::Folio(_) | Side::Other(_) => Ok(Vec::new()),
    }
}

/// The unit or instance of a side, and its stage, as far as the ledger still has them.
fn subject_of(opened: &Opened, side: &Side) -> Option<(Subject, StageId)> {
    let (Side::Delivery(address) | Side::Ledger(address)) = side else { return None };
    let stage = opened.stage(address.stage.as_ref()).ok()?.stage;
    Some((opened.subject_in(address.owner.as_ref()?, stage).ok()?, stage))
}

fn of_content(content: &Content) -> Vec<Named> {
    let named = content.values.iter().map(|(name, kept)| Named {
        name: vec![name.clone()],
        value: kept.value(),
        is_bare: false,
    });
    named.collect()
}

/// What the ledger says now.
fn of_ledger(opened: &Opened, address: &Address) -> Result<Vec<Named>, Trouble> {
    let ledger = &opened.ledger;
    let Some(owner) = &address.owner else {
        let message = format!("`{address}` names no unit, and a delivery is of one");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let stage = opened.stage(address.stage.as_ref())?.stage;
    let subject = opened.subject_in(owner, stage)?;
    let resolver = opened.resolver();
    let mut session = resolver.session(unit_of(subject));
    let mut all = Vec::new();
    for slot in ledger.slots(subject).all() {
        let outcome = session.outcome(FieldId { subject, stage, slot });
        if let Some(effective) = outcome.value() {
            all.push(Named {
                name: vec![ledger.field_name(subject, slot)],
                // Days are texts in what was delivered.
                value: effective.expose().map(|value| Held::new(as_written(value), effective.is_secret())),
                is_bare: false,
            });
        }
    }
    Ok(all)
}
