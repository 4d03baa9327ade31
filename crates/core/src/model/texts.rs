//! The texts of a ledger in which references may stand, wherever they are written.

use super::{Declaration, Ledger, Setting, SettingValue, Unit, Verdict};
use crate::reference::{Piece, Target, pieces};
use crate::value::Value;

impl Unit {
    /// Tells what the texts of the unit refer to: its defaults, and its settings in all layers.
    pub fn each_target(&self, tell: &mut dyn FnMut(Target)) {
        self.own_fields().for_each(|(_, field)| of_default(field, tell));
        for layer in &self.settings {
            let instances = layer.instances.iter().map(|(.., settings)| settings);
            std::iter::once(&layer.unit)
                .chain(instances)
                .flatten()
                .for_each(|setting| of_setting(setting, tell));
        }
    }
}

impl Ledger {
    /// The same of all shared entries.
    pub fn each_shared_target(&self, tell: &mut dyn FnMut(Target)) {
        self.shared.iter().flat_map(|entry| &entry.fields).for_each(|field| of_default(field, tell));
        let settings = self.layers.iter().flat_map(|layer| layer.shared.iter().flatten());
        settings.for_each(|setting| of_setting(setting, tell));
    }
}

fn of_default(field: &Declaration, tell: &mut dyn FnMut(Target)) {
    if let Some(default) = field.default.as_ref().filter(|default| default.verdict == Verdict::Open) {
        of_value(default.value.expose(), tell);
    }
}

fn of_setting(setting: &Setting, tell: &mut dyn FnMut(Target)) {
    match &setting.value {
        SettingValue::Value(held) if setting.verdict == Verdict::Open => of_value(held.expose(), tell),
        SettingValue::From(source) => of_text(&source.0, tell),
        SettingValue::Value(_) | SettingValue::Absent | SettingValue::Cipher(_) => {}
    }
}

fn of_value(value: &Value, tell: &mut dyn FnMut(Target)) {
    match value {
        Value::Text(text) => of_text(text, tell),
        Value::List(items) => items.iter().for_each(|item| of_value(item, tell)),
        Value::Map(map) => map.values().for_each(|item| of_value(item, tell)),
        _ => {}
    }
}

fn of_text(text: &str, tell: &mut dyn FnMut(Target)) {
    for piece in pieces(text) {
        if let Piece::Reference(inside) = piece
            && let Ok(target) = Target::parse(inside)
        {
            tell(target);
        }
    }
}
