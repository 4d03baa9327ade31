//! Outlets of the kinds `postgres`, `mariadb` and `sqlite`: rows of tables.

use cledger_core::model::{
    Apart, Beside, Database, FieldPatterns, Given, LookupRows, OutputFormat, RowColumns, RowsOutlet,
    StageText, is_column_name, parts_of_table,
};

use super::super::frame::{In, Item};
use super::super::outputs::stage_text;
use super::super::toml_table::{Spanned, TomlTable};
use super::{content, from, given};
use crate::vocabulary::{COLUMNS, LOOKUP_ROWS, names};

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
        table: (!table.contains_key("tables")).then(|| StageText::parse(TABLE).unwrap_or_default()),
        columns: RowColumns::default(),
        scope: None,
        beside: Vec::new(),
        tables: Vec::new(),
        content: content(read, table, OutputFormat::Properties),
    };
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "password" => rows.password = from(read, item, "`password`"),
            "table" => rows.table = table_name(read, item),
            "columns" => rows.columns = columns(read, item).unwrap_or_default(),
            "scope" => rows.scope = stage_text(read, item, "`scope`").map(|(text, _)| text),
            "tables" => rows.tables = tables(read, item),
            key => rows.beside.extend(beside(read, key, item)),
        }
    }
    let apart = |table: &LookupRows| {
        let columns = table.columns.iter().map(|(name, _)| name.clone()).collect();
        Apart { entry: table.entry.clone(), columns }
    };
    rows.content.apart = rows.tables.iter().map(apart).collect();
    if rows.table.is_none() {
        // Nothing has a place there but the lookup tables.
        rows.content.except = FieldPatterns::default();
        // It is a pattern of fields: all of them.
        let _ = rows.content.except.add("*");
    }
    let of_names: &[&str] = if rows.table.is_none() { &["scope", "only", "except"] } else { &[] };
    for key in ["columns", "where", "fixed", "who", "when"].iter().chain(of_names) {
        if let Some(item) = table.get(key).filter(|_| !table.contains_key("table")) {
            let message = format!("`{key}` is about the columns of a table");
            read.wrong_with(item.span(), message, "name it too: table = \"…\"");
        }
    }
    let RowColumns { scope, name, value, .. } = &rows.columns;
    refuse_twice(
        read,
        table,
        [scope, name, value].into_iter().chain(rows.beside.iter().map(|(name, _)| name)),
    );
    Some(rows)
}

/// The lookup tables that have a table of their own.
fn tables(read: In<'_>, item: Item<'_, '_>) -> Vec<LookupRows> {
    let mut found: Vec<LookupRows> = Vec::new();
    for item in read.list(item, "`tables`") {
        let Some(table) = read.table(item, "a table of `tables`") else { continue };
        let Some(rows) = lookup_rows(read, item, table) else { continue };
        if found.iter().any(|known| known.entry == rows.entry) {
            read.wrong(item.span(), format!("`{}` has a table already", rows.entry));
        }
        found.push(rows);
    }
    found
}

fn lookup_rows(read: In<'_>, item: Item<'_, '_>, table: &TomlTable<'_>) -> Option<LookupRows> {
    let (mut entry, mut name, mut key_column) = (None, None, None);
    let (mut columns, mut others) = (Vec::new(), Vec::new());
    read.keys(table, &names(&LOOKUP_ROWS), |key, item| match key {
        "entry" => {
            let text = read.text(item, "`entry`");
            entry = text.and_then(|text| read.name_text(text, item.span(), "a lookup table", false));
        }
        "table" => name = table_name(read, item),
        "key" => key_column = column(read, item),
        "columns" => columns = pairs(read, item),
        key => others.extend(beside(read, key, item)),
    });
    for needed in ["entry", "table", "key", "columns"].iter().filter(|key| !table.contains_key(key)) {
        let help = "write { entry = \"…\", table = \"…\", key = \"COLUMN\", columns = { … = \"COLUMN\" } }";
        read.wrong_with(item.span(), format!("a table of `tables` has no `{needed}`"), help);
    }
    let (entry, table_name, key) = (entry?, name?, key_column?);
    let named = [&key].into_iter().chain(columns.iter().map(|(_, column)| column));
    refuse_twice(read, table, named.chain(others.iter().map(|(name, _)| name)));
    Some(LookupRows { entry, table: table_name, key, columns, beside: others })
}

/// Columns of a lookup table, and how they are called in the database.
fn pairs(read: In<'_>, item: Item<'_, '_>) -> Vec<(String, String)> {
    let Some(table) = read.table(item, "`columns`") else { return Vec::new() };
    table.iter().filter_map(|(key, item)| Some((key.get_ref().to_string(), column(read, item)?))).collect()
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

/// What a key says of columns beside those that hold values.
fn beside(read: In<'_>, key: &str, item: Item<'_, '_>) -> Vec<(String, Beside)> {
    match key {
        "where" => texts(read, item, "`where`", Beside::Where),
        "fixed" => texts(read, item, "`fixed`", Beside::Fixed),
        "who" => column(read, item).map(|name| (name, Beside::Who)).into_iter().collect(),
        "when" => column(read, item).map(|name| (name, Beside::When)).into_iter().collect(),
        _ => Vec::new(),
    }
}

/// Columns with what they hold, as text.
fn texts(
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
fn refuse_twice<'c>(read: In<'_>, table: &TomlTable<'_>, named: impl Iterator<Item = &'c String>) {
    let mut all: Vec<&String> = named.collect();
    all.sort_unstable();
    if let Some([twice, ..]) = all.windows(2).find(|pair| pair[0] == pair[1]) {
        let item = ["when", "who", "fixed", "where", "columns"].iter().find_map(|key| table.get(key));
        let span = item.map_or(0..0, Spanned::span);
        read.wrong_with(span, format!("the column `{twice}` is named twice"), "name each once");
    }
}
