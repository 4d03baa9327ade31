//! What is wrong with the fields that are looked through: also what is found where their values are written, for a shared
//! entry, for a group, or as a default.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::findings::{Finding, Severity};
use cledger_core::model::{Ledger, Subject};

use crate::check::Checked;
use crate::meant::DEFAULT;
use crate::shown::{Tone, counted, severity};

/// What is missing or wrong, by what it is about.
#[derive(Debug, Default)]
pub struct Findings {
    /// How many there are, in words.
    pub counts: String,
    by_address: BTreeMap<String, Vec<Found>>,
    /// For each stage, what may stand for it in an address: itself, its groups, and what means defaults.
    layers: BTreeMap<String, Vec<String>>,
    /// The shared entries that each unit sees.
    shared: BTreeMap<String, BTreeSet<String>>,
}

impl Findings {
    pub(super) fn of(checked: &Checked) -> Self {
        let (ledger, report) = (&*checked.ledger, &checked.report);
        let (errors, warnings) = (report.count(Severity::Error), report.count(Severity::Warning));
        let mut by_address: BTreeMap<String, Vec<Found>> = BTreeMap::new();
        for finding in &report.findings {
            by_address.entry(finding.address.clone()).or_default().push(Found::of(finding));
        }
        Self {
            counts: format!("{}, {}", counted(errors, "error"), counted(warnings, "warning")),
            by_address,
            layers: layers(ledger),
            shared: shared(ledger),
        }
    }

    /// What is said of a field in a stage, of its entry there, or of where its value may be written: with its address,
    /// where that is another one.
    pub fn at(&self, owner: &str, entry: &str, stage: &str) -> Vec<(String, Tone)> {
        let own = format!("{owner}/{entry}@{stage}");
        let told = |address: &String, found: &Found| {
            let at = if *address == own { String::new() } else { format!(" at {address}") };
            (format!("{}{at}: {}", found.kind, found.message), found.tone)
        };
        let addresses = self.addresses(owner, entry, stage);
        let found = addresses.iter().filter_map(|address| Some((address, self.by_address.get(address)?)));
        found.flat_map(|(address, found)| found.iter().map(move |one| told(address, one))).collect()
    }

    /// Whether anything is said of it.
    pub fn is_any_at(&self, owner: &str, entry: &str, stage: &str) -> bool {
        let is_known = |address: &String| self.by_address.contains_key(address);
        !self.by_address.is_empty() && self.addresses(owner, entry, stage).iter().any(is_known)
    }

    /// The addresses under which something may be said of a field in a stage.
    fn addresses(&self, owner: &str, entry: &str, stage: &str) -> Vec<String> {
        let unit = owner.split_once('+').map(|(unit, _)| unit);
        let name = entry.split_once('.').map_or(entry, |(name, _)| name);
        let sees = self.shared.get(unit.unwrap_or(owner));
        let is_shared = sees.is_some_and(|shared| shared.contains(name));
        let owners = [Some(owner), unit, is_shared.then_some("shared")];
        let names = [Some(entry), Some(name).filter(|name| *name != entry)];
        let mut addresses = Vec::new();
        for layer in self.layers.get(stage).into_iter().flatten() {
            for owner in owners.into_iter().flatten() {
                addresses.extend(names.into_iter().flatten().map(|name| format!("{owner}/{name}@{layer}")));
            }
        }
        addresses
    }
}

/// A finding in words.
#[derive(Debug)]
struct Found {
    /// How bad it is, and its code.
    kind: String,
    message: String,
    tone: Tone,
}

impl Found {
    fn of(finding: &Finding) -> Self {
        let (word, tone) = severity(finding.severity);
        Self { kind: format!("{word} {}", finding.kind()), message: finding.message.clone(), tone }
    }
}

fn layers(ledger: &Ledger) -> BTreeMap<String, Vec<String>> {
    let of_stage = |stage: &cledger_core::model::Stage| {
        let groups = stage.groups.iter().map(|&group| ledger.group(group).name.to_string());
        let own = std::iter::once(stage.name.to_string());
        (stage.name.to_string(), own.chain(groups).chain([DEFAULT.to_owned()]).collect())
    };
    ledger.stages.iter().map(of_stage).collect()
}

fn shared(ledger: &Ledger) -> BTreeMap<String, BTreeSet<String>> {
    let of_unit = |id| {
        let entries = &ledger.slots(Subject::Unit(id, None)).entries;
        let shared = entries.iter().filter_map(|slots| slots.entry.shared());
        let names = shared.map(|id| ledger.shared[usize::from(id.0)].name.to_string());
        (ledger.unit(id).name.to_string(), names.collect())
    };
    ledger.unit_ids().map(of_unit).collect()
}
