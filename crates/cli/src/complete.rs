//! What a shell offers while an address is typed: units, entries, fields and stages of the ledger
//! at hand. Where there is none, or it cannot be read, nothing is offered.

use std::collections::BTreeSet;
use std::env;
use std::ffi::OsStr;

use clap_complete::CompletionCandidate;
use cledger_core::address::{Address, Owner};
use cledger_core::model::{Bundle, Ledger, Part, Subject};
use cledger_core::name::Name;
use cledger_store::{Disk, Scope, find, read, unit_names};

/// The environment variable by which a shell asks what could be typed next.
pub(crate) const COMPLETE_VARIABLE: &str = "CLEDGER_COMPLETE";

/// Offers addresses: a unit, then `/` and its entries and fields, then `@` and the stages.
pub(crate) fn address(current: &OsStr) -> Vec<CompletionCandidate> {
    let typed = current.to_string_lossy();
    offers(&typed).unwrap_or_default().into_iter().map(CompletionCandidate::new).collect()
}

/// Offers stages.
pub(crate) fn stage(current: &OsStr) -> Vec<CompletionCandidate> {
    let typed = current.to_string_lossy();
    let names = ledger(None).map(|ledger| stage_names(&ledger)).unwrap_or_default();
    names.into_iter().filter(|name| name.starts_with(&*typed)).map(CompletionCandidate::new).collect()
}

fn offers(typed: &str) -> Option<Vec<String>> {
    if typed.contains('=') {
        return None;
    }
    let all: Vec<String> = if let Some((before, _)) = typed.split_once('@') {
        stage_names(&ledger(None)?).into_iter().map(|name| format!("{before}@{name}")).collect()
    } else if let Some((owner, _)) = typed.split_once('/') {
        fields(owner)?
    } else {
        let root = find(None, &env::current_dir().ok()?).ok()?;
        let units = unit_names(&Disk::new(root)).into_iter().map(|name| name.to_string());
        let mut all: Vec<String> = std::iter::once("shared".to_owned()).chain(units).collect();
        // The manifest is read for them alone.
        if typed.starts_with(Bundle::WORD) || Bundle::WORD.starts_with(typed) && !typed.is_empty() {
            let bundles = ledger(None).map(|ledger| ledger.bundles.clone()).unwrap_or_default();
            all.extend(bundles.iter().map(|bundle| format!("{}{}", Bundle::WORD, bundle.name)));
        }
        all
    };
    Some(all.into_iter().filter(|offer| offer.starts_with(typed)).collect())
}

/// The ledger with this unit's contract, and no settings.
fn ledger(unit: Option<&Name>) -> Option<Ledger> {
    let root = find(None, &env::current_dir().ok()?).ok()?;
    let units = unit.map(|unit| (Some(unit.clone()), BTreeSet::new()));
    let part = Part { stages: units.into_iter().collect(), names: Vec::new() };
    read(&Disk::new(root), &Scope::Part(part)).ok()
}

fn stage_names(ledger: &Ledger) -> Vec<String> {
    ledger.stages.iter().map(|stage| stage.name.to_string()).collect()
}

/// The addresses of all fields of a unit or of the shared entries.
fn fields(owner: &str) -> Option<Vec<String>> {
    let owner = Address::parse(owner).ok()?.owner?;
    let (ledger, subject) = match &owner {
        Owner::Shared => (ledger(None)?, Subject::Shared),
        Owner::Unit(unit, _) => {
            let ledger = ledger(Some(unit))?;
            let id = ledger.unit_id(unit.as_str())?;
            (ledger, Subject::Unit(id, None))
        }
    };
    let address = |slot| {
        let (entry, declaration) = ledger.field(subject, slot);
        Address::of_field(owner.clone(), &entry.name, declaration.name.as_ref(), None).to_string()
    };
    Some(ledger.slots(subject).all().map(address).collect())
}
