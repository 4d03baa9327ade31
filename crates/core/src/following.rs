//! What a stage leaves out that is to follow another: secrets, which each stage has for itself.

use std::collections::{BTreeMap, BTreeSet};

use crate::address::Owner;
use crate::model::{Declaration, Entry, Ledger, Vary};
use crate::name::Name;

/// The patterns for `except` of a follow that cover all secrets which would be followed, and nothing else. What each
/// stage must state (`vary = "must"`) is never followed.
pub fn secrets(ledger: &Ledger) -> Vec<String> {
    type Field<'l> = (&'l str, Option<&'l str>);
    let mut owners: BTreeMap<Field<'_>, BTreeSet<String>> = BTreeMap::new();
    let mut open: BTreeSet<Field<'_>> = BTreeSet::new();
    let units = ledger.units.iter().map(|unit| (Owner::Unit(unit.name.clone(), None), &unit.entries));
    for (owner, entries) in units.chain([(Owner::Shared, &ledger.shared)]) {
        for (entry, declaration) in entries.iter().flat_map(fields) {
            let field = (entry.name.as_str(), declaration.name.as_ref().map(Name::as_str));
            if declaration.secret && declaration.vary == Vary::May && !declaration.derived {
                owners.entry(field).or_default().insert(owner.to_string());
            } else {
                open.insert(field);
            }
        }
    }
    let mut patterns = Vec::new();
    for ((entry, field), owners) in owners {
        let name = field.map_or(entry.to_owned(), |field| format!("{entry}.{field}"));
        // A unit may set what is shared for itself.
        if owners.contains("shared") || !open.contains(&(entry, field)) {
            patterns.push(format!("*/{name}"));
        } else {
            patterns.extend(owners.iter().map(|owner| format!("{owner}/{name}")));
        }
    }
    patterns
}

fn fields(entry: &Entry) -> impl Iterator<Item = (&Entry, &Declaration)> {
    entry.fields.iter().map(move |field| (entry, field))
}
