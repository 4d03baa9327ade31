//! The cells of lookup tables, changed: in settings, and in CSV files.

use std::collections::BTreeMap;

use cledger_core::impact::Written as Place;
use cledger_core::model::{Kind, Ledger};
use cledger_core::search::Found;
use cledger_core::source;
use cledger_core::value::{Held, Value};
use cledger_store::{Changed, Edit, Target, What, literal, setting, with_cells};

use crate::replace::changes::Changes;
use crate::replace::replacing::{Replaced, Replacing};
use crate::shown;

/// Changes the cells of a table wherever they stand: rows of a setting by edits, those of a CSV file
/// in its text. Its key stays.
pub(crate) fn replace(changes: &Changes, ledger: &Ledger, found: &Found<'_>, replacing: &mut Replacing) {
    let (entry, declaration) = ledger.field(found.subject, found.slot);
    let Kind::Table { key, .. } = &entry.kind else { return };
    let Some(Value::Map(rows)) = found.held.map(Held::expose) else { return };
    let note = found.setting.and_then(|setting| setting.note.as_deref());
    let places = note.map_or(&declaration.rows, |note| &note.rows);
    let target = match found.written {
        Place::In(layer) => Target::Layer(layer),
        Place::Default => Target::Default,
    };
    for (name, place) in places {
        let Some(Value::Map(cells)) = rows.get(name) else { continue };
        let new_cells: BTreeMap<&str, Value> = cells
            .iter()
            .filter(|(column, _)| column.as_str() != key)
            .filter_map(|(column, cell)| {
                let (old, new) = (cell.as_text()?, changes.text(cell.as_text()?));
                (old != new).then(|| (column.as_str(), Value::text(&new)))
            })
            .collect();
        if new_cells.is_empty() {
            continue;
        }
        let at = ledger.files.locate(*place);
        let before = cells.iter().map(|(column, cell)| (column.as_str(), cell));
        let before = before.filter(|(column, _)| new_cells.contains_key(column));
        let after = new_cells.iter().map(|(column, cell)| (*column, cell));
        replacing.replaced.push(Replaced {
            address: found.address(ledger).to_string(),
            file: at.file.to_owned(),
            line: at.line,
            before: shown::row(name, before),
            after: shown::row(name, after),
        });
        if found.place.is_some_and(|setting| setting.file == place.file) {
            let edits = new_cells.iter().map(|(column, cell)| {
                let what = What::Set(literal(cell, None));
                let whole = setting(ledger, target, found.subject, found.slot, what);
                let path = [whole.path, vec![name.to_string(), (*column).to_owned()]].concat();
                Edit { path, ..whole }
            });
            replacing.edits.extend(edits);
        } else {
            csv(changes, ledger, *place, key, &mut replacing.texts);
        }
    }
}

/// Changes all cells of the CSV file that a row stands in.
fn csv(changes: &Changes, ledger: &Ledger, place: source::Place, key: &str, texts: &mut Changed) {
    let Some(file) = ledger.files.get(place.file) else { return };
    if !texts.contains_key(&file.path) {
        let new = with_cells(&file.text, &|column, cell| {
            if column == key { cell.to_owned() } else { changes.text(cell) }
        });
        texts.insert(file.path.clone(), Some(new));
    }
}
