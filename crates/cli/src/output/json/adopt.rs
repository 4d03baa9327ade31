//! `adopt` for programs. Values are in the ledger; here are names alone.

use std::collections::BTreeMap;

use cledger_core::adopt::{Proposed, ProposedField, Spelled};
use cledger_core::name::Name;
use serde::Serialize;

use super::FORMAT;
use crate::output::text::adopt::kind;
use cledger_work::adopt::adoption::{Adoption, SpelledOtherwise};
use cledger_work::adopt::differing::{Differing, Fate};
use cledger_work::adopt::found::FoundThere;
use cledger_work::adopt::not_read::NotRead;
use cledger_work::adopt::tables::FoundTable;

#[derive(Debug, Serialize)]
pub(crate) struct Document<'a> {
    format: u32,
    unit: &'a str,
    new: bool,
    written: bool,
    files: Vec<FileDocument<'a>>,
    entries: Vec<EntryDocument<'a>>,
    tables: Vec<TableDocument<'a>>,
    same: usize,
    differing: Vec<DifferingDocument<'a>>,
    spellings: Vec<SpellingDocument<'a>>,
    missing: Vec<MissingDocument<'a>>,
    not_placed: Vec<NotPlacedDocument<'a>>,
    not_read: Vec<NotReadDocument<'a>>,
    other_in_old_yaml: Vec<PlaceDocument<'a>>,
    gone: Vec<GoneDocument<'a>>,
    added: Vec<AddedDocument<'a>>,
    same_host: Vec<SameHostDocument<'a>>,
    by_stage: &'a [String],
    proven: usize,
    proven_cells: usize,
    text: TextDocument,
    found: Vec<FoundDocument<'a>>,
}

#[derive(Debug, Serialize)]
struct DifferingDocument<'a> {
    address: &'a str,
    ledger: Option<&'a str>,
    file: &'a str,
    fate: &'static str,
    reason: Option<&'a str>,
}

fn differing(one: &Differing) -> DifferingDocument<'_> {
    let (fate, reason) = match &one.fate {
        Fate::Taken => ("taken", None),
        Fate::Filled => ("filled", None),
        Fate::Kept => ("kept", None),
        Fate::Cannot(reason) => ("kept", Some(reason.as_str())),
    };
    DifferingDocument { address: &one.address, ledger: one.ledger.as_deref(), file: &one.file, fate, reason }
}

#[derive(Debug, Serialize)]
struct SpellingDocument<'a> {
    field: &'a str,
    what: &'static str,
    values: BTreeMap<&'a str, &'a str>,
    aligned: BTreeMap<&'a str, &'a str>,
}

fn spelling(spelling: &SpelledOtherwise) -> SpellingDocument<'_> {
    let what = match spelling.what {
        Spelled::Truth => "truth",
        Spelled::Unit => "unit",
        Spelled::Scheme => "scheme",
        Spelled::Slash => "slash",
    };
    SpellingDocument {
        field: &spelling.field,
        what,
        values: spelling.values.iter().map(|(stage, text)| (stage.as_str(), text.as_str())).collect(),
        aligned: spelling.aligned.iter().map(|(at, text)| (at.as_str(), text.as_str())).collect(),
    }
}

#[derive(Debug, Serialize)]
struct NotReadDocument<'a> {
    file: &'a str,
    reason: &'a str,
}

#[derive(Debug, Serialize)]
struct FoundDocument<'a> {
    stage: &'a str,
    state: &'static str,
}

fn found((stage, there): &(Name, FoundThere)) -> FoundDocument<'_> {
    let name = match there {
        FoundThere::ToRecord => "to-record",
        FoundThere::Recorded => "recorded",
        FoundThere::HasRecords => "has-records",
        FoundThere::NoKey => "no-key",
    };
    FoundDocument { stage: stage.as_str(), state: name }
}

#[derive(Debug, Serialize)]
struct FileDocument<'a> {
    path: &'a str,
    stage: &'a str,
    format: &'static str,
}

#[derive(Debug, Serialize)]
struct EntryDocument<'a> {
    name: &'a str,
    kind: String,
    fields: Vec<FieldDocument<'a>>,
}

