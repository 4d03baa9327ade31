//! `list` for programs.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use cledger_core::model::{Ledger, Stage, Unit};
use cledger_work::capture::Listed as Captured;
use cledger_work::routine::Listed;
use serde::Serialize;

use super::FORMAT;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'l> {
    format: u32,
    #[serde(skip_serializing_if = "Option::is_none")]
    units: Option<Vec<UnitDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    stages: Option<Vec<StageDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    groups: Option<Vec<GroupDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    shared: Option<Vec<SharedDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    bundles: Option<Vec<BundleDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    captures: Option<Vec<CaptureDocument<'l>>>,
    #[serde(skip_serializing_if = "Option::is_none")]
    routines: Option<Vec<RoutineDocument<'l>>>,
}

#[derive(Debug, Serialize)]
struct CaptureDocument<'l> {
    path: &'l str,
    stage: Option<&'l str>,
    /// RFC 3339.
    taken: Option<&'l str>,
    by: Option<&'l str>,
    why: Option<&'l str>,
    units: BTreeSet<&'l str>,
    /// Whether it has what the ledger said, too.
    with_ledger: bool,
    /// Why it cannot be read.
    trouble: Option<String>,
}

/// The captures of a ledger.
pub(crate) fn captures(captures: &[Captured]) -> Document<'_> {
    let document = captures.iter().map(|listed| {
        let capture = listed.capture.as_ref().ok();
        let outlets = capture.into_iter().flat_map(|capture| &capture.outlets);
        let said = capture.and_then(|capture| capture.said.as_ref()).into_iter().flat_map(BTreeMap::keys);
        CaptureDocument {
            path: &listed.path,
            stage: capture.map(|capture| capture.stage.as_str()),
            taken: capture.map(|capture| capture.taken.as_str()),
            by: capture.and_then(|capture| capture.by.as_deref()),
            why: capture.and_then(|capture| capture.why.as_deref()),
            units: outlets.flat_map(|outlet| outlet.units.keys()).chain(said).map(String::as_str).collect(),
            with_ledger: capture.is_some_and(|capture| capture.said.is_some()),
            trouble: listed.capture.as_ref().err().map(ToString::to_string),
        }
    });
    Document { captures: Some(document.collect()), ..empty() }
}

#[derive(Debug, Serialize)]
struct RoutineDocument<'l> {
    name: &'l str,
    open: &'l [String],
    about: Option<&'l str>,
}

pub(crate) fn routines(routines: &[Listed]) -> Document<'_> {
    let document = routines.iter().map(|it| RoutineDocument {
        name: &it.name,
        open: &it.open,
        about: it.about.as_deref(),
    });
    Document { routines: Some(document.collect()), ..empty() }
}

#[derive(Debug, Serialize)]
struct UnitDocument<'l> {
    name: &'l str,
    stages: Vec<&'l str>,
    instances: Vec<&'l str>,
    entries: Vec<&'l str>,
    owner: Option<&'l str>,
    about: Option<&'l str>,
}

#[derive(Debug, Serialize)]
struct StageDocument<'l> {
    name: &'l str,
    class: &'static str,
    groups: Vec<&'l str>,
    follows: Vec<&'l str>,
    after: Vec<&'l str>,
    locked: bool,
}

#[derive(Debug, Serialize)]
struct GroupDocument<'l> {
    name: &'l str,
    stages: Vec<&'l str>,
    about: Option<&'l str>,
}

#[derive(Debug, Serialize)]
struct SharedDocument<'l> {
    name: &'l str,
    kind: &'static str,
    used_by: Vec<&'l str>,
    about: Option<&'l str>,
}

#[derive(Debug, Serialize)]
struct BundleDocument<'l> {
    name: &'l str,
    patterns: Vec<String>,
    units: Vec<&'l str>,
    version: Option<&'l str>,
    about: Option<&'l str>,
}

fn empty<'l>() -> Document<'l> {
    Document {
        format: FORMAT,
        units: None,
        stages: None,
        groups: None,
        shared: None,
        bundles: None,
        captures: None,
        routines: None,
    }
}

pub(crate) fn bundles(ledger: &Ledger) -> Document<'_> {
    let bundles = ledger.bundles.iter().map(|bundle| BundleDocument {
        name: bundle.name.as_str(),
        patterns: bundle.units.iter().map(ToString::to_string).collect(),
        units: ledger
            .units
            .iter()
            .filter(|unit| bundle.has_of(unit))
            .map(|unit| unit.name.as_str())
            .collect(),
        version: bundle.version.as_deref(),
        about: bundle.about.as_deref(),
    });
    Document { bundles: Some(bundles.collect()), ..empty() }
}

pub(crate) fn units(ledger: &Ledger) -> Document<'_> {
    let units = ledger.unit_ids().map(|id| {
        let unit = ledger.unit(id);
        let stages = ledger.stages.iter().zip(&unit.belongs);
        let subject = cledger_core::model::Subject::Unit(id, None);
        UnitDocument {
            name: unit.name.as_str(),
            stages: stages.filter(|(_, here)| **here).map(|(stage, _)| stage.name.as_str()).collect(),
            instances: unit.instances.iter().map(|instance| instance.name.as_str()).collect(),
            entries: ledger.entry_names(subject).collect(),
            owner: unit.owner.as_deref(),
            about: unit.about.as_deref(),
        }
    });
    Document { units: Some(units.collect()), ..empty() }
}

pub(crate) fn stages(ledger: &Ledger) -> Document<'_> {
    let name = |id| ledger.stage(id).name.as_str();
    let stages = ledger.stages.iter().map(|stage| StageDocument {
        name: stage.name.as_str(),
        class: stage.class.name(),
        groups: stage.groups.iter().map(|&id| ledger.group(id).name.as_str()).collect(),
        follows: stage.follows.iter().map(|follow| name(follow.stage)).collect(),
        after: stage.after.iter().map(|&id| name(id)).collect(),
        locked: stage.locked,
    });
    Document { stages: Some(stages.collect()), ..empty() }
}

pub(crate) fn groups(ledger: &Ledger) -> Document<'_> {
    let groups = ledger.groups.iter().map(|group| {
        let lists = |stage: &&Stage| stage.groups.iter().any(|&id| ledger.group(id).name == group.name);
        GroupDocument {
            name: group.name.as_str(),
            stages: ledger.stages.iter().filter(lists).map(|stage| stage.name.as_str()).collect(),
            about: group.about.as_deref(),
        }
    });
    Document { groups: Some(groups.collect()), ..empty() }
}

pub(crate) fn shared(ledger: &Ledger) -> Document<'_> {
    let shared = ledger.shared.iter().map(|entry| {
        let uses = |unit: &&Arc<Unit>| unit.uses.iter().any(|&id| ledger.shared_entry(id).name == entry.name);
        SharedDocument {
            name: entry.name.as_str(),
            kind: entry.kind.name(),
            used_by: ledger.units.iter().filter(uses).map(|unit| unit.name.as_str()).collect(),
            about: entry.about.as_deref(),
        }
    });
    Document { shared: Some(shared.collect()), ..empty() }
}
