//! Settings: from the tables of a stage's or group's file to settings bound to their fields.

use std::cell::RefCell;

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::{Cipher, holds_cipher, is_cipher};
use cledger_core::model::{
    Declaration, Entry, EntryRef, InstanceId, Kind, LayerId, LookUp, Note, Setting, SettingValue, Slot,
    SlotEntry, Source, Stray, StrayKind, Verdict,
};
use cledger_core::source::Place;
use cledger_core::value::{Held, Value};
use compact_str::CompactString;

use super::contract::Shared;
use super::frame::{In, Item};
use super::tables::{self, For};
use super::toml_table::{TomlKey, TomlTable};

/// The words of a table that is a setting and not a map.
const WORDS: [&str; 6] = ["value", "absent", "from", "looked_up", "why", "until"];

/// What a table of settings is bound to: fields by name, and the numbering of their slots.
pub(super) trait Binding {
    /// The entry with this name, and the slot of its first field. `from` is where the last one was found: most files
    /// name the entries in one order.
    fn entry(&self, name: &str, from: &mut usize) -> Option<(&Entry, u32)>;
    /// Whether it is there, but may not be set here.
    fn is_unused(&self, name: &str) -> bool;
    /// Whose settings they are.
    fn owner(&self, instance: Option<InstanceId>) -> Owner;
}

/// Reads one table of settings. `layer` and `instance` say where it stands.
pub(super) fn bind(
    read: In<'_>,
    table: &TomlTable<'_>,
    binding: &impl Binding,
    (layer, instance): (LayerId, Option<InstanceId>),
    strays: &mut Vec<Stray>,
) -> Vec<Setting> {
    let fields = table.values().map(|item| item.get_ref().as_table().map_or(1, TomlTable::len));
    let mut settings = Vec::with_capacity(fields.sum());
    let mut from = 0;
    let mut stray = |kind, key: &TomlKey<'_>| {
        let (name, place) = (key.get_ref().to_string(), read.place(key.span()));
        strays.push(Stray { layer, instance, kind, name, place });
    };
    for (key, item) in table {
        let Some((entry, first)) = binding.entry(key.get_ref(), &mut from) else {
            let unused = binding.is_unused(key.get_ref());
            stray(if unused { StrayKind::NotUsed } else { StrayKind::UnknownEntry }, key);
            continue;
        };
        if entry.kind == Kind::Variable {
            let address = || address(binding, instance, entry, &entry.fields[0]);
            settings.extend(field_setting(read, item, &entry.fields[0], Slot(first), (layer, &address)));
            continue;
        }
        if let Kind::Table { columns, key } = &entry.kind {
            let owner = binding.owner(instance);
            let table = For { owner, entry: &entry.name, layer: Some(layer), columns, key };
            settings.extend(table_setting(read, item, &table, Slot(first)));
            continue;
        }
        let Some(fields) = item.get_ref().as_table() else {
            stray(StrayKind::NotFields { entry: entry.name.clone() }, key);
            continue;
        };
        for (key, item) in fields {
            let Some(position) = entry.field(Some(key.get_ref())) else {
                stray(StrayKind::UnknownField { entry: entry.name.clone() }, key);
                continue;
            };
            let slot = Slot(first + u32::try_from(position).unwrap_or(u32::MAX));
            let address = || address(binding, instance, entry, &entry.fields[position]);
            settings.extend(field_setting(read, item, &entry.fields[position], slot, (layer, &address)));
        }
    }
    settings
}

/// What a setting says, how that stands to the declaration, and where the rows of a table stand.
type Said = (SettingValue, Verdict, Vec<(CompactString, Place)>);

/// The address of a setting, without its stage.
fn address(
    binding: &impl Binding,
    instance: Option<InstanceId>,
    entry: &Entry,
    declaration: &Declaration,
) -> String {
    Address::of_field(binding.owner(instance), &entry.name, declaration.name.as_ref(), None).to_string()
}

/// The setting of a field. A cipher text is bound to the layer and the address that it stands at.
fn field_setting(
    read: In<'_>,
    item: Item<'_, '_>,
    declaration: &Declaration,
    slot: Slot,
    (layer, address): (LayerId, &dyn Fn() -> String),
) -> Option<Setting> {
    let say = |item: Item<'_, '_>| {
        let value = read.value(item);
        if let Some(text) = value.as_text().filter(|text| is_cipher(text)) {
            let cipher = Cipher { text: text.into(), layer, address: address() };
            return Some((SettingValue::Cipher(Box::new(cipher)), Verdict::Open, Vec::new()));
        }
        if holds_cipher(&value) {
            let help = "encrypt all of it: cledger set ADDRESS --stdin";
            read.wrong_with(item.span(), "cipher text inside a list or map is never opened", help);
            return None;
        }
        let value = declaration.as_held(value);
        let verdict = declaration.judge(&value);
        Some((SettingValue::Value(Held::new(value, declaration.secret)), verdict, Vec::new()))
    };
    setting(read, item, slot, &say)
}

/// The setting of a lookup table: a CSV file's path, or rows by their keys.
fn table_setting(read: In<'_>, item: Item<'_, '_>, table: &For<'_>, slot: Slot) -> Option<Setting> {
    let say = |item: Item<'_, '_>| {
        let rows = tables::rows(read, item, table)?;
        let held = Held::new(Value::Map(rows.values), false);
        Some((SettingValue::Value(held), Verdict::Fits, rows.places))
    };
    let made = setting(read, item, slot, &say)?;
    if matches!(made.value, SettingValue::From(_)) {
        read.wrong_with(item.span(), "a table cannot be fetched", "name a CSV file in the ledger's folder");
        return None;
    }
    Some(made)
}

