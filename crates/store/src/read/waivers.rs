//! `waivers.toml`: findings and drift that are accepted, with a reason and a last day.

use cledger_core::address::Pattern;
use cledger_core::model::{Waived, Waiver};

use super::frame::{In, Item};
use super::judging::code;
use super::toml_table::TomlTable;

const KEYS: [&str; 5] = ["code", "address", "why", "until", "by"];

/// Reads `waivers.toml`.
pub(super) fn waivers(read: In<'_>, table: &TomlTable<'_>) -> Vec<Waiver> {
    let mut found = Vec::new();
    read.keys(table, &["waiver"], |_, item| {
        found = read.list(item, "`waiver`").into_iter().filter_map(|item| waiver(read, item)).collect();
    });
    found
}

fn waiver(read: In<'_>, item: Item<'_, '_>) -> Option<Waiver> {
    let table = read.table(item, "a waiver")?;
    let (mut what, mut pattern, mut why, mut until, mut by) = (None, None, None, None, None);
    read.keys(table, &KEYS, |key, item| match key {
        "code" => match read.text(item, "`code`") {
            Some(Waived::DRIFT) => what = Some(Waived::Drift),
            Some(text) if text.starts_with(Waived::RULE) => {
                let name = text.strip_prefix(Waived::RULE).unwrap_or_default();
                what = read.name_text(name, item.span(), "a rule", false).map(Waived::Rule);
            }
            Some(text) => what = code(read, text, item.span()).map(Waived::Finding),
            None => {}
        },
        "address" => match read.text(item, "`address`").map(Pattern::parse) {
            Some(Ok(parsed)) => pattern = Some(parsed),
            Some(Err(error)) => read.wrong(item.span(), error.to_string()),
            None => {}
        },
        "why" => why = read.text(item, "`why`").filter(|why| !why.trim().is_empty()).map(str::to_owned),
        "until" => until = read.day(item, "`until`"),
        _ => by = read.text(item, "`by`").map(str::to_owned),
    });
    let lacks = |key: &str, help: &str| {
        if !table.contains_key(key) {
            read.wrong_with(item.span(), format!("this waiver has no `{key}`"), help);
        }
    };
    lacks("code", "write the code of the finding: code = \"plain-secret\", or \"drift\"");
    lacks("address", "write what it is about: address = \"shared/mail.*@dev\"");
    lacks("until", "write its last day: until = 2027-06-30");
    if why.is_none() {
        read.wrong_with(item.span(), "this waiver does not say why", "write why = \"…\"");
    }
    Some(Waiver {
        what: what?,
        pattern: pattern?,
        why: why?,
        until: until?,
        by,
        place: read.place(item.span()),
    })
}
