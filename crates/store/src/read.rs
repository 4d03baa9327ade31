//! Reading a ledger.
//!
//! Four kinds of files are read in this order, since each is read against those before it:
//!
//! ```text
//! ledger.toml ─► shared files ─► contracts ─► settings of stages and groups
//!  manifest       entries         contract     settings
//! ```
//!
//! Units are read in parallel, each with its contract and its settings. Mistakes do not stop the
//! reading: all of them are reported together, and what stands in a file with one is missing from the rest.

mod again;
mod broken;
mod bundles;
mod contract;
mod documents;
mod entries;
mod expectations;
mod frame;
mod judging;
mod layout;
mod manifest;
mod outlets;
mod outputs;
mod patterns;
mod settings;
mod stages;
mod tables;
mod toml_events;
mod toml_file;
mod toml_table;
mod twice;
mod units;
mod values;
mod waivers;

use std::collections::BTreeSet;

use cledger_core::address::Address;
use cledger_core::model::{BrokenFiles, Ledger, Mistake, Part, TableFault, Waiver};
use cledger_core::name::Name;
use cledger_core::source::Files;

use crate::mistake::{Mistakes, Unreadable};
use crate::tree::{Changed, Tree};
use crate::{MANIFEST, WAIVERS};
use again::Kept;
use contract::{Shared, Surroundings};
use documents::Documents;
use layout::Layout;
use manifest::Manifest;
use patterns::Patterns;
use values::Asked;

/// How much of a ledger is read.
#[derive(Debug, Clone)]
pub enum Scope {
    /// All of it.
    Whole,
    /// These units, and those that they refer to. Units that do not exist are left out.
    Units(BTreeSet<Name>),
    /// What the values of these addresses need, each of which names its owner.
    Values(Vec<Address>),
    /// What all values of this unit and its instances need, in all stages.
    Everywhere(Name),
    /// These units in these stages, and nothing that they refer to.
    Part(Part),
}

/// Reads a ledger, all of which must be readable.
pub fn read(tree: &dyn Tree, scope: &Scope) -> Result<Ledger, Unreadable> {
    complete(read_partly(tree, scope)?)
}

/// A ledger of which all could be read.
pub fn complete(mut ledger: Ledger) -> Result<Ledger, Unreadable> {
    if ledger.broken.is_empty() {
        return Ok(ledger);
    }
    let mistakes = std::mem::take(&mut ledger.broken).0.into_iter().flat_map(|file| file.mistakes).collect();
    Err(Unreadable { what: None, mistakes, files: std::mem::take(&mut ledger.files) })
}

/// Reads a ledger as far as it can be read, which says what is missing from it. What concerns all of it stops this: a
/// mistake in `ledger.toml`, or in shared entries.
pub fn read_partly(tree: &dyn Tree, scope: &Scope) -> Result<Ledger, Unreadable> {
    match scope {
        Scope::Values(addresses) => values::read(tree, &Asked::Values(addresses)),
        Scope::Everywhere(unit) => values::read(tree, &Asked::Unit(unit)),
        scope => read_scope(tree, scope),
    }
}

fn read_scope(tree: &dyn Tree, scope: &Scope) -> Result<Ledger, Unreadable> {
    let mistakes = Mistakes::default();
    let documents = Documents::new(tree, &mistakes);
    let ledger = read_all(&documents, scope, None);
    settled(ledger, documents.into_parts(), mistakes)
}

/// Reads all of a ledger again after a change of these files; what they do not say is taken over from what was read
/// `before`.
pub fn read_again(tree: &dyn Tree, before: &Ledger, changed: &Changed) -> Result<Ledger, Unreadable> {
    let mistakes = Mistakes::default();
    let documents = Documents::again(tree, &mistakes, before, changed);
    let ledger = read_all(&documents, &Scope::Whole, Some((before, changed)));
    settled(ledger, documents.into_parts(), mistakes)
}

