//! The rows of lookup tables: from CSV files (RFC 4180), and from tables in settings.

use std::collections::BTreeMap;

use cledger_core::address::Owner;
use cledger_core::model::{LayerId, TableFault};
use cledger_core::name::Name;
use cledger_core::output::path_fault;
use cledger_core::source::{FileId, Place};
use cledger_core::value::Value;
use compact_str::CompactString;

use super::documents::Documents;
use super::frame::{In, Item};
use super::toml_table::{TomlTable, TomlValue};

const NO_REFERENCE: &str = "write the key itself: references may stand in the other columns";

/// The table that rows are for, and where they are given.
pub(super) struct For<'f> {
    pub(super) owner: Owner,
    pub(super) entry: &'f Name,
    pub(super) layer: Option<LayerId>,
    pub(super) columns: &'f [String],
    pub(super) key: &'f str,
}

/// Rows by key, and where each stands. A row that is taken out is `false`.
#[derive(Default)]
pub(super) struct Rows {
    pub(super) values: BTreeMap<CompactString, Value>,
    pub(super) places: Vec<(CompactString, Place)>,
}

impl Rows {
    fn add(&mut self, key: &str, row: Value, place: Place) {
        self.values.insert(key.into(), row);
        self.places.push((key.into(), place));
    }

    fn sorted(mut self) -> Self {
        self.places.sort_unstable();
        self
    }
}

/// Reads rows from what stands in a contract or setting: a CSV file's path, or rows by key.
pub(super) fn rows(read: In<'_>, item: Item<'_, '_>, table: &For<'_>) -> Option<Rows> {
    match item.get_ref() {
        TomlValue::String(path) => {
            let place = read.place(item.span());
            Some(from_file(read.documents, path, place, table).sorted())
        }
        TomlValue::Table(given) => Some(from_table(read, given, table).sorted()),
        _ => {
            read.expected(item, "the rows of a table", "the path of a CSV file, or rows by their keys");
            None
        }
    }
}

fn fault(documents: &Documents<'_>, table: &For<'_>, place: Place, message: String, help: &str) {
    documents.fault(TableFault {
        owner: table.owner.clone(),
        entry: table.entry.clone(),
        layer: table.layer,
        place,
        message,
        help: help.to_owned(),
    });
}

fn from_file(documents: &Documents<'_>, path: &str, named: Place, table: &For<'_>) -> Rows {
    let mut found = Rows::default();
    let bad = path_fault(path);
    let document = if bad.is_none() { documents.text(path) } else { None };
    let Some(document) = document else {
        let why =
            bad.map_or("which is not there".to_owned(), |bad| format!("which is no path in a ledger: {bad}"));
        let message = format!("the rows of `{}` are in `{path}`, {why}", table.entry);
        fault(
            documents,
            table,
            named,
            message,
            "name a CSV file in the ledger's folder, such as tables/NAME.csv",
        );
        return found;
    };
    let text = document.text();
    let start = text.len() - text.trim_start_matches('\u{feff}').len();
    let mut reader =
        csv::ReaderBuilder::new().has_headers(false).flexible(true).from_reader(&text.as_bytes()[start..]);
    let mut heads: Option<Vec<String>> = None;
    let mut record = csv::StringRecord::new();
    loop {
        let from = start + usize::try_from(reader.position().byte()).unwrap_or(0);
        match reader.read_record(&mut record) {
            Ok(true) => {}
            Ok(false) => break,
            Err(error) => {
                let message = format!("`{path}` is no CSV: {error}");
                fault(documents, table, line(document.file, text, from), message, "mend the file");
                break;
            }
        }
        let from =
            start + record.position().map_or(from - start, |at| usize::try_from(at.byte()).unwrap_or(0));
        let place = line(document.file, text, from);
        let wrong = |message: String, help: &str| fault(documents, table, place, message, help);
        let Some(heads) = &heads else {
            let given: Vec<String> = record.iter().map(str::to_owned).collect();
            if !same_columns(&given, table.columns) {
                let message = format!("the columns of `{path}` are not those of `{}`", table.entry);
                wrong(message, &format!("let its first line be {}", table.columns.join(",")));
                break;
            }
            heads = Some(given);
            continue;
        };
        if record.len() != heads.len() {
            let message = format!("this row has {} of {} cells", record.len(), heads.len());
            wrong(message, "give each column one cell");
            continue;
        }
        let cells: BTreeMap<CompactString, Value> =
            heads.iter().zip(&record).map(|(head, cell)| (head.as_str().into(), Value::text(cell))).collect();
        let key = cells.get(table.key).and_then(Value::as_text).unwrap_or_default().to_owned();
        if key.is_empty() {
            wrong(format!("this row has no `{}`", table.key), "give it a key");
        } else if key.contains("${") {
            wrong(format!("`{key}` is a key with a reference"), NO_REFERENCE);
        } else if found.values.contains_key(key.as_str()) {
            wrong(format!("`{key}` is the key of another row, too"), "keep one of the two");
        } else {
            found.add(&key, Value::Map(cells), place);
        }
    }
    documents.keep(document);
    found
}

