//! Parts of `check`, each repeated in one program.

use std::fs;
use std::path::Path;
use std::time::Duration;

use cledger_core::findings;
use cledger_core::model::Subject;
use cledger_core::resolve::{FieldId, Resolver, Unfetched};
use cledger_store::{Disk, Scope, read};
use jiff::civil::date;
use rayon::prelude::*;

use crate::measure::{best, merely_parse, toml_files};

/// Measures the parts of a ledger's `check`, and prints them.
pub(crate) fn print(folder: &Path) {
    let files = toml_files(folder);
    let reading = best(|| files.par_iter().map(|path| fs::read_to_string(path).unwrap()).collect::<Vec<_>>());
    let parsing = best(|| merely_parse(&files));
    let tree = Disk::new(folder.to_owned());
    let load = || read(&tree, &Scope::Whole).unwrap_or_else(|unreadable| panic!("{unreadable}"));
    let loading = best(load);
    let ledger = load();
    let resolver = || Resolver::new(&ledger, &Unfetched, &[]);
    let row = |what: &str, taken: Duration| {
        println!("| {what:<60} | {:>8.2} |", taken.as_secs_f64() / parsing.as_secs_f64());
    };
    println!("\n| a part of `check` of the plain one, repeated in one program   | to parse |");
    println!("|--------------------------------------------------------------|----------|");
    row("reading the files alone", reading);
    row("loading the ledger", loading);
    row("resolving all values", best(|| resolve_all(&resolver())));
    row("judging all values", best(|| findings::check(&resolver(), &[], Some(date(2026, 1, 1)))));
}

/// Resolves every field of every unit in every stage, and counts the values.
fn resolve_all(resolver: &Resolver<'_>) -> usize {
    let ledger = resolver.ledger();
    let units: Vec<_> = ledger.unit_ids().collect();
    let of_unit = |session: &mut cledger_core::resolve::Session<'_, '_>, &unit| {
        session.move_to(unit);
        let subject = Subject::Unit(unit, None);
        let mut values = 0;
        for stage in ledger.stage_ids().filter(|&stage| ledger.unit(unit).belongs_to(stage, None)) {
            for slot in ledger.slots(subject).all() {
                let outcome = session.outcome(FieldId { subject, stage, slot });
                values += usize::from(outcome.value().is_some());
            }
        }
        values
    };
    units.par_iter().map_init(|| resolver.session(None), of_unit).sum()
}
