//! What a stage still has of units, whether the ledger knows these or not.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::{Address, Owner};
use cledger_core::delivery::referring_first;
use cledger_core::model::{StageId, Subject};
use cledger_store::daybook::{Daybook, Wanted};

use crate::bringing::whom::Whom;
use crate::covering::known_bundle;
use crate::former_names::FormerNames;
use crate::opened::Opened;
use crate::reality::places::is_its_place;
use crate::trouble::Trouble;
use crate::whole_units::{Units, WholeUnits};

/// The units that are meant: by their names, which the ledger need not know, or those that the stage has something of.
pub(super) fn whoms(
    opened: &Opened,
    book: &mut dyn Daybook,
    what: &WholeUnits,
    stage: StageId,
) -> Result<Vec<Whom>, Trouble> {
    let mut named = Vec::new();
    let mut by_name = BTreeSet::new();
    for units in &what.units {
        match units {
            Units::Named(owner) => {
                let unit = owner.names().0;
                opened.refuse_broken(Some(format!("unit `{unit}`")), opened.ledger.broken.of_unit(unit))?;
                if by_name.insert(owner) {
                    named.extend(of_names(opened, book, owner, stage)?);
                }
            }
            Units::Covered(_) => {}
            Units::Bundle(name) => drop(known_bundle(&opened.ledger, name.as_str())?),
        }
    }
    if by_name.len() == what.units.len() && !what.is_all() {
        return Ok(named);
    }
    let mut all = standing(opened, book, stage)?;
    all.retain(|whom| what.has(opened, &whom.owner));
    let known: BTreeSet<_> = all.iter().map(|whom| whom.owner.clone()).collect();
    named.retain(|whom| !known.contains(&whom.owner));
    all.extend(named);
    Ok(all)
}

/// A unit or instance by its name, which the ledger need not know.
pub(super) fn whom(opened: &Opened, owner: Owner, stage: StageId) -> Whom {
    let subject = opened.ledger.subject_of(&owner, stage);
    Whom { owner, subject, stage }
}

/// A unit or instance by its name, and what of it is still there under its former names.
fn of_names(
    opened: &Opened,
    book: &mut dyn Daybook,
    owner: &Owner,
    stage: StageId,
) -> Result<Vec<Whom>, Trouble> {
    let name = opened.ledger.stage(stage).name.as_str();
    if let Some(now) = opened.ledger.now_called(owner) {
        let help = format!("cledger withdraw {now}@{name} takes off what came under both names");
        return Err(Trouble::usage(format!("`{owner}` is called `{now}` now")).help(help));
    }
    let mut whoms = vec![whom(opened, owner.clone(), stage)];
    for former in FormerNames::of(&opened.ledger).before(&owner.to_string()) {
        let last = book.entries(&Wanted::last_of(&former, name), false)?.pop();
        let parsed = Address::parse(&former).ok().and_then(|address| address.owner);
        if let (Some(former), true) = (parsed, last.is_some_and(|last| last.meta.kind.is_brought())) {
            whoms.push(whom(opened, former, stage));
        }
    }
    let last = book.entries(&Wanted::last_of(&owner.to_string(), name), false)?.pop();
    let is_former = last.is_some_and(|last| last.meta.unit != owner.to_string());
    let has_its_place = |former: &Whom| {
        let mut outlets = opened.ledger.outlets.iter();
        outlets.any(|it| {
            is_its_place(&opened.ledger, (owner, stage), it.name.as_str(), (&former.owner.to_string(), name))
        })
    };
    // Where nothing came under its own name, there is nothing of that to take off.
    if is_former && !whoms[1..].is_empty() && !whoms[1..].iter().any(has_its_place) {
        whoms.remove(0);
    }
    Ok(whoms)
}

/// The units of which a stage has something, as the daybook says: those that refer to others before these, else what
/// came last first.
pub(super) fn standing(
    opened: &Opened,
    book: &mut dyn Daybook,
    stage: StageId,
) -> Result<Vec<Whom>, Trouble> {
    let name = opened.ledger.stage(stage).name.to_string();
    let wanted = Wanted { stage: Some(name), ..Wanted::last_of_all() };
    let mut whoms = Vec::new();
    for entry in book.entries(&wanted, false)? {
        let owner = Address::parse(&entry.meta.unit).ok().and_then(|address| address.owner);
        if let (true, Some(owner)) = (entry.meta.kind.is_brought(), owner) {
            whoms.push(whom(opened, owner, stage));
        }
    }
    whoms.reverse();
    let subjects: Vec<Subject> = whoms.iter().filter_map(|whom| whom.subject).collect();
    let order = referring_first(&opened.resolver(), stage, &subjects).into_iter().enumerate();
    let places: BTreeMap<Subject, usize> = order.map(|(at, subject)| (subject, at)).collect();
    // What the ledger does not have any more refers to nothing.
    whoms.sort_by_key(|whom| whom.subject.map(|subject| places.get(&subject)));
    Ok(whoms)
}
