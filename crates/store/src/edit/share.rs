//! Making a unit's entry a shared one.

use cledger_core::model::{EntryRef, Kind, LayerId, Ledger, Setting, SettingValue, Subject, UnitId};
use cledger_core::name::Name;
use cledger_core::value::Value;

use super::change::table_text;
use super::{Edit, EditError, What, append, apply, literal};
use crate::tree::{Changed, Overlay, Tree};

/// The files that change when a unit's entry becomes a shared one that other units use, too. Its
/// settings become shared ones; others that say the same of an entry of that name lose theirs.
pub fn share(
    tree: &dyn Tree,
    ledger: &Ledger,
    unit: UnitId,
    entry: &Name,
    others: &[UnitId],
) -> Result<Changed, EditError> {
    let owner = ledger.unit(unit);
    let Some(declared) = owner.entries.iter().find(|known| known.name == *entry) else {
        return Ok(Changed::new());
    };
    let kind = declared.kind.table();
    let path = vec![kind.to_owned(), entry.to_string()];
    let from = ledger.files.locate(declared.place).file.to_owned();
    let form = |reason: &str| EditError::Form { file: from.clone(), reason: reason.to_owned() };
    let text = ledger.files.get(declared.place.file).map(|file| file.text.as_str()).unwrap_or_default();
    let block =
        table_text(text, &path).ok_or_else(|| form("the entry does not stand in a table of its own"))?;
    let shared = shared_file(ledger);
    let before = tree.text(&shared).map_err(|error| EditError::Unreadable(shared.clone(), error))?;
    let mut changed = Changed::from([(shared, Some(append(before.as_deref(), &block)))]);

    let mut edits = vec![Edit { file: from, path: path.clone(), header: 0, what: What::RemoveAll }];
    for &user in std::iter::once(&unit).chain(others) {
        let known = ledger.unit(user);
        let file = format!("units/{}.toml", known.name);
        if user != unit && known.entries.iter().any(|own| own.name == *entry) {
            edits.push(Edit { file: file.clone(), path: path.clone(), header: 0, what: What::RemoveAll });
        }
        let mut uses: Vec<Value> =
            known.uses.iter().map(|&id| Value::text(ledger.shared_entry(id).name.as_str())).collect();
        uses.push(Value::text(entry.as_str()));
        let what = What::Set(literal(&Value::List(uses), None));
        edits.push(Edit { file, path: vec!["uses".to_owned()], header: 0, what });
    }
    for layer in ledger.layer_ids() {
        for setting in of_entry(ledger, unit, layer, entry) {
            let said = said(ledger, &declared.kind, setting);
            edits.push(moved(ledger, layer, None, unit, setting, What::Set(said)));
            edits.push(moved(ledger, layer, Some(unit), unit, setting, What::RemoveAll));
        }
        for &other in others {
            for setting in of_entry(ledger, other, layer, entry) {
                let name = field(ledger, other, setting);
                let mut own = of_entry(ledger, unit, layer, entry);
                let same = own.any(|own| {
                    field(ledger, unit, own) == name && source(ledger, own) == source(ledger, setting)
                });
                if same {
                    edits.push(moved(ledger, layer, Some(other), other, setting, What::RemoveAll));
                }
            }
        }
    }
    let more = apply(&Overlay::new(tree, &changed), &edits)?;
    changed.extend(more);
    Ok(changed)
}

/// The file for a new shared entry: the one there is, or the last of several.
pub fn shared_file(ledger: &Ledger) -> String {
    let files = ledger.files.0.iter().map(|file| file.path.as_str());
    let known = files.filter(|path| *path == "shared.toml" || path.starts_with("shared/"));
    known.max().unwrap_or("shared.toml").to_owned()
}

/// A unit's own settings for an entry in a layer, without those of its instances.
fn of_entry<'l>(
    ledger: &'l Ledger,
    unit: UnitId,
    layer: LayerId,
    entry: &'l Name,
) -> impl Iterator<Item = &'l Setting> {
    let settings = &ledger.unit_layer(ledger.unit(unit), layer).unit;
    settings.iter().filter(move |setting| {
        let (slot_entry, _) = ledger.unit(unit).slots.entry_of(setting.slot);
        matches!(slot_entry.entry, EntryRef::Own(_))
            && ledger.field(Subject::Unit(unit, None), setting.slot).0.name == *entry
    })
}

fn field(ledger: &Ledger, unit: UnitId, setting: &Setting) -> Option<Name> {
    ledger.field(Subject::Unit(unit, None), setting.slot).1.name.clone()
}

fn source<'l>(ledger: &'l Ledger, setting: &Setting) -> &'l str {
    let text = ledger.files.get(setting.place.file).map_or("", |file| file.text.as_str());
    text.get(setting.place.start as usize..setting.place.end as usize).unwrap_or_default()
}

/// What a setting says, as it can be written elsewhere: the rows of a table may stand under a header
/// of their own.
fn said(ledger: &Ledger, kind: &Kind, setting: &Setting) -> String {
    let written = source(ledger, setting);
    match (kind, &setting.value) {
        (Kind::Table { key, .. }, SettingValue::Value(held)) if !written.starts_with(['"', '\'', '{']) => {
            literal(&rows(held.expose(), key), None)
        }
        _ => written.to_owned(),
    }
}

/// Rows as they are written: without the key among the cells, those that are taken out as absent.
fn rows(value: &Value, key: &str) -> Value {
    let Value::Map(rows) = value else { return value.clone() };
    let row = |cells: &Value| match cells {
        Value::Map(cells) => {
            let cells = cells.iter().filter(|(column, _)| column.as_str() != key);
            Value::Map(cells.map(|(column, cell)| (column.clone(), cell.clone())).collect())
        }
        _ => Value::Map([("absent".into(), Value::Boolean(true))].into()),
    };
    Value::Map(rows.iter().map(|(name, cells)| (name.clone(), row(cells))).collect())
}

/// The change of a setting where a unit's or, without one, the shared ones stand.
fn moved(
    ledger: &Ledger,
    layer: LayerId,
    owner: Option<UnitId>,
    unit: UnitId,
    setting: &Setting,
    what: What,
) -> Edit {
    let subject = owner.map_or(Subject::Shared, |unit| Subject::Unit(unit, None));
    let (entry, declaration) = ledger.field(Subject::Unit(unit, None), setting.slot);
    let (file, table) = ledger.settings_place(subject, layer);
    let mut path = match (&table, owner) {
        (None, _) => Vec::new(),
        (Some(_), None) => vec!["shared".to_owned()],
        (Some(_), Some(unit)) => vec!["units".to_owned(), ledger.unit(unit).name.to_string()],
    };
    let header = path.len() + usize::from(path.len() == 1 && declaration.name.is_some());
    path.push(entry.name.to_string());
    path.extend(declaration.name.as_ref().map(ToString::to_string));
    Edit { file, path, header, what }
}
