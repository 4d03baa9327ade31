//! `drift` for programs.

use cledger_core::drift::{Drifted, FileDrift, Since};
use cledger_core::value::Held;
use serde::Serialize;

use super::FORMAT;
use crate::output::values;
use cledger_work::drift::Against;
use cledger_work::reality::lookups::LOOKED_UP;
use cledger_work::reality::standing::{SAID, State, UnitDrift};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'d> {
    format: u32,
    /// What the ledger was compared with.
    against: &'static str,
    /// The one stage that was looked at; null if there were several.
    stage: Option<&'d str>,
    clean: bool,
    units: Vec<UnitDocument<'d>>,
}

#[derive(Debug, Serialize)]
struct UnitDocument<'d> {
    unit: &'d str,
    stage: &'d str,
    outlet: Option<&'d str>,
    state: &'static str,
    /// How it is called now, where it is left over and was only renamed.
    #[serde(skip_serializing_if = "Option::is_none")]
    called_now: Option<&'d str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<&'d str>,
    files: Vec<FileDocument<'d>>,
    /// The number, time and maker of the last delivery, where one is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    last: Option<LastDocument<'d>>,
}

#[derive(Debug, Serialize)]
struct LastDocument<'d> {
    number: u64,
    time: &'d str,
    who: &'d str,
    withdrawn: bool,
}

#[derive(Debug, Serialize)]
struct FileDocument<'d> {
    path: &'d str,
    state: &'static str,
    reason: Option<String>,
    names: Vec<NameDocument<'d>>,
}

#[derive(Debug, Serialize)]
struct NameDocument<'d> {
    name: &'d str,
    address: Option<&'d str>,
    drift: &'static str,
    #[serde(skip_serializing_if = "Option::is_none")]
    since: Option<&'static str>,
    secret: bool,
    waived: bool,
    ledger: serde_json::Value,
    there: serde_json::Value,
}

/// Of all units, or of those alone that are not as the ledger says.
pub(crate) fn document(units: &[UnitDrift], against: Against, only_differing: bool) -> Document<'_> {
    let mut stages = units.iter().map(|unit| unit.stage.as_str());
    let first = stages.next();
    let stage = first.filter(|first| stages.all(|stage| stage == *first));
    let clean = units.iter().all(UnitDrift::is_clean);
    let wanted = units.iter().filter(|unit| !only_differing || !unit.is_clean());
    Document { format: FORMAT, against: against.name(), stage, clean, units: wanted.map(unit).collect() }
}

fn unit(unit: &UnitDrift) -> UnitDocument<'_> {
    let (state, files) = match &unit.state {
        State::There(files) => {
            let files = files.iter().map(|(path, drift)| file(path, drift)).collect();
            let state = match unit {
                unit if unit.is_clean() => "as-ledger",
                unit if unit.is_unknown() => "not-known",
                _ => "drifted",
            };
            (state, files)
        }
        State::NotThere => ("not-there", Vec::new()),
        State::NothingRendered => ("nothing-rendered", Vec::new()),
        State::Unknown => ("unknown", Vec::new()),
        State::LeftOver(_) => ("left-over", Vec::new()),
        State::Withdrawn => ("withdrawn", Vec::new()),
        State::NotKnown(_) => ("not-known", Vec::new()),
    };
    let reason = match &unit.state {
        State::NotKnown(reason) => Some(reason.as_str()),
        _ => None,
    };
    let outlet = unit.outlet.as_ref().filter(|(_, kind)| ![LOOKED_UP.1, SAID.1].contains(kind));
    let outlet = outlet.map(|(name, _)| name.as_str());
    let last = unit.last.as_ref().map(|last| LastDocument {
        number: last.number,
        time: &last.time,
        who: &last.who,
        withdrawn: last.is_withdrawal,
    });
    let called_now = match &unit.state {
        State::LeftOver(now) => now.as_deref(),
        _ => None,
    };
    UnitDocument { unit: &unit.owner, stage: &unit.stage, outlet, state, called_now, reason, files, last }
}

fn file<'d>(path: &'d str, drift: &'d FileDrift) -> FileDocument<'d> {
    let (state, reason, names) = match drift {
        FileDrift::AsLedger => ("as-ledger", None, &[][..]),
        FileDrift::NotThere => ("not-there", None, &[][..]),
        FileDrift::TextDiffers { line, .. } => {
            ("text-differs", Some(format!("from line {line} on")), &[][..])
        }
        FileDrift::Unreadable(reason) => ("unreadable", Some(reason.clone()), &[][..]),
        FileDrift::LeftOver => ("left-over", None, &[][..]),
        FileDrift::Theirs => ("theirs", None, &[][..]),
        FileDrift::Drifted(names) => ("drifted", None, &names[..]),
    };
    FileDocument { path, state, reason, names: names.iter().map(name).collect() }
}

fn name(drifted: &Drifted) -> NameDocument<'_> {
    let json =
        |held: &Option<Held>| held.as_ref().map(|held| values::held_json(held, false)).unwrap_or_default();
    NameDocument {
        name: &drifted.name,
        address: drifted.address.as_deref(),
        drift: drifted.what.words(),
        since: drifted.since.map(Since::words),
        secret: drifted.secret,
        waived: drifted.waived,
        ledger: json(&drifted.expected),
        there: json(&drifted.there),
    }
}
