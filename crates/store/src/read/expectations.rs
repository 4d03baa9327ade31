//! `[[probe]]` of a contract: what is expected of its connections and endpoints.

use cledger_core::model::{Answer, Entry, Expectation, Expected, Kind, Stage, StageText};
use cledger_core::name::{Name, nearest};

use super::frame::{In, Item};
use super::outputs::stage_text;
use super::stages::some_stages;
use super::toml_table::TomlValue;
use crate::vocabulary::{PROBE, names};

const KEYS: [&str; PROBE.len()] = names(&PROBE);

/// What a contract expects, of the entries that its unit has.
pub(super) fn expectations(
    read: In<'_>,
    item: Item<'_, '_>,
    (entries, stages): (&[&Entry], &[Stage]),
) -> Vec<Expectation> {
    let mut all: Vec<Expectation> = Vec::new();
    for item in read.list(item, "`probe`") {
        let Some(expectation) = expectation(read, item, (entries, stages)) else { continue };
        if all.iter().any(|known| known.name == expectation.name) {
            read.wrong(item.span(), format!("there is a probe `{}` already", expectation.name));
        }
        let same = all.iter().find(|known| {
            let is_apart =
                || known.stages.iter().zip(&expectation.stages).any(|(one, other)| !one.meets(other));
            known.entry == expectation.entry
                && known.is_of_entry()
                && expectation.is_of_entry()
                && !is_apart()
        });
        if let Some(same) = same {
            let message =
                format!("probe `{}` says what is expected of `{}` already", same.name, expectation.entry);
            read.wrong_with(item.span(), message, "give each of them stages of its own, or make them one");
        }
        all.push(expectation);
    }
    all
}

fn expectation(
    read: In<'_>,
    item: Item<'_, '_>,
    (entries, stages): (&[&Entry], &[Stage]),
) -> Option<Expectation> {
    let table = read.table(item, "a probe")?;
    let (mut name, mut entry) = (None, None);
    let (mut path, mut here, mut text, mut login) = (None, None, None, true);
    let mut expect = vec![Expected::Answer(Answer::Answers)];
    read.keys(table, &KEYS, |key, item| match key {
        "name" => {
            let text = read.text(item, "`name`");
            name = text.and_then(|text| read.name_text(text, item.span(), "a probe", false));
        }
        "entry" => entry = service(read, item, entries),
        "path" => path = page(read, item),
        "stages" => here = Some(some_stages(read, item, stages)),
        "expect" => expect = expected(read, item),
        "text" => text = read.text(item, "`text`").map(str::to_owned),
        _ => login = read.boolean(item, "`login`").unwrap_or(true),
    });
    for (key, help) in [("name", "write name = \"…\""), ("entry", "write entry = \"…\"")] {
        if !table.contains_key(key) {
            read.wrong_with(item.span(), format!("this probe has no `{key}`"), help);
        }
    }
    if text.as_ref().is_some_and(String::is_empty) {
        read.wrong(item.span(), "every page holds an empty `text`");
    }
    let (entry, is_endpoint) = entry?;
    let place = read.place(item.span());
    let expectation = Expectation { name: name?, entry, path, stages: here, expect, text, login, place };
    if expectation.is_of_page() && !is_endpoint {
        let message = format!("`{}` is no endpoint, and has no pages", expectation.entry);
        read.wrong_with(item.span(), message, "leave out path, text, login and statuses");
    }
    Some(expectation)
}

/// A connection or endpoint that the unit has, and whether it is an endpoint.
fn service(read: In<'_>, item: Item<'_, '_>, entries: &[&Entry]) -> Option<(Name, bool)> {
    let text = read.text(item, "`entry`")?;
    let is_service = |entry: &&&Entry| matches!(entry.kind, Kind::Connection { .. } | Kind::Endpoint);
    let Some(entry) = entries.iter().find(|entry| entry.name.as_str() == text) else {
        let near = nearest(text, entries.iter().filter(is_service).map(|entry| entry.name.as_str()));
        let help = near.map_or_else(
            || "name a connection or an endpoint of this contract, or one that it uses".to_owned(),
            |near| format!("did you mean \"{near}\"?"),
        );
        read.wrong_with(item.span(), format!("the unit has no entry `{text}`"), help);
        return None;
    };
    if !is_service(&entry) {
        let message = format!("`{text}` is neither a connection nor an endpoint: nothing answers there");
        read.wrong(item.span(), message);
        return None;
    }
    Some((entry.name.clone(), matches!(entry.kind, Kind::Endpoint)))
}

/// A page below an address.
fn page(read: In<'_>, item: Item<'_, '_>) -> Option<StageText> {
    let (path, span) = stage_text(read, item, "`path`")?;
    let written = path.as_written();
    let is_path = !written.contains("://")
        && !written.contains(|c: char| c.is_whitespace() || c.is_control())
        && !written.split('/').any(|step| step == "..");
    if !is_path {
        read.wrong_with(
            span,
            format!("`{written}` is no page below an address"),
            "write path = \"debug/vars\"",
        );
        return None;
    }
    Some(path)
}

/// What is to come back: a word or a status, or a list of them.
fn expected(read: In<'_>, item: Item<'_, '_>) -> Vec<Expected> {
    let texts = match item.get_ref() {
        TomlValue::String(text) => vec![(&**text, item.span())],
        TomlValue::Array(_) => read.texts(item, "`expect`"),
        _ => {
            read.expected(item, "`expect`", "text in quotes, or a list of texts");
            return Vec::new();
        }
    };
    if texts.is_empty() {
        read.wrong(item.span(), "`expect` is empty: nothing would be right");
    }
    let mut all = Vec::new();
    for (text, span) in texts {
        match Expected::parse(text) {
            Ok(expected) => all.push(expected),
            Err(error) => {
                let words: Vec<&str> = Expected::words().collect();
                let help = format!("write {}, or a status such as 404", words.join(", "));
                read.wrong_with(span, error.to_string(), help);
            }
        }
    }
    all
}
