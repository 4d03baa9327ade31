//! Outlets of kind `http`.

use cledger_core::model::{HttpOutlet, OutputFormat, StageText};
use cledger_core::value::Value;

use super::super::frame::{In, Item};
use super::super::outputs::stage_text;
use super::super::toml_table::TomlTable;
use super::{address, content, from, given};

/// How often it is tried again where nothing is said.
const RETRIES: u32 = 2;

/// The most that can be asked for.
const MOST_RETRIES: i64 = 10;

/// Reads what an outlet of this kind says beside what all do.
pub(super) fn http(read: In<'_>, table: &TomlTable<'_>) -> Option<HttpOutlet> {
    let mut http = HttpOutlet {
        url: given(read, table.get("url")?, "`url`")?,
        path: StageText::default(),
        token: None,
        proxy: None,
        retries: RETRIES,
        document: content(read, table, OutputFormat::Json),
    };
    for (key, item) in table {
        match key.get_ref().as_ref() {
            "path" => http.path = stage_text(read, item, "`path`").map(|(text, _)| text).unwrap_or_default(),
            "token" => http.token = from(read, item, "`token`"),
            "proxy" => http.proxy = address(read, item, "`proxy`"),
            "retries" => http.retries = retries(read, item).unwrap_or(RETRIES),
            _ => {}
        }
    }
    Some(http)
}

fn retries(read: In<'_>, item: Item<'_, '_>) -> Option<u32> {
    let found = match read.value(item) {
        Value::Integer(number) if (0..=MOST_RETRIES).contains(&number) => u32::try_from(number).ok(),
        _ => None,
    };
    if found.is_none() {
        read.wrong(item.span(), format!("`retries` must be a whole number from 0 to {MOST_RETRIES}"));
    }
    found
}