#[derive(Debug, Serialize)]
struct FieldDocument<'a> {
    name: Option<&'a str>,
    r#type: &'static str,
    secret: bool,
    default: bool,
    settings: usize,
}

fn entry(entry: &Proposed) -> EntryDocument<'_> {
    let fields = entry.fields.iter().map(field).collect();
    EntryDocument { name: entry.name.as_str(), kind: kind(&entry.kind), fields }
}

fn field(field: &ProposedField) -> FieldDocument<'_> {
    FieldDocument {
        name: field.name.as_ref().map(Name::as_str),
        r#type: field.this_type.name(),
        secret: field.secret,
        default: field.default.is_some(),
        settings: field.settings.len(),
    }
}

/// A lookup table that has a table of its own at an outlet.
#[derive(Debug, Serialize)]
struct TableDocument<'a> {
    name: &'a str,
    key: &'a str,
    columns: &'a [String],
    /// How many rows all stages have, and how many are settings.
    common: usize,
    settings: usize,
}

fn table(table: &FoundTable) -> TableDocument<'_> {
    TableDocument {
        name: table.entry.as_str(),
        key: &table.key,
        columns: &table.columns,
        common: table.common.len(),
        settings: table.settings(),
    }
}

#[derive(Debug, Serialize)]
struct MissingDocument<'a> {
    field: &'a str,
    stages: Vec<&'a str>,
}

#[derive(Debug, Serialize)]
struct NotPlacedDocument<'a> {
    name: &'a str,
    file: &'a str,
    line: usize,
    reason: &'a str,
}

#[derive(Debug, Serialize)]
struct PlaceDocument<'a> {
    name: &'a str,
    file: &'a str,
    line: usize,
}

#[derive(Debug, Serialize)]
struct GoneDocument<'a> {
    address: &'a str,
    file: &'a str,
}

#[derive(Debug, Serialize)]
struct AddedDocument<'a> {
    name: &'a str,
    file: &'a str,
}

#[derive(Debug, Serialize)]
struct SameHostDocument<'a> {
    of: Option<&'a str>,
    within: &'a [String],
}

/// How the rendered texts differ from those of the files, in lines.
#[derive(Debug, Serialize)]
struct TextDocument {
    lines: usize,
    gone: usize,
    come: usize,
}

pub(crate) fn document(adoption: &Adoption) -> Document<'_> {
    let files = adoption.files.iter();
    Document {
        format: FORMAT,
        unit: adoption.unit.as_str(),
        new: adoption.is_new,
        written: adoption.written,
        files: files
            .map(|(path, stage, format)| FileDocument { path, stage: stage.as_str(), format: format.name() })
            .collect(),
        entries: adoption.proposed.iter().map(entry).collect(),
        tables: adoption.tables.iter().map(table).collect(),
        same: adoption.same,
        differing: adoption.differing.iter().map(differing).collect(),
        spellings: adoption.spellings.iter().map(spelling).collect(),
        missing: adoption
            .missing
            .iter()
            .map(|(field, stages)| MissingDocument {
                field,
                stages: stages.iter().map(Name::as_str).collect(),
            })
            .collect(),
        not_placed: adoption
            .not_placed
            .iter()
            .map(|(name, file, line, reason)| NotPlacedDocument { name, file, line: *line, reason })
            .collect(),
        not_read: adoption
            .not_read
            .iter()
            .map(|NotRead { path, reason }| NotReadDocument { file: path, reason })
            .collect(),
        other_in_old_yaml: adoption
            .other_in_old_yaml
            .iter()
            .map(|(name, file, line)| PlaceDocument { name, file, line: *line })
            .collect(),
        gone: adoption.gone.iter().map(|(address, file)| GoneDocument { address, file }).collect(),
        added: adoption.added.iter().map(|(name, file)| AddedDocument { name, file }).collect(),
        same_host: adoption
            .repeats
            .iter()
            .map(|it| SameHostDocument { of: it.of.as_deref(), within: &it.within })
            .collect(),
        by_stage: &adoption.by_stage,
        proven: adoption.proven,
        proven_cells: adoption.proven_cells,
        text: TextDocument { lines: adoption.text.lines, gone: adoption.text.gone, come: adoption.text.come },
        found: adoption.found.iter().map(found).collect(),
    }
}
