//! What outlets hold beside what the ledger makes for them: other files of its units, and units that it does not know.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::address::Owner;
use cledger_core::model::Ledger;
use cledger_outlets::held::Held;

use crate::asking::Telling;
use crate::reality::look::read_all;
use crate::reality::places::Place;
use crate::trouble::Trouble;

/// What is asked of a place beside what the ledger makes for it.
pub(crate) struct Beside<'l> {
    pub(crate) place: Place<'l>,
    /// Units and instances of which all is wanted that is there.
    pub(crate) whole: BTreeSet<Owner>,
    /// Files that are there beside those of the ledger.
    pub(crate) files: Files,
}

/// The paths of files, by unit or instance.
type Files = BTreeMap<Owner, Vec<String>>;

/// What places hold, by unit or instance.
type Units = BTreeMap<String, Held>;

/// Reads it: for each place what it holds of each unit or instance, with the text of each file.
pub(crate) fn read_beside(
    asked: &[Beside<'_>],
    ledger: &Ledger,
    telling: &dyn Telling,
) -> Result<Vec<Units>, Trouble> {
    let whole = asked.iter().map(|beside| {
        let nothing_known = beside.whole.iter().map(|owner| (owner.clone(), Vec::new()));
        (&beside.place, nothing_known.collect())
    });
    let mut found = read(whole.collect(), ledger, telling)?;
    // What is in a folder is known by now.
    let mut then = Vec::new();
    for (beside, units) in asked.iter().zip(&mut found) {
        let mut files = beside.files.clone();
        for owner in &beside.whole {
            if let Some(Held::Files(there)) = units.get_mut(&owner.to_string()) {
                let ours = there.others.iter().filter(|path| !beside.place.keeps(path));
                files.insert(owner.clone(), ours.cloned().collect());
            }
        }
        files.retain(|_, paths| !paths.is_empty());
        then.push((&beside.place, files));
    }
    for (units, more) in found.iter_mut().zip(read(then, ledger, telling)?) {
        for (owner, held) in more {
            match (units.get_mut(&owner), held) {
                (Some(Held::Files(there)), Held::Files(more)) => there.files.extend(more.files),
                (_, held) => drop(units.insert(owner, held)),
            }
        }
    }
    Ok(found)
}

/// Reads places once; those of which nothing is asked are not reached.
fn read(
    asked: Vec<(&Place<'_>, Files)>,
    ledger: &Ledger,
    telling: &dyn Telling,
) -> Result<Vec<Units>, Trouble> {
    let mut found: Vec<Units> = asked.iter().map(|_| Units::new()).collect();
    let mut places = Vec::new();
    for (at, (place, files)) in asked.into_iter().enumerate().filter(|(_, (_, files))| !files.is_empty()) {
        let mut place = place.clone();
        place.source.asked.clear();
        for (owner, paths) in &files {
            place.ask(ledger, owner, paths.clone())?;
        }
        places.push((at, place, files));
    }
    let sources: Vec<_> = places.iter().map(|(_, place, _)| place.source.clone()).collect();
    for ((at, place, files), mut back) in places.iter().zip(read_all(&sources, telling, "outlets")) {
        for owner in files.keys().map(ToString::to_string) {
            let held = back.units.remove(&owner);
            found[*at].insert(owner, held.unwrap_or_else(|| Held::NotKnown(place.trouble(&back))));
        }
    }
    Ok(found)
}
