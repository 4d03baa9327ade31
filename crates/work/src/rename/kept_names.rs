//! The names that fields keep in rendered files while they are called otherwise in the ledger.

use std::collections::BTreeMap;

use cledger_core::address::Owner;
use cledger_core::model::{Declaration, Entry, Ledger, Output, OutputFormat, Subject, Unit};
use cledger_core::name::Name;
use cledger_core::output::{NameMaker, OutputName, as_text};
use cledger_core::value::Value;
use cledger_store::{Edit, Named, Renaming, What, literal};

use crate::trouble::Trouble;

/// Everybody who has or sees an entry.
pub(super) fn subjects(ledger: &Ledger, owner: &Owner, entry: &Name) -> Vec<Subject> {
    match owner {
        Owner::Shared => {
            let id = ledger.shared_id(entry.as_str());
            let uses = |unit: &cledger_core::model::Unit| id.is_some_and(|id| unit.uses.contains(&id));
            let units = ledger.unit_ids().filter(|&unit| uses(ledger.unit(unit)));
            units.map(|unit| Subject::Unit(unit, None)).chain([Subject::Shared]).collect()
        }
        Owner::Unit(unit, _) => {
            ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)).into_iter().collect()
        }
    }
}

/// The `as` that keep the names of fields in rendered files.
pub(super) fn kept_names(ledger: &Ledger, renaming: &Renaming) -> Result<Vec<Edit>, Trouble> {
    let (owner, entry_name, field_name) = match &renaming.what {
        Named::Entry(owner, entry) => (owner, entry, None),
        Named::Field(owner, entry, field) => (owner, entry, Some(field)),
        _ => return Ok(Vec::new()),
    };
    let subjects = subjects(ledger, owner, entry_name);
    let Some(&subject) = subjects.first() else { return Ok(Vec::new()) };
    let found = ledger.slots(subject).entries.iter().map(|known| ledger.entry(subject, known.entry));
    let Some(entry) = found.into_iter().find(|entry| entry.name == *entry_name) else {
        return Ok(Vec::new());
    };
    let units = subjects.iter().filter_map(|subject| match subject {
        Subject::Unit(unit, _) => Some(ledger.unit(*unit)),
        Subject::Shared => None,
    });
    let units: Vec<&Unit> = units.collect();
    let mut edits = Vec::new();
    for field in entry.fields.iter().filter(|field| field_name.is_none() || field.name.as_ref() == field_name)
    {
        let outputs = units.iter().flat_map(|unit| {
            let holds = |output: &&Output| output.table.is_none() && output.holds(unit, entry, field);
            unit.outputs.iter().filter(holds)
        });
        edits.extend(kept_name(ledger, renaming, entry, field, outputs)?);
    }
    Ok(edits)
}

fn kept_name<'l>(
    ledger: &Ledger,
    renaming: &Renaming,
    entry: &Entry,
    field: &Declaration,
    outputs: impl Iterator<Item = &'l Output>,
) -> Result<Option<Edit>, Trouble> {
    let mut new_entry = Entry { fields: Vec::new(), ..entry.clone() };
    let mut new_field = field.clone();
    match &renaming.what {
        Named::Field(..) => new_field.name = Some(renaming.to.clone()),
        _ => new_entry.name = renaming.to.clone(),
    }
    let mut names: BTreeMap<OutputFormat, OutputName> = BTreeMap::new();
    for output in outputs {
        let name = |entry, field| NameMaker::as_written(output).name_of(entry, field).unwrap_or_default();
        let (before, after) = (name(entry, field), name(&new_entry, &new_field));
        if before == after {
            continue;
        }
        let same = names.insert(output.format, before.clone()).is_none_or(|known| known == before);
        if output.template.is_some() || !same {
            let message = format!("`{}` would get another name in `{}`", before.join("."), output.path);
            let help = match &output.template {
                Some(template) => format!("let it with --outputs, and change the name in {}", template.path),
                None => "let it: --outputs".to_owned(),
            };
            return Err(Trouble::refused(message).help(help));
        }
    }
    if names.is_empty() {
        return Ok(None);
    }
    let mut said = field.output_names().by_format.clone();
    said.extend(names.iter().map(|(format, name)| (format.name().to_owned(), as_text(*format, name))));
    let table = said.iter().map(|(format, name)| (format.as_str().into(), Value::text(name))).collect();
    Ok(Some(as_edit(ledger, entry, &new_entry.name, new_field.name.as_ref(), &Value::Map(table))))
}

/// Writes the `as` of a field in the file that declares its entry, under the names that these have by
/// then.
pub(crate) fn as_edit(
    ledger: &Ledger,
    entry: &Entry,
    name: &Name,
    field: Option<&Name>,
    said: &Value,
) -> Edit {
    let mut path = vec![entry.kind.table().to_owned(), name.to_string()];
    if let Some(field) = field {
        path.extend(["fields".to_owned(), field.to_string()]);
    }
    path.push("as".to_owned());
    let file = ledger.files.locate(entry.place).file.to_owned();
    Edit { file, path, header: 2, what: What::Set(literal(said, None)) }
}
