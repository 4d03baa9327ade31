//! The rows of a lookup table, taken over one by one: what is the same in another layer stays there.

use cledger_core::model::{Kind, LayerId, Ledger, Setting, SettingValue, Slot, StageId, Subject};
use cledger_core::resolve::{Effective, FieldId};
use cledger_core::tree::Branch;
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Target, What, literal, within_setting};

use crate::lookup_rows::{cells, rows_of, texts};
use crate::meant::{Place, unit_of};
use crate::opened::Opened;
use crate::setting::{Written, source_text};
use crate::shown;
use crate::trouble::Trouble;

/// The edits after which a table has these rows in a stage, or is absent there, with what is written of them.
pub(crate) fn take_rows(
    opened: &Opened,
    field: &Place,
    stage: StageId,
    there: Option<&Held>,
) -> Result<(Vec<Edit>, Vec<Written>), Trouble> {
    let ledger = &opened.ledger;
    let layer = LayerId::Stage(stage);
    let own = ledger.setting_at(layer, field.subject, field.slot);
    let change = Change { ledger, field, layer, own: own.and_then(rows) };
    let Some(there) = there else {
        let none = change.edit(&[], What::Set("{ absent = true }".to_owned()));
        let written = Written {
            address: field.address.to_string(),
            file: none.file.clone(),
            before: own.map(|own| shown::setting(&own.value)),
            after: Some("absent".to_owned()),
        };
        return Ok((vec![none], vec![written]));
    };
    if there.is_secret() {
        let message = format!("`{}` would get rows with a secret in them, in plain text", field.address);
        return Err(Trouble::refused(message).help("set what the rows are made of"));
    }
    let wanted = rows_of(there.expose()).ok_or_else(|| {
        let message = format!("what is there of `{}` are no rows", field.address);
        Trouble::usage(message).help("set the table yourself: cledger set")
    })?;
    own.map(|own| refuse_file(ledger, field, own)).transpose()?;
    let id = FieldId { subject: field.subject, stage, slot: field.slot };
    let outcome = opened.resolver().session(unit_of(field.subject)).outcome(id);
    let now = outcome.value().and_then(Effective::expose).and_then(rows_of).unwrap_or_default();
    let entry = ledger.field(field.subject, field.slot).0;
    let key = if let Kind::Table { key, .. } = &entry.kind { key.as_str() } else { "" };
    let (mut edits, mut written) = (Vec::new(), Vec::new());
    for name in wanted.keys().chain(now.keys().filter(|name| !wanted.contains_key(*name))) {
        let (before, after) = (cells(&now, name, key), cells(&wanted, name, key));
        if before.as_ref().map(texts) == after.as_ref().map(texts) {
            continue;
        }
        edits.extend(change.of_row(name, after.as_ref()));
        let row = |cells: &Branch| {
            let cells = cells.iter().map(|(column, cell)| (column.as_str(), cell));
            shown::row(name, cells)
        };
        written.push(Written {
            address: field.address.to_string(),
            file: change.edit(&[], What::RemoveAll).file,
            before: before.as_ref().map(row),
            after: after
                .as_ref()
                .map_or_else(|| Some(format!("row {}: absent", shown::escape(name))), |it| Some(row(it))),
        });
    }
    Ok((edits, written))
}

/// Refuses a setting that names a file: its rows are nobody's here alone.
fn refuse_file(ledger: &Ledger, field: &Place, own: &Setting) -> Result<(), Trouble> {
    let text = source_text(ledger, own);
    if !text.starts_with(['"', '\'']) {
        return Ok(());
    }
    let at = ledger.files.locate(own.place);
    let message =
        format!("`{}` has its rows in a file, {text}, as {}:{} says", field.address, at.file, at.line);
    Err(Trouble::refused(message).help("change the rows there, or name another file"))
}

/// A table that is changed.
struct Change<'l> {
    ledger: &'l Ledger,
    field: &'l Place,
    layer: LayerId,
    /// The rows of the stage's own setting.
    own: Option<&'l Branch>,
}

impl Change<'_> {
    /// What gives the stage these cells of a row, or takes the row out.
    fn of_row(&self, name: &str, cells: Option<&Branch>) -> Vec<Edit> {
        let own = self.own.and_then(|rows| rows.get(name));
        let Some(cells) = cells else {
            let mut edits: Vec<Edit> = own.map(|_| self.edit(&[name], What::RemoveAll)).into_iter().collect();
            if self.is_said_elsewhere(name) {
                edits.push(self.row(name, &[("absent".into(), Value::Boolean(true))].into()));
            }
            return edits;
        };
        let Some(Value::Map(own)) = own else {
            let gone = own.map(|_| self.edit(&[name], What::RemoveAll));
            return gone.into_iter().chain([self.row(name, cells)]).collect();
        };
        let gone = own.keys().filter(|column| !cells.contains_key(*column));
        let mut edits: Vec<Edit> = gone.map(|column| self.edit(&[name, column], What::RemoveAll)).collect();
        for (column, cell) in cells {
            if own.get(column).is_none_or(|own| own.to_text() != cell.to_text()) {
                edits.push(self.edit(&[name, column], What::Set(written(cell))));
            }
        }
        edits
    }

    /// A row that is new in the stage.
    fn row(&self, name: &str, cells: &Branch) -> Edit {
        self.edit(&[name], What::Set(written(&Value::Map(cells.clone()))))
    }

    fn edit(&self, steps: &[&str], what: What) -> Edit {
        let Place { subject, slot, .. } = *self.field;
        within_setting(self.ledger, Target::Layer(self.layer), (subject, slot), steps, what)
    }

    /// Whether a default or a setting of another layer has a row of this key.
    fn is_said_elsewhere(&self, name: &str) -> bool {
        let Place { subject, slot, .. } = *self.field;
        let declaration = self.ledger.field(subject, slot).1;
        let has_it = |value: &Value| matches!(value, Value::Map(rows) if rows.contains_key(name));
        let by_default = declaration.default.as_ref().is_some_and(|default| has_it(default.value.expose()));
        by_default
            || saying(self.ledger, subject, slot).any(|(layer, of, setting)| {
                (layer, of) != (self.layer, subject)
                    && rows(setting).is_some_and(|rows| rows.contains_key(name))
            })
    }
}

/// All settings of a table: of the unit, the instance, and the shared entry that it is.
fn saying(
    ledger: &Ledger,
    subject: Subject,
    slot: Slot,
) -> impl Iterator<Item = (LayerId, Subject, &Setting)> {
    let unit = match subject {
        Subject::Unit(unit, Some(_)) => Some((Subject::Unit(unit, None), slot)),
        _ => None,
    };
    let shared = ledger.shared_slot(subject, slot).map(|slot| (Subject::Shared, slot));
    let owners: Vec<(Subject, Slot)> = [(subject, slot)].into_iter().chain(unit).chain(shared).collect();
    let of = move |layer| {
        let owners = owners.clone().into_iter();
        owners.filter_map(move |(owner, slot)| Some((layer, owner, ledger.setting_at(layer, owner, slot)?)))
    };
    ledger.layer_ids().flat_map(of)
}

fn rows(setting: &Setting) -> Option<&Branch> {
    match &setting.value {
        SettingValue::Value(held) => match held.expose() {
            Value::Map(rows) => Some(rows),
            _ => None,
        },
        _ => None,
    }
}

/// A value in which nothing is a reference, as TOML.
fn written(value: &Value) -> String {
    literal(&value.escaped(), None)
}
