//! The bundles of `ledger.toml`.

use cledger_core::address::Pattern;
use cledger_core::model::Bundle;

use super::frame::{In, Item};
use super::toml_table::TomlTable;
use crate::vocabulary::{BUNDLE, names};

/// Reads the bundles, each with a name of its own.
pub(super) fn bundles(read: In<'_>, table: &TomlTable<'_>) -> Vec<Bundle> {
    let mut bundles: Vec<Bundle> = Vec::new();
    for item in table.get("bundle").map(|item| read.list(item, "`bundle`")).unwrap_or_default() {
        let Some(bundle) = bundle(read, item) else { continue };
        if bundles.iter().any(|known| known.name == bundle.name) {
            read.wrong(item.span(), format!("there is a bundle `{}` already", bundle.name));
        }
        bundles.push(bundle);
    }
    bundles
}

fn bundle(read: In<'_>, item: Item<'_, '_>) -> Option<Bundle> {
    let table = read.table(item, "a bundle")?;
    let (mut name, mut units) = (None, Vec::new());
    let (mut version, mut about) = (None, None);
    read.keys(table, &names(&BUNDLE), |key, item| match key {
        "name" => {
            let text = read.text(item, "a bundle's name");
            let named = text.and_then(|text| read.name_text(text, item.span(), "a bundle", false));
            name = named.map(|name| (name, item.span()));
        }
        "units" => {
            let texts = read.texts(item, "`units`").into_iter();
            units = texts.filter_map(|text| members(read, text)).collect();
        }
        "version" => version = read.text(item, "`version`").map(str::to_owned),
        _ => about = read.text(item, "`about`").map(str::to_owned),
    });
    if !table.contains_key("name") {
        read.wrong(item.span(), "this bundle has no `name`");
    }
    let lacks_units = table.get("units").is_none_or(|item| item.get_ref().is_array() && units.is_empty());
    let (name, span) = name?;
    if lacks_units {
        let help = "write units = [\"UNIT\", …], with units or patterns of units";
        read.wrong_with(span.clone(), format!("bundle `{name}` has no units"), help);
    }
    Some(Bundle { name, units, version, about, place: read.place(span) })
}

/// A pattern of units and instances.
fn members(read: In<'_>, (text, span): (&str, std::ops::Range<usize>)) -> Option<Pattern> {
    let pattern = read.pattern(text, span.clone())?;
    if !pattern.has_owner() || pattern.has_entry() || pattern.has_stage() {
        read.wrong_with(
            span,
            format!("`{text}` is no pattern of units"),
            "write UNIT, UNIT+INSTANCE or a pattern of these",
        );
        return None;
    }
    Some(pattern)
}