/// A ledger as far as it could be read.
fn settled(
    ledger: Option<Ledger>,
    (files, faults): (Files, Vec<TableFault>),
    mistakes: Mistakes,
) -> Result<Ledger, Unreadable> {
    let mistakes = mistakes.sorted(&files);
    let Some(mut ledger) = ledger else { return Err(Unreadable { what: None, mistakes, files }) };
    (ledger.files, ledger.table_faults) = (files, faults);
    match broken::take_out(&mut ledger, &mistakes) {
        Some(()) => Ok(ledger),
        None => Err(Unreadable { what: None, mistakes, files: std::mem::take(&mut ledger.files) }),
    }
}

/// The names of all units of a ledger, by their files; those that are no names are left out.
pub fn unit_names(tree: &dyn Tree) -> Vec<Name> {
    let mistakes = Mistakes::default();
    units::unit_names(&Documents::new(tree, &mistakes))
}

/// With `again`, what was read before serves as far as these changes leave it.
fn read_all(documents: &Documents<'_>, scope: &Scope, again: Option<(&Ledger, &Changed)>) -> Option<Ledger> {
    let manifest = documents.with(MANIFEST, manifest::manifest);
    if manifest.is_none() && documents.mistakes.is_empty() {
        let message = "there is no such file, so this folder is no ledger";
        let help = "make one: cledger init DIR --name NAME --stages dev,test,prod";
        documents.mistakes.push(Mistake::of(MANIFEST, message).help(help));
    }
    let manifest = manifest?;
    // A stage that could not be read is no reason to complain about its settings as well.
    let all_known = documents.mistakes.is_empty();
    let layout = Layout::new(documents, &manifest, all_known);
    let patterns = Patterns::default();
    let shared = read_shared(documents, &patterns);
    // No value needs a waiver.
    let waivers = match scope {
        Scope::Part(_) => Vec::new(),
        _ => documents.with(WAIVERS, waivers::waivers).unwrap_or_default(),
    };
    let around = Surroundings { stages: &manifest.stages, shared: &shared, patterns: &patterns };
    // Stages that could not be read may follow each other in a circle.
    if matches!(scope, Scope::Part(_)) && !all_known {
        return None;
    }
    let kept = again.and_then(|again| Kept::of(again, &manifest, &layout, &shared));
    let read = units::read(documents, &layout, &around, (scope, kept.as_ref()));
    let mut ledger = assemble(manifest, shared, read, waivers);
    if let Scope::Part(part) = scope {
        ledger.part = Some(part.clone());
    }
    Some(ledger)
}

/// The shared entries, from `shared.toml` or from the files in `shared/`.
fn read_shared(documents: &Documents<'_>, patterns: &Patterns) -> Shared {
    let entries =
        |path: &str| documents.with(path, |read, table| contract::shared_entries(read, table, patterns));
    let one = entries("shared.toml");
    let folder: Vec<String> =
        layout::list(documents, "shared").into_iter().filter_map(|listed| listed.file).collect();
    if one.is_some() && !folder.is_empty() {
        let message = "both `shared.toml` and files in `shared/` declare shared entries";
        documents.mistakes.push(Mistake::of("shared.toml", message).help("keep one of the two"));
    }
    let several = folder.iter().filter_map(|path| entries(path)).flatten();
    let found = one.into_iter().flatten().chain(several).collect();
    Shared::new(entries::unique(documents.mistakes, found))
}

fn assemble(manifest: Manifest, shared: Shared, read: units::Read, waivers: Vec<Waiver>) -> Ledger {
    Ledger {
        name: manifest.name,
        default_stage: manifest.default_stage,
        stages: manifest.stages,
        groups: manifest.groups,
        aligned: manifest.aligned,
        judging: manifest.judging,
        outlets: manifest.outlets,
        bundles: manifest.bundles,
        daybook: manifest.daybook,
        anchors: manifest.anchors,
        waivers,
        shared: shared.entries,
        shared_slots: shared.slots,
        units: read.units,
        layers: read.layers,
        strangers: read.strangers,
        table_faults: Vec::new(),
        broken: BrokenFiles::default(),
        part: None,
        files: Files::default(),
    }
}