/// One setting: a plain value, or a table of the setting words.
fn setting(
    read: In<'_>,
    item: Item<'_, '_>,
    slot: Slot,
    say: &dyn Fn(Item<'_, '_>) -> Option<Said>,
) -> Option<Setting> {
    let place = read.place(item.span());
    let words = item
        .get_ref()
        .as_table()
        .filter(|table| !table.is_empty() && table.keys().all(|key| WORDS.contains(&key.get_ref().as_ref())));
    let Some(words) = words else {
        let (value, verdict, rows) = say(item)?;
        let note = (!rows.is_empty()).then(|| Box::new(Note { rows, ..Note::default() }));
        return Some(Setting { slot, value, verdict, place, note });
    };
    let mut note = Note::default();
    let mut found = Vec::new();
    for (key, item) in words {
        match key.get_ref().as_ref() {
            "value" => found.push(say(item)?),
            "absent" => match read.boolean(item, "`absent`") {
                Some(true) => found.push((SettingValue::Absent, Verdict::Fits, Vec::new())),
                Some(false) => {
                    let help = "write `absent = true`, or leave the setting out";
                    read.wrong_with(item.span(), "`absent` can only be true", help);
                    return None;
                }
                None => return None,
            },
            "from" => found.push((SettingValue::From(source(read, item)?), Verdict::Open, Vec::new())),
            "looked_up" => note.looked_up = look_up(read, item),
            "why" => note.why = read.text(item, "`why`").map(str::to_owned),
            _ => note.until = read.day(item, "`until`"),
        }
    }
    let (1, Some((value, verdict, rows))) = (found.len(), found.pop()) else {
        read.wrong_with(
            item.span(),
            "a setting in this form says exactly one of `value`, `absent = true` and `from`",
            "a map with such keys is written as `{ value = { … } }`",
        );
        return None;
    };
    note.rows = rows;
    let empty =
        note.why.is_none() && note.until.is_none() && note.looked_up.is_none() && note.rows.is_empty();
    Some(Setting { slot, value, verdict, place, note: (!empty).then(|| Box::new(note)) })
}

fn look_up(read: In<'_>, item: Item<'_, '_>) -> Option<LookUp> {
    let text = read.text(item, "`looked_up`")?;
    let parsed = LookUp::parse(text).map_err(|error| {
        let help = "write \"https://HOST/PATH#/NAME\", the name of an outlet, or \"OUTLET#/NAME\"";
        read.wrong_with(item.span(), error.to_string(), help);
    });
    parsed.ok()
}

fn source(read: In<'_>, item: Item<'_, '_>) -> Option<Source> {
    let text = read.text(item, "`from`")?;
    let known =
        ["env:", "file:"].iter().any(|start| text.strip_prefix(start).is_some_and(|rest| !rest.is_empty()));
    if !known && !text.starts_with("${") {
        let help = "write \"env:NAME\" for an environment variable or \"file:PATH\" for a file";
        read.wrong_with(item.span(), "`from` names neither a variable nor a file", help);
        return None;
    }
    Some(Source(text.into()))
}

impl Binding for Shared {
    fn entry(&self, name: &str, _from: &mut usize) -> Option<(&Entry, u32)> {
        let (entry, id) = self.find(name)?;
        Some((entry, self.slots.entries[usize::from(id.0)].first))
    }

    fn is_unused(&self, _name: &str) -> bool {
        false
    }

    fn owner(&self, _instance: Option<InstanceId>) -> Owner {
        Owner::Shared
    }
}

/// The fields of one unit.
pub(super) struct UnitBinding<'u> {
    pub(super) unit: &'u cledger_core::model::Unit,
    shared: &'u Shared,
    /// Which entry came next in the last file: at its start, and after each entry, counted from 1.
    after: RefCell<Vec<usize>>,
}

impl<'u> UnitBinding<'u> {
    pub(super) fn new(unit: &'u cledger_core::model::Unit, shared: &'u Shared) -> Self {
        let after = (0..=unit.slots.entries.len()).collect();
        Self { unit, shared, after: RefCell::new(after) }
    }

    fn entry_of(&self, slot: SlotEntry) -> &Entry {
        match slot.entry {
            EntryRef::Own(position) => &self.unit.entries[usize::from(position)],
            EntryRef::Shared(id) => &self.shared.entries[usize::from(id.0)],
        }
    }
}

impl Binding for UnitBinding<'_> {
    fn entry(&self, name: &str, from: &mut usize) -> Option<(&Entry, u32)> {
        let slots = &self.unit.slots.entries;
        let mut after = self.after.borrow_mut();
        let expected = after[*from];
        let is_it = |slot: &&SlotEntry| self.entry_of(**slot).name.as_str() == name;
        if let Some(slot) = slots.get(expected).filter(is_it) {
            *from = expected + 1;
            return Some((self.entry_of(*slot), slot.first));
        }
        let found = slots.binary_search_by(|slot| self.entry_of(*slot).name.as_str().cmp(name)).ok()?;
        after[*from] = found;
        *from = found + 1;
        Some((self.entry_of(slots[found]), slots[found].first))
    }

    fn is_unused(&self, name: &str) -> bool {
        self.shared.find(name).is_some()
    }

    fn owner(&self, instance: Option<InstanceId>) -> Owner {
        let instance = instance.map(|id| self.unit.instances[usize::from(id.0)].name.clone());
        Owner::Unit(self.unit.name.clone(), instance)
    }
}

/// The unit and instance that a settings key or file name names: `ticket-desk+kiosk`.
pub(super) fn split_key(key: &str) -> (&str, Option<&str>) {
    match key.split_once('+') {
        Some((unit, instance)) => (unit, Some(instance)),
        None => (key, None),
    }
}
