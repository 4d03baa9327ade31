//! Outlets of the kinds `postgres`, `mariadb` and `sqlite`: rows of tables.

use cledger_core::model::{
    Beside, Database, Given, OutputFormat, RowColumns, RowsOutlet, StageText, is_column_name, parts_of_table,
};

use super::super::frame::{In, Item};
use super::super::outputs::stage_text;
use super::super::toml_table::TomlTable;
use super::{content, from, given};
use crate::vocabulary::{COLUMNS, names};

/// The table of our own layout, where no other name is given.
const TABLE: &str = "cledger_values";

/// Reads what an outlet of such a kind says beside what all do.
pub(super) fn rows(read: In<'_>, table: &TomlTable<'_>, database: Database) -> Option<RowsOutlet> {
    let at = match database {
        Database::Postgres | Database::MariaDb => given(read, table.get("url")?, "`url`")?,
        Database::Sqlite => Given::Text(stage_text(read, table.get("path")?, "`path`")?.0),
    };
    let mut rows = RowsOutlet {
        database,
        at,
        password: None,
        table: StageText::parse(TABLE).unwrap_or_default(),
        columns: RowColumns::default(),
        scope: None,
        beside: Vec::new(),
        rows: content(read, table, OutputFormat::Properties),
    };
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "password" => rows.password = from(read, item, "`password`"),
            "table" => rows.table = table_name(read, item).unwrap_or_default(),
            "columns" => rows.columns = columns(read, item).unwrap_or_default(),
            "scope" => rows.scope = stage_text(read, item, "`scope`").map(|(text, _)| text),
            "where" => add(&mut rows.beside, beside(read, item, "`where`", Beside::Where)),
            "fixed" => add(&mut rows.beside, beside(read, item, "`fixed`", Beside::Fixed)),
            "who" => add(&mut rows.beside, column(read, item).map(|name| (name, Beside::Who))),
            "when" => add(&mut rows.beside, column(read, item).map(|name| (name, Beside::When))),
            _ => {}
        }
    }
    for key in ["columns", "where", "fixed", "who", "when"] {
        if let Some(item) = table.get(key).filter(|_| !table.contains_key("table")) {
            let message = format!("`{key}` is about the columns of a table");
            read.wrong_with(item.span(), message, "name it too: table = \"…\"");
        }
    }
    refuse_twice(read, table, &rows);
    Some(rows)
}

fn add(beside: &mut Vec<(String, Beside)>, more: impl IntoIterator<Item = (String, Beside)>) {
    beside.extend(more);
}

/// A table's name, which is looked at again once what it refers to is known.
fn table_name(read: In<'_>, item: Item<'_, '_>) -> Option<StageText> {
    let (text, span) = stage_text(read, item, "`table`")?;
    if text.varies() || parts_of_table(text.as_written()).is_some() {
        return Some(text);
    }
    let message = format!("`{text}` names no table");
    read.wrong_with(span, message, "write \"TABLE\" or \"SCHEMA.TABLE\"");
    None
}

fn columns(read: In<'_>, item: Item<'_, '_>) -> Option<RowColumns> {
    let table = read.table(item, "`columns`")?;
    let mut columns = RowColumns { are_given: true, ..RowColumns::default() };
    read.keys(table, &names(&COLUMNS), |key, item| {
        let Some(text) = column(read, item) else { return };
        let place = match key {
            "scope" => &mut columns.scope,
            "name" => &mut columns.name,
            _ => &mut columns.value,
        };
        *place = text;
    });
    for key in ["scope", "name", "value"].iter().filter(|key| !table.contains_key(key)) {
        let help = "write { scope = \"…\", name = \"…\", value = \"…\" }";
        read.wrong_with(item.span(), format!("`columns` does not say which one holds the {key}"), help);
    }
    Some(columns)
}

/// The name of a column.
fn column(read: In<'_>, item: Item<'_, '_>) -> Option<String> {
    let text = read.text(item, "a column")?;
    if !is_column_name(text) {
        read.wrong(item.span(), format!("`{text}` names no column"));
        return None;
    }
    Some(text.to_owned())
}

/// Columns with what they hold, as text.
fn beside(
    read: In<'_>,
    item: Item<'_, '_>,
    what: &str,
    kind: fn(StageText) -> Beside,
) -> Vec<(String, Beside)> {
    let Some(table) = read.table(item, what) else { return Vec::new() };
    let mut found = Vec::new();
    for (key, item) in table {
        let name = key.get_ref().as_ref();
        if !is_column_name(name) {
            read.wrong(key.span(), format!("`{name}` names no column"));
            continue;
        }
        let text = stage_text(read, item, &format!("`{name}`"));
        found.extend(text.map(|(text, _)| (name.to_owned(), kind(text))));
    }
    found
}

/// Refuses a column that is named twice: one of the two would be lost.
fn refuse_twice(read: In<'_>, table: &TomlTable<'_>, rows: &RowsOutlet) {
    let RowColumns { scope, name, value, .. } = &rows.columns;
    let beside = rows.beside.iter().map(|(name, _)| name);
    let mut all: Vec<&String> = [scope, name, value].into_iter().chain(beside).collect();
    all.sort_unstable();
    if let Some(twice) = all.windows(2).find(|pair| pair[0] == pair[1]) {
        let item = ["when", "who", "fixed", "where", "columns"].iter().find_map(|key| table.get(*key));
        let span = item.map_or(0..0, |item| item.span());
        read.wrong_with(span, format!("the column `{}` is named twice", twice[0]), "name each once");
    }
}
