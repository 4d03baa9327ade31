//! Where a setting or a default stands, or would stand.

use cledger_core::model::{LayerId, Ledger, Slot, Subject};
use cledger_core::name::Name;
use cledger_core::types::Type;

use super::{Edit, What};

/// Where a value is written for a field.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Target {
    /// In the settings of a stage or group.
    Layer(LayerId),
    /// In the declaration, as its default.
    Default,
}

/// The change of a field's value at one of the places where it can be written.
pub fn setting(ledger: &Ledger, target: Target, subject: Subject, slot: Slot, what: What) -> Edit {
    let (entry, declaration) = ledger.field(subject, slot);
    // The rows of a table may stand under a header of their own.
    let what = match (what, declaration.this_type) {
        (What::Remove, Type::Table) => What::RemoveAll,
        (what, _) => what,
    };
    let field = declaration.name.as_ref().map(ToString::to_string);
    let Target::Layer(layer) = target else {
        let file = ledger.files.locate(entry.place).file.to_owned();
        let kind = entry.kind.table();
        let mut path = vec![kind.to_owned(), entry.name.to_string()];
        if let Some(field) = field {
            path.extend(["fields".to_owned(), field]);
        }
        path.push(if declaration.this_type == Type::Table { "rows" } else { "default" }.to_owned());
        return Edit { file, path, header: 2, what };
    };
    setting_of(ledger, layer, subject, &entry.name, field, what)
}

/// The change of something within such a value, by the steps that lead there: a row of a table, or a cell of one.
pub fn within_setting(
    ledger: &Ledger,
    target: Target,
    (subject, slot): (Subject, Slot),
    steps: &[&str],
    what: What,
) -> Edit {
    let whole = setting(ledger, target, subject, slot, what);
    let path = whole.path.iter().cloned().chain(steps.iter().map(|step| (*step).to_owned())).collect();
    Edit { path, ..whole }
}

/// The change of a setting of an entry that need not be declared yet.
pub fn setting_of(
    ledger: &Ledger,
    layer: LayerId,
    subject: Subject,
    entry: &Name,
    field: Option<String>,
    what: What,
) -> Edit {
    let owner = match subject {
        Subject::Shared => "shared".to_owned(),
        Subject::Unit(..) => ledger.owner(subject).to_string(),
    };
    let (file, table) = ledger.settings_place(subject, layer);
    let mut path = match (table, subject) {
        (None, _) => Vec::new(),
        (Some(_), Subject::Shared) => vec![owner],
        (Some(_), Subject::Unit(..)) => vec!["units".to_owned(), owner],
    };
    // `[shared.bookings-db]`, but `[units.ticket-desk]` with the entry in front of the field.
    let header = path.len() + usize::from(path.len() == 1 && field.is_some());
    path.push(entry.to_string());
    path.extend(field);
    Edit { file, path, header, what }
}