fn same_columns(given: &[String], columns: &[String]) -> bool {
    let sorted = |list: &[String]| {
        let mut list = list.to_vec();
        list.sort_unstable();
        list
    };
    sorted(given) == sorted(columns)
}

/// The line that a row begins in.
fn line(file: FileId, text: &str, from: usize) -> Place {
    let blank = text[from..].len() - text[from..].trim_start_matches(['\r', '\n']).len();
    let from = from + blank;
    let to = text[from..].find(['\r', '\n']).map_or(text.len(), |at| from + at);
    let offset = |at: usize| u32::try_from(at).unwrap_or(u32::MAX);
    Place { file, start: offset(from), end: offset(to) }
}

fn from_table(read: In<'_>, given: &TomlTable<'_>, table: &For<'_>) -> Rows {
    let mut found = Rows::default();
    for (key, item) in given {
        let place = read.place(item.span());
        let wrong = |message: String, help: &str| fault(read.documents, table, place, message, help);
        let Some(cells) = item.get_ref().as_table() else {
            wrong(
                format!("row `{}` is no table", key.get_ref()),
                "write { COLUMN = \"…\" }, or { absent = true }",
            );
            continue;
        };
        if cells.len() == 1
            && cells.get("absent").is_some_and(|absent| absent.get_ref().as_bool() == Some(true))
        {
            found.add(key.get_ref(), Value::Boolean(false), place);
            continue;
        }
        if key.get_ref().contains("${") {
            wrong(format!("`{}` is a key with a reference", key.get_ref()), NO_REFERENCE);
            continue;
        }
        let mut row: BTreeMap<CompactString, Value> = BTreeMap::new();
        row.insert(table.key.into(), Value::text(key.get_ref()));
        let mut sound = true;
        for (column, cell) in cells {
            let column = column.get_ref().as_ref();
            match cell.get_ref().as_str() {
                Some(text) if table.columns.iter().any(|known| known == column) && column != table.key => {
                    row.insert(column.into(), Value::text(text));
                }
                Some(_) => {
                    wrong(
                        format!("row `{}` has a column `{column}`, which cannot be set here", key.get_ref()),
                        "its columns are those of the declaration without the key",
                    );
                    sound = false;
                }
                None => {
                    wrong(format!("`{column}` of row `{}` is no text", key.get_ref()), "write it in quotes");
                    sound = false;
                }
            }
        }
        let missing: Vec<&str> =
            table.columns.iter().map(String::as_str).filter(|column| !row.contains_key(*column)).collect();
        if sound && !missing.is_empty() {
            wrong(
                format!("row `{}` lacks {}", key.get_ref(), missing.join(", ")),
                "give each column one cell",
            );
        } else if sound {
            found.add(key.get_ref(), Value::Map(row), place);
        }
    }
    found
}
