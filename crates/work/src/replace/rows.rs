//! The cells of lookup tables, changed: in settings, and in CSV files.

use std::collections::{BTreeMap, BTreeSet};

use cledger_core::impact::Written as Place;
use cledger_core::model::{Kind, Ledger};
use cledger_core::search::{Conditions, Found};
use cledger_core::source;
use cledger_core::tree::Branch;
use cledger_core::value::{Held, Value};
use cledger_store::{Changed, Edit, Target, What, literal, with_cells, within_setting};

use crate::replace::changes::Changes;
use crate::replace::replacing::{Replaced, Replacing};
use crate::shown;
use crate::trouble::Trouble;

/// Changes the cells of a table that are meant, wherever they stand: rows of a setting by edits, those of a CSV file in
/// its text. The key of a row is changed only where its column is named.
pub(crate) fn replace(
    (to, changes, conditions): (Option<&str>, &Changes, &Conditions),
    ledger: &Ledger,
    found: &Found<'_>,
    replacing: &mut Replacing,
) -> Result<(), Trouble> {
    let (entry, declaration) = ledger.field(found.subject, found.slot);
    let Kind::Table { key, .. } = &entry.kind else { return Ok(()) };
    let Some(Value::Map(rows)) = found.held.map(Held::expose) else { return Ok(()) };
    let note = found.setting.and_then(|setting| setting.note.as_deref());
    let places = note.map_or(&*declaration.rows, |note| &note.rows);
    let keys_too = conditions.names_columns(entry.name.as_str());
    let mut new: BTreeMap<(&str, &str), String> = BTreeMap::new();
    for cell in conditions.cells(ledger, found).into_iter().filter(|cell| keys_too || cell.column != key) {
        let text = to.map_or_else(|| changes.text(cell.text), str::to_owned);
        if text != cell.text {
            new.insert((cell.row, cell.column), text);
        }
    }
    for ((row, column), text) in &new {
        if column == key && (rows.contains_key(text.as_str()) || twice(&new, key, text)) {
            let address = found.address(ledger);
            let message = format!("row `{row}` of `{address}` would be `{text}`, as another one is");
            return Err(Trouble::refused(message).help("narrow the search: --beside COLUMN=TEXT"));
        }
    }
    let mut files = BTreeSet::new();
    for (name, place) in places {
        let Some(Value::Map(cells)) = rows.get(name) else { continue };
        let here = |row: &str| row == name.as_str();
        let new_cells: Vec<(&str, &String)> =
            new.iter().filter(|((row, _), _)| here(row)).map(|((_, column), text)| (*column, text)).collect();
        if new_cells.is_empty() {
            continue;
        }
        let at = ledger.files.locate(*place);
        let (own, key_text) = (Value::text(name), key.as_str());
        let before = new_cells.iter().map(|(column, _)| {
            (*column, if *column == key_text { &own } else { cells.get(*column).unwrap_or(&own) })
        });
        let values: Vec<(&str, Value)> =
            new_cells.iter().map(|(column, text)| (*column, Value::text(text))).collect();
        replacing.replaced.push(Replaced {
            address: found.address(ledger).to_string(),
            file: at.file.to_owned(),
            line: at.line,
            before: shown::row(name, before),
            after: shown::row(name, values.iter().map(|(column, value)| (*column, value))),
        });
        if found.place.is_some_and(|setting| setting.file == place.file) {
            let new_key = new.get(&(name.as_str(), key_text)).map(String::as_str);
            replacing.edits.extend(in_setting(ledger, found, (name, new_key), cells, &values));
        } else if files.insert(place.file) {
            csv(ledger, *place, key, &new, &mut replacing.texts);
        }
    }
    Ok(())
}

/// Whether two rows would have this key.
fn twice(new: &BTreeMap<(&str, &str), String>, key: &str, text: &str) -> bool {
    new.iter().filter(|((_, column), other)| *column == key && *other == text).count() > 1
}

/// The edits of a row that stands in a setting. A row with another key is written anew.
fn in_setting(
    ledger: &Ledger,
    found: &Found<'_>,
    (name, new_key): (&str, Option<&str>),
    cells: &Branch,
    values: &[(&str, Value)],
) -> Vec<Edit> {
    let target = match found.written {
        Place::In(layer) => Target::Layer(layer),
        Place::Default => Target::Default,
    };
    let edit =
        |steps: &[&str], what: What| within_setting(ledger, target, (found.subject, found.slot), steps, what);
    let Some(new_key) = new_key else {
        let set = |(column, value): &(&str, Value)| edit(&[name, column], What::Set(literal(value, None)));
        return values.iter().map(set).collect();
    };
    let key = ledger.field(found.subject, found.slot).0;
    let key = if let Kind::Table { key, .. } = &key.kind { key.as_str() } else { "" };
    let mut row = cells.clone();
    for (column, value) in values {
        row.insert((*column).into(), value.clone());
    }
    row.remove(key);
    vec![edit(&[new_key], What::Set(literal(&Value::Map(row), None))), edit(&[name], What::RemoveAll)]
}

/// Changes the cells of the CSV file that a row stands in.
fn csv(
    ledger: &Ledger,
    place: source::Place,
    key: &str,
    new: &BTreeMap<(&str, &str), String>,
    texts: &mut Changed,
) {
    let Some(file) = ledger.files.get(place.file) else { return };
    let before = texts.get(&file.path).and_then(Option::as_ref).unwrap_or(&file.text);
    let after = with_cells(before, key, &|row, column, cell| {
        new.get(&(row, column)).cloned().unwrap_or_else(|| cell.to_owned())
    });
    texts.insert(file.path.clone(), Some(after));
}
