//! `list` for people: a row a thing.

use std::collections::BTreeSet;

use cledger_core::model::{Ledger, Unit};
use cledger_core::name::Name;

use crate::output::console::Console;
use crate::output::style::Tone;
use crate::output::table::Table;
use crate::output::time::minute;
use crate::output::values;
use cledger_work::capture::Listed as Captured;
use cledger_work::routine::Listed;

fn print(console: &mut Console, heads: &[&str], rows: impl Iterator<Item = Vec<String>>, none: &str) {
    let mut table = Table::new(heads, console.width());
    let mut any = false;
    for row in rows {
        any = true;
        table.row(row.into_iter().map(|cell| (cell, Tone::Plain)).collect());
    }
    if any {
        table.keep_whole(0);
        table.lines().iter().for_each(|line| console.line(line));
    } else {
        console.line(none);
    }
}

fn joined<'n>(names: impl Iterator<Item = &'n Name>) -> String {
    let names: Vec<&str> = names.map(Name::as_str).collect();
    if names.is_empty() { "-".to_owned() } else { names.join(" ") }
}

fn stages_of(ledger: &Ledger, unit: &Unit) -> String {
    if unit.belongs.iter().all(|&belongs| belongs) {
        return "all".to_owned();
    }
    let stages = ledger.stages.iter().zip(&unit.belongs);
    joined(stages.filter(|(_, belongs)| **belongs).map(|(stage, _)| &stage.name))
}

pub(crate) fn units(console: &mut Console, ledger: &Ledger) {
    let rows = ledger.units.iter().map(|unit| {
        let instances = unit.instances.iter().map(|instance| format!("+{}", instance.name));
        let instances: Vec<String> = instances.collect();
        vec![
            unit.name.to_string(),
            stages_of(ledger, unit),
            if instances.is_empty() { "-".to_owned() } else { instances.join(" ") },
            unit.slots.entries.len().to_string(),
            unit.owner.clone().unwrap_or("-".to_owned()),
            unit.about.clone().unwrap_or_default(),
        ]
    });
    let heads = ["unit", "stages", "instances", "entries", "owner", "about"];
    print(console, &heads, rows, "There are no units yet: declare one in units/NAME.toml.");
}

pub(crate) fn stages(console: &mut Console, ledger: &Ledger) {
    let rows = ledger.stage_ids().map(|id| {
        let stage = ledger.stage(id);
        let belonging = ledger.units.iter().filter(|unit| unit.belongs_to(id, None)).count();
        vec![
            stage.name.to_string(),
            stage.class.name().to_owned(),
            joined(stage.groups.iter().map(|&group| &ledger.group(group).name)),
            joined(stage.follows.iter().map(|follow| &ledger.stage(follow.stage).name)),
            joined(stage.after.iter().map(|&after| &ledger.stage(after).name)),
            if stage.locked { "locked" } else { "-" }.to_owned(),
            belonging.to_string(),
        ]
    });
    let heads = ["stage", "class", "groups", "follows", "after", "locked", "units"];
    print(console, &heads, rows, "There are no stages yet: declare one as [[stage]] in ledger.toml.");
}

pub(crate) fn groups(console: &mut Console, ledger: &Ledger) {
    let rows = ledger.groups.iter().map(|group| {
        let of_group = |stage: &&cledger_core::model::Stage| {
            stage.groups.iter().any(|&id| ledger.group(id).name == group.name)
        };
        vec![
            group.name.to_string(),
            joined(ledger.stages.iter().filter(of_group).map(|stage| &stage.name)),
            group.about.clone().unwrap_or_default(),
        ]
    });
    print(console, &["group", "stages", "about"], rows, "There are no groups.");
}

pub(crate) fn shared(console: &mut Console, ledger: &Ledger) {
    let rows = ledger.shared.iter().map(|entry| {
        let users = ledger
            .units
            .iter()
            .filter(|unit| unit.uses.iter().any(|&id| ledger.shared_entry(id).name == entry.name));
        vec![
            entry.name.to_string(),
            entry.kind.name().to_owned(),
            joined(users.map(|unit| &unit.name)),
            entry.about.as_deref().unwrap_or_default().to_owned(),
        ]
    });
    let heads = ["shared entry", "kind", "used by", "about"];
    print(console, &heads, rows, "There are no shared entries: declare one in shared.toml.");
}

pub(crate) fn bundles(console: &mut Console, ledger: &Ledger) {
    let rows = ledger.bundles.iter().map(|bundle| {
        let patterns: Vec<String> = bundle.units.iter().map(ToString::to_string).collect();
        vec![
            bundle.name.to_string(),
            patterns.join(" "),
            joined(ledger.units.iter().filter(|unit| bundle.has_of(unit)).map(|unit| &unit.name)),
            bundle.version.clone().unwrap_or("-".to_owned()),
            bundle.about.clone().unwrap_or_default(),
        ]
    });
    let none = "There are no bundles: `cledger add bundle NAME --units UNIT,UNIT` declares one.";
    print(console, &["bundle", "units", "which are", "version", "about"], rows, none);
}

pub(crate) fn captures(console: &mut Console, captures: &[Captured]) {
    let rows = captures.iter().map(|listed| match &listed.capture {
        Err(_) => {
            let none = || "-".to_owned();
            vec![listed.path.clone(), none(), none(), none(), "cannot be read".to_owned()]
        }
        Ok(capture) => {
            let said = capture.said.iter().flat_map(|said| said.keys());
            let units: BTreeSet<&String> =
                capture.outlets.iter().flat_map(|it| it.units.keys()).chain(said).collect();
            vec![
                listed.path.clone(),
                capture.stage.to_string(),
                minute(&capture.taken),
                format!("{}{}", units.len(), if capture.said.is_some() { ", ledger" } else { "" }),
                values::escape(capture.why.as_deref().unwrap_or_default()),
            ]
        }
    });
    let none = "There are no captures in captures/: `cledger capture @STAGE` makes one.";
    print(console, &["capture", "stage", "taken (UTC)", "units", "why"], rows, none);
    for trouble in captures.iter().filter_map(|listed| listed.capture.as_ref().err()) {
        console.notice(&format!("{trouble}."));
    }
}

pub(crate) fn routines(console: &mut Console, routines: &[Listed]) {
    let rows = routines.iter().map(|routine| {
        let open: Vec<String> = routine.open.iter().map(|name| format!("{{{name}}}")).collect();
        vec![
            routine.name.clone(),
            if open.is_empty() { "-".to_owned() } else { open.join(" ") },
            routine.about.clone().unwrap_or_default(),
        ]
    });
    let none = "There are no routines: `cledger replace … --save NAME` keeps one.";
    print(console, &["routine", "leaves open", "about"], rows, none);
}
