//! Outlets of kind `postgres`.

use cledger_core::model::{OutputFormat, PostgresOutlet, RowColumns};

use super::super::frame::{In, Item};
use super::super::outputs::stage_text;
use super::super::toml_table::TomlTable;
use super::{content, from, given};
use crate::vocabulary::{COLUMNS, names};

/// The table of our own layout, where no other name is given.
const TABLE: &str = "cledger_values";

/// Reads what an outlet of this kind says beside what all do.
pub(super) fn postgres(read: In<'_>, table: &TomlTable<'_>) -> Option<PostgresOutlet> {
    let mut postgres = PostgresOutlet {
        url: given(read, table.get("url")?, "`url`")?,
        password: None,
        table: vec![TABLE.to_owned()],
        columns: RowColumns::default(),
        scope: None,
        rows: content(read, table, OutputFormat::Properties),
    };
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "password" => postgres.password = from(read, item, "`password`"),
            "table" => postgres.table = table_name(read, item).unwrap_or_default(),
            "columns" => postgres.columns = columns(read, item).unwrap_or_default(),
            "scope" => postgres.scope = stage_text(read, item, "`scope`").map(|(text, _)| text),
            _ => {}
        }
    }
    if let Some(item) = table.get("columns").filter(|_| !table.contains_key("table")) {
        read.wrong_with(item.span(), "`columns` are those of a table", "name it too: table = \"…\"");
    }
    Some(postgres)
}

/// The parts of a table's name.
fn table_name(read: In<'_>, item: Item<'_, '_>) -> Option<Vec<String>> {
    let text = read.text(item, "`table`")?;
    let parts: Vec<String> = text.split('.').map(str::to_owned).collect();
    if parts.len() <= 2 && parts.iter().all(|part| is_identifier(part)) {
        return Some(parts);
    }
    read.wrong_with(item.span(), format!("`{text}` names no table"), "write \"TABLE\" or \"SCHEMA.TABLE\"");
    None
}

fn columns(read: In<'_>, item: Item<'_, '_>) -> Option<RowColumns> {
    let table = read.table(item, "`columns`")?;
    let mut columns = RowColumns { are_given: true, ..RowColumns::default() };
    read.keys(table, &names(&COLUMNS), |key, item| {
        let Some(text) = read.text(item, "a column") else { return };
        if !is_identifier(text) {
            read.wrong(item.span(), format!("`{text}` names no column"));
        }
        let column = match key {
            "scope" => &mut columns.scope,
            "name" => &mut columns.name,
            _ => &mut columns.value,
        };
        text.clone_into(column);
    });
    for key in ["scope", "name", "value"].iter().filter(|key| !table.contains_key(key)) {
        let help = "write { scope = \"…\", name = \"…\", value = \"…\" }";
        read.wrong_with(item.span(), format!("`columns` does not say which one holds the {key}"), help);
    }
    Some(columns)
}

/// Whether PostgreSQL takes it as a name: up to 63 bytes, none of them a quote or a control character.
fn is_identifier(text: &str) -> bool {
    !text.is_empty() && text.len() <= 63 && !text.contains(|c: char| c == '"' || c.is_control())
}
