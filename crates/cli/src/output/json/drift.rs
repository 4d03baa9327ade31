//! `drift` for programs.

use cledger_core::drift::{Drifted, FileDrift};
use cledger_core::value::Value;
use serde::Serialize;

use super::FORMAT;
use crate::output::text::drift::{State, UnitDrift, word};

#[derive(Debug, Serialize)]
pub(crate) struct Document<'d> {
    format: u32,
    stage: &'d str,
    clean: bool,
    units: Vec<UnitDocument<'d>>,
}

#[derive(Debug, Serialize)]
struct UnitDocument<'d> {
    unit: &'d str,
    state: &'static str,
    files: Vec<FileDocument<'d>>,
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
    secret: bool,
    waived: bool,
    ledger: serde_json::Value,
    there: serde_json::Value,
}

pub(crate) fn document<'d>(stage: &'d str, units: &'d [UnitDrift]) -> Document<'d> {
    let clean = units.iter().all(UnitDrift::is_clean);
    Document { format: FORMAT, stage, clean, units: units.iter().map(unit).collect() }
}

fn unit(unit: &UnitDrift) -> UnitDocument<'_> {
    let (state, files) = match &unit.state {
        State::There(files) => {
            let files = files.iter().map(|(path, drift)| file(path, drift)).collect();
            (if unit.is_clean() { "as-ledger" } else { "drifted" }, files)
        }
        State::NotThere => ("not-there", Vec::new()),
        State::NothingRendered => ("nothing-rendered", Vec::new()),
        State::Unknown => ("unknown", Vec::new()),
    };
    UnitDocument { unit: &unit.owner, state, files }
}

fn file<'d>(path: &'d str, drift: &'d FileDrift) -> FileDocument<'d> {
    let (state, reason, names) = match drift {
        FileDrift::AsLedger => ("as-ledger", None, &[][..]),
        FileDrift::NotThere => ("not-there", None, &[][..]),
        FileDrift::TextDiffers(line) => ("text-differs", Some(format!("from line {line} on")), &[][..]),
        FileDrift::Unreadable(reason) => ("unreadable", Some(reason.clone()), &[][..]),
        FileDrift::Drifted(names) => ("drifted", None, &names[..]),
    };
    FileDocument { path, state, reason, names: names.iter().map(name).collect() }
}

fn name(drifted: &Drifted) -> NameDocument<'_> {
    let json = |value: &Option<Value>| value.as_ref().map(Value::to_json).unwrap_or_default();
    NameDocument {
        name: &drifted.name,
        address: drifted.address.as_deref(),
        drift: word(drifted.what),
        secret: drifted.secret,
        waived: drifted.waived,
        ledger: json(&drifted.expected),
        there: json(&drifted.observed),
    }
}
