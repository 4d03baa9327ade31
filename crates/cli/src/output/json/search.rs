//! `search` for programs.

use cledger_core::model::{Ledger, SettingValue};
use cledger_core::resolve::{Effective, FieldId};
use cledger_core::search::Found;
use serde::Serialize;

use super::FORMAT;
use super::show::{ValueDocument, value};
use crate::output::values;

#[derive(Debug, Serialize)]
pub(crate) struct SettingsDocument<'l> {
    format: u32,
    settings: Vec<SettingDocument<'l>>,
}

#[derive(Debug, Serialize)]
struct SettingDocument<'l> {
    address: String,
    value: serde_json::Value,
    from: Option<&'l str>,
    absent: bool,
    why: Option<&'l str>,
    until: Option<String>,
    file: Option<&'l str>,
    line: Option<usize>,
    column: Option<usize>,
}

#[derive(Debug, Serialize)]
pub(crate) struct EffectiveDocument<'l> {
    format: u32,
    values: Vec<ValueDocument<'l>>,
}

pub(crate) fn settings<'l>(ledger: &'l Ledger, found: &[Found<'l>]) -> SettingsDocument<'l> {
    let settings = found.iter().map(|one| {
        let at = one.place.map(|place| ledger.files.locate(place));
        let said = one.setting.map(|setting| &setting.value);
        let note = one.setting.and_then(|setting| setting.note.as_deref());
        SettingDocument {
            address: one.address(ledger).to_string(),
            value: one.held.map(|held| values::held_json(held, false)).unwrap_or_default(),
            from: match said {
                Some(SettingValue::From(source)) => Some(source.0.as_str()),
                _ => None,
            },
            absent: matches!(said, Some(SettingValue::Absent)),
            why: note.and_then(|note| note.why.as_deref()),
            until: note.and_then(|note| note.until).map(|until| until.to_string()),
            file: at.as_ref().map(|at| at.file),
            line: at.as_ref().map(|at| at.line),
            column: at.as_ref().map(|at| at.column),
        }
    });
    SettingsDocument { format: FORMAT, settings: settings.collect() }
}

pub(crate) fn effective<'l>(ledger: &'l Ledger, found: &[(FieldId, Effective<'l>)]) -> EffectiveDocument<'l> {
    let values = found.iter().map(|(field, effective)| value(ledger, *field, effective, false));
    EffectiveDocument { format: FORMAT, values: values.collect() }
}
