//! What has happened since the last delivery: somebody at the outlet, or the ledger, or both.

use std::collections::BTreeMap;

use cledger_core::delivery::Arrived;
use cledger_core::drift::{Drifted, FileDrift, NameDrift, Since};
use cledger_core::kept::Kept;
use cledger_core::model::{Ledger, OutputFormat};
use cledger_core::render::value_of_row;
use cledger_core::tree::Tree;
use cledger_core::value::{Held, Value};
use cledger_formats::{Particulars, particulars};
use cledger_outlets::held::Values;
use cledger_store::Keys;
use cledger_store::daybook::{Content, Daybook, Kind, Record, Wanted};

use crate::daybook;
use crate::deliver::recorded::{arrived, renamed};
use crate::existing;
use crate::reality::looked::{Look, Looked};
use crate::reality::making::Made;
use crate::reality::places::is_its_place;
use crate::reality::rows::values_of;
use crate::reality::standing::{LastDelivery, State};
use crate::trouble::Trouble;

/// Says of everything that has drifted who has moved since the last delivery.
pub(crate) fn tell(
    book: Option<&mut (dyn Daybook + '_)>,
    looked: &mut [Looked<'_>],
    ledger: &Ledger,
    keys: &Keys<'_>,
) -> Result<(), Trouble> {
    let last = last_records(book, ledger)?;
    for looked in looked {
        let outlet = looked.place.outlet_name().map(|(name, _)| name).unwrap_or_default();
        let rows = looked.place.has_rows();
        for (look, unit) in looked.looks.iter().zip(&mut looked.units) {
            let of = (&ledger.owner(look.subject), looked.place.stage);
            let record = last.get(&(unit.owner.clone(), unit.stage.clone()));
            let says = |it: &&Record| {
                it.meta.kind == Kind::Withdrawn
                    || is_its_place(ledger, of, &outlet, (&it.meta.unit, &it.meta.stage))
            };
            let record = record.filter(says);
            let Some(record) = record else {
                if let (Some(is_given), State::There(files)) = (rows, &mut unit.state) {
                    for (_, drift) in files {
                        pass_over_theirs(drift, is_given, |_| None);
                    }
                }
                continue;
            };
            unit.last = Some(LastDelivery {
                number: record.meta.number,
                time: record.meta.time.clone(),
                who: record.meta.who.clone(),
                is_withdrawal: record.meta.kind == Kind::Withdrawn,
            });
            let is_off = record.meta.kind == Kind::Withdrawn && arrived(&record.meta) == Arrived::Whole;
            if is_off && matches!(unit.state, State::There(_)) {
                unit.state = State::Withdrawn;
            }
            let State::There(files) = &mut unit.state else { continue };
            if files.iter().all(|(_, drift)| matches!(drift, FileDrift::AsLedger)) {
                continue;
            }
            let content = daybook::content(record, ledger, keys)?;
            for (path, drift) in files {
                if let Some(delivered) = delivered(&content, &look.made, &outlet, path) {
                    if let Some(is_given) = rows {
                        in_words_of(look, path, &delivered, drift);
                        pass_over_theirs(drift, is_given, |name| delivered.get(&name.steps));
                    }
                    of_file(drift, &look.made, path, &delivered);
                }
            }
        }
    }
    Ok(())
}

/// The last record of each unit and stage, be it of the time when the unit had another name.
fn last_records(
    book: Option<&mut (dyn Daybook + '_)>,
    ledger: &Ledger,
) -> Result<BTreeMap<(String, String), Record>, Trouble> {
    let mut last = BTreeMap::new();
    let Some(book) = book else { return Ok(last) };
    for record in book.records(&Wanted::last_of_all())? {
        last.insert((record.meta.unit.clone(), record.meta.stage.clone()), record);
    }
    for (owner, stage) in renamed(ledger) {
        if let Some(record) = book.records(&Wanted::last_of(&owner, &stage))?.pop() {
            last.insert((owner, stage), record);
        }
    }
    Ok(last)
}

/// What was delivered of a file, or of what else there is.
fn delivered(content: &Content, made: &Made<'_>, outlet: &str, path: &str) -> Option<Tree> {
    let text = |kept: Option<&Kept>| kept.and_then(Kept::expose).cloned();
    let format = made.format_of(path);
    if let Some(rows) = text(content.rows.get(outlet)) {
        let rows: BTreeMap<String, String> = serde_json::from_str(&rows).ok()?;
        let apart = made.output(path).map(|output| output.output.apart.as_slice()).unwrap_or_default();
        let value =
            |(name, text): (&String, &String)| (name.as_str().into(), value_of_row(apart, name, text));
        return Some(Tree(rows.iter().map(value).collect()));
    }
    let (text, format, of_output) = if let Some(text) = text(content.documents.get(outlet)) {
        (text, OutputFormat::Json, Particulars::default())
    } else {
        let output = made.output(path)?;
        (text(content.files.get(path))?, format, particulars(output))
    };
    existing::read(&text, format, of_output).ok().map(|found| found.tree)
}

/// Tells what is there in the words in which the ledger says it now, or said it when it was delivered, where it is the
/// same in its column's type.
fn in_words_of(look: &Look<'_>, path: &str, delivered: &Tree, drift: &mut FileDrift) {
    let (FileDrift::Drifted(names), Some(tables)) = (drift, &look.tables) else { return };
    let Some(output) = look.made.output(path) else { return };
    let said = [values_of(&output.tree()), values_of(delivered)];
    for name in names {
        let Some(there) = &name.there else { continue };
        let mut values = Values::from([(name.name.clone(), there.expose().to_secret_text())]);
        tables.in_words_of(&mut values, &said);
        let value = values.values().next().map(|text| value_of_row(&output.output.apart, &name.name, text));
        name.there = value.map(|value| Held::new(value, there.is_secret()));
    }
}

/// Passes over rows of lookup tables, and names where `is_given` says that the table is somebody else's, that were never
/// ours; `brought` is what came of a name.
fn pass_over_theirs<'v>(
    drift: &mut FileDrift,
    is_given: bool,
    brought: impl Fn(&Drifted) -> Option<&'v Value>,
) {
    let FileDrift::Drifted(names) = drift else { return };
    names.retain(|name| !is_given || name.what != NameDrift::ExtraThere || brought(name).is_some());
    for name in names.iter_mut().filter(|name| name.what == NameDrift::Differs) {
        let brought = brought(name);
        pass_over_their_rows(name, brought);
    }
    names.retain(|name| name.what != NameDrift::Differs || name.expected != name.there);
    if names.is_empty() {
        *drift = FileDrift::AsLedger;
    }
}

/// Passes over the rows of a lookup table that are neither in the ledger nor were brought.
fn pass_over_their_rows(name: &mut Drifted, brought: Option<&Value>) {
    let rows = |value: Option<&Value>| match value {
        Some(Value::Map(rows)) => Some(rows.clone()),
        _ => None,
    };
    let Some(ours) = rows(name.expected.as_ref().map(Held::expose)) else { return };
    let Some(mut there) = rows(name.there.as_ref().map(Held::expose)) else { return };
    let brought = rows(brought).unwrap_or_default();
    there.retain(|key, _| ours.contains_key(key) || brought.contains_key(key));
    if there.is_empty() && !ours.is_empty() {
        (name.there, name.what) = (None, NameDrift::MissingThere);
        return;
    }
    name.there = Some(Held::new(Value::Map(there), name.secret));
}

fn of_file(drift: &mut FileDrift, made: &Made<'_>, path: &str, delivered: &Tree) {
    let FileDrift::Drifted(names) = drift else { return };
    // What was never delivered is due, and has not drifted.
    names.retain(|name| {
        name.what != NameDrift::NoValueHere || name.there.is_some() || delivered.get(&name.steps).is_some()
    });
    if names.is_empty() {
        *drift = FileDrift::AsLedger;
        return;
    }
    let values = made.values(path).into_iter();
    let ledger: BTreeMap<Vec<String>, Value> =
        values.filter_map(|(name, value, _)| Some((name, value?))).collect();
    for name in names {
        if matches!(name.what, NameDrift::Unreadable | NameDrift::NoValueHere) || name.is_hidden() {
            continue;
        }
        let there = name.there.as_ref().map(cledger_core::value::Held::expose);
        name.since = Since::of(delivered.get(&name.steps), there, ledger.get(&name.steps));
    }
}
