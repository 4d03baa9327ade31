//! Something goes, with the settings that are made for it.

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::KeyScope;
use cledger_core::effects::Effect;
use cledger_core::findings::{Code, Finding};
use cledger_core::model::{Ledger, Stage, Unit};
use cledger_store::{Named, move_key, remove as store_remove};

use crate::change::{Changing, Consent};
use crate::daybook;
use crate::differing::differing;
use crate::rename::named;
use crate::touched::{TouchedFile, touched};
use crate::trouble::Trouble;

/// What goes, and what that does.
#[derive(Debug)]
pub struct Removed {
    /// What goes.
    pub addresses: Vec<String>,
    /// The files that change.
    pub files: Vec<TouchedFile>,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// Whether it is done.
    pub written: bool,
}

/// Refuses a group that stages list: with its file gone it would be there all the same, and empty.
fn must_not_be_listed(ledger: &Ledger, things: &[Named], thing: &Named) -> Result<(), Trouble> {
    let Named::Group(name) = thing else { return Ok(()) };
    let Some(group) = ledger.group_id(name.as_str()) else { return Ok(()) };
    let stays = |stage: &&Stage| !things.contains(&Named::Stage(stage.name.clone()));
    let listing = ledger.stages.iter().filter(stays).filter(|stage| stage.groups.contains(&group));
    let listing: Vec<&str> = listing.map(|stage| stage.name.as_str()).collect();
    if listing.is_empty() {
        return Ok(());
    }
    let message = format!("@{name} cannot go: it is among the groups of {}", listing.join(", "));
    Err(Trouble::refused(message).help("take it out of their `groups` in ledger.toml first"))
}

/// Refuses a shared entry that units which stay use: their contracts would name what is not there.
fn must_not_be_used(ledger: &Ledger, things: &[Named], thing: &Named) -> Result<(), Trouble> {
    let Named::Entry(Owner::Shared, name) = thing else { return Ok(()) };
    let Some(entry) = ledger.shared_id(name.as_str()) else { return Ok(()) };
    let stays = |unit: &&Unit| !things.contains(&Named::Unit(unit.name.clone()));
    let using = ledger.units.iter().filter(stays).filter(|unit| unit.uses.contains(&entry));
    let using: Vec<&str> = using.map(|unit| unit.name.as_str()).collect();
    if using.is_empty() {
        return Ok(());
    }
    let message =
        format!("shared/{name} cannot go: `uses` names it in the contracts of {}", using.join(", "));
    Err(Trouble::refused(message)
        .help("take it out of these first, or let them go too: name them in the same command"))
}

/// Takes what these addresses name out of the ledger, with the settings that are made for it. Refused where
/// something depends on it.
pub fn remove(
    changing: &Changing,
    addresses: &[Address],
    consent: &Consent,
    write: bool,
) -> Result<Removed, Trouble> {
    let ledger = changing.ledger();
    let things: Vec<Named> =
        addresses.iter().map(|address| named(&changing.opened, address)).collect::<Result<_, Trouble>>()?;
    daybook::refuse_open_of(&changing.opened, &things.iter().collect::<Vec<_>>())?;
    for thing in &things {
        must_not_be_listed(ledger, &things, thing)?;
        must_not_be_used(ledger, &things, thing)?;
    }
    let mut changed = store_remove(changing.disk(), ledger, &things)?;
    for thing in &things {
        let scope = match thing {
            Named::Stage(name) => KeyScope::Stage(name.clone()),
            Named::Group(name) => KeyScope::Group(name.clone()),
            _ => continue,
        };
        let more = move_key(&changing.keys(&changed), &scope, None)?;
        changed.extend(more);
    }
    let planned = changing.plan_texts(changed)?;
    refuse_dependents(ledger, &planned.after, addresses)?;
    if write {
        changing.guard(&[], &planned, consent)?;
        changing.write(&planned)?;
    }
    let files = touched(ledger, &planned.changed);
    let addresses = addresses.iter().map(ToString::to_string).collect();
    Ok(Removed { addresses, files, effects: planned.effects, written: write })
}

/// Refuses what would leave something behind that depends on what goes.
fn refuse_dependents(before: &Ledger, after: &Ledger, addresses: &[Address]) -> Result<(), Trouble> {
    let (caused, _) = differing(before, after);
    // What a removed thing no longer clashes or agrees with is no reason to keep it.
    let depends = |finding: &&Finding| {
        matches!(
            finding.code,
            Code::ReferenceUnknown
                | Code::MissingValue
                | Code::UnknownName
                | Code::UnusedSetting
                | Code::WrongType
        )
    };
    let dependents: Vec<String> = caused
        .iter()
        .filter(depends)
        .map(|finding| format!("{}[{}] {}", finding.severity.name(), finding.kind(), finding.address))
        .collect();
    if dependents.is_empty() {
        return Ok(());
    }
    let names: Vec<String> = addresses.iter().map(ToString::to_string).collect();
    Err(Trouble::refused(format!("{} cannot go: something depends on it", names.join(", ")))
        .pointed(dependents.join("\n"))
        .help("change these first, or let them go too: name them in the same command"))
}
