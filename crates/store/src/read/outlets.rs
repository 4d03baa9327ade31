//! The outlets of `ledger.toml`.

use std::time::Duration;

use cledger_core::model::{Outlet, OutletKind, Stage, StageText};
use cledger_core::types::duration;
use toml::de::DeTable;
use wildmatch::WildMatch;

use super::contract::belongs;
use super::frame::{In, Item};
use super::outputs::stage_text;

/// What can be said of an outlet.
const KEYS: [&str; 8] = ["name", "kind", "stages", "units", "keep", "timeout", "path", "pid_file"];

/// How long an outlet may take to answer where nothing is said.
const TIMEOUT: Duration = Duration::from_secs(10);

/// Reads the outlets, each with a name of its own.
pub(super) fn outlets(read: In<'_>, table: &DeTable<'_>, stages: &[Stage]) -> Vec<Outlet> {
    let mut outlets: Vec<Outlet> = Vec::new();
    for item in table.get("outlet").map(|item| read.list(item, "`outlet`")).unwrap_or_default() {
        let Some(table) = read.table(item, "an outlet") else { continue };
        let Some(outlet) = outlet(read, item, table, stages) else { continue };
        if outlets.iter().any(|known| known.name == outlet.name) {
            read.wrong(item.span(), format!("there is an outlet `{}` already", outlet.name));
        }
        outlets.push(outlet);
    }
    outlets
}

fn outlet(read: In<'_>, item: Item<'_, '_>, table: &DeTable<'_>, stages: &[Stage]) -> Option<Outlet> {
    let mut name = None;
    let mut covered = Vec::new();
    let (mut units, mut keep, mut timeout) = (Vec::new(), Vec::new(), Some(TIMEOUT));
    let (mut path, mut pid_file) = (None::<StageText>, None::<StageText>);
    let mut kind = None;
    read.keys(table, &KEYS, |key, item| match key {
        "name" => {
            let text = read.text(item, "an outlet's name");
            name = text.and_then(|text| read.name_text(text, item.span(), "an outlet", false));
        }
        "kind" => kind = read.choice(item, "the kind", &OutletKind::NAMES.map(|name| (name, name))),
        "stages" => covered = belongs(read, item, stages),
        "units" => {
            let texts = read.texts(item, "`units`").into_iter();
            units = texts.filter_map(|(text, span)| read.pattern(text, span)).collect();
        }
        "keep" => {
            let texts = read.texts(item, "`keep`").into_iter();
            keep = texts.map(|(text, _)| WildMatch::new(text)).collect();
        }
        "timeout" => timeout = self::timeout(read, item),
        "path" => path = stage_text(read, item, "`path`").map(|(text, _)| text),
        _ => pid_file = stage_text(read, item, "`pid_file`").map(|(text, _)| text),
    });
    for (key, help) in [
        ("name", "write name = \"…\""),
        ("kind", "write kind = \"directory\" or \"process\""),
        ("stages", "write stages = [\"…\"], with patterns of stage names"),
    ] {
        if !table.contains_key(key) {
            read.wrong_with(item.span(), format!("this outlet has no `{key}`"), help);
        }
    }
    let kind = kind?;
    let (wanted, other) = if kind == "process" { ("pid_file", "path") } else { ("path", "pid_file") };
    if !table.contains_key(wanted) {
        read.wrong(item.span(), format!("an outlet of kind \"{kind}\" needs a `{wanted}`"));
    }
    if let Some(item) = table.get(other) {
        read.wrong(item.span(), format!("`{other}` means nothing in an outlet of kind \"{kind}\""));
    }
    let kind = match kind {
        "process" => OutletKind::Process { pid_file: pid_file? },
        _ => OutletKind::Directory { path: path? },
    };
    covered.resize(stages.len(), false);
    let place = read.place(table.get("name").map_or(item.span(), toml::Spanned::span));
    Some(Outlet { name: name?, stages: covered, units, keep, timeout: timeout?, kind, place })
}

fn timeout(read: In<'_>, item: Item<'_, '_>) -> Option<Duration> {
    let found = read.value(item).as_text().and_then(duration);
    let fits = found.filter(|found| (100..=600_000).contains(&found.as_millis()));
    if fits.is_none() {
        read.wrong_with(item.span(), "`timeout` must be a duration from 100ms to 10m", "write \"10s\"");
    }
    fits
}
