//! The texts of a ledger in which references may stand, wherever they are written.

use std::collections::BTreeSet;

use super::{Declaration, Default, Entry, Ledger, Setting, SettingValue, SharedId, Unit, Verdict};
use crate::reference::{Piece, Target, pieces};
use crate::value::Value;

impl Unit {
    /// Tells what the texts of the unit refer to: its defaults, and its settings in all layers.
    pub fn each_target(&self, tell: &mut dyn FnMut(Target)) {
        self.each_reference(&mut |inside| read(inside, tell));
    }

    /// The same as it stands between `${` and `}`, whether it names something or not.
    pub fn each_reference<'t>(&'t self, tell: &mut dyn FnMut(&'t str)) {
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

impl Unit {
    /// The same of its defaults alone.
    pub fn each_declared_target(&self, tell: &mut dyn FnMut(Target)) {
        self.own_fields().for_each(|(_, field)| of_default(field, &mut |inside| read(inside, tell)));
    }
}

impl Entry {
    /// Tells what the defaults of the entry refer to.
    pub fn each_declared_target(&self, tell: &mut dyn FnMut(Target)) {
        self.fields.iter().for_each(|field| of_default(field, &mut |inside| read(inside, tell)));
    }
}

impl Ledger {
    /// Tells what the texts of a shared entry refer to.
    pub fn each_target_of_shared(&self, id: SharedId, tell: &mut dyn FnMut(Target)) {
        self.shared_entry(id).each_declared_target(tell);
        let settings = self.layers.iter().filter_map(|layer| layer.shared.get(usize::from(id.0))).flatten();
        settings.for_each(|setting| of_setting(setting, &mut |inside| read(inside, tell)));
    }

    /// The shared entries that count: those that a unit uses, and those that they are made of in turn.
    pub fn used_shared(&self) -> BTreeSet<SharedId> {
        let mut used: BTreeSet<SharedId> =
            self.units.iter().flat_map(|unit| unit.uses.iter().copied()).collect();
        let mut open: Vec<SharedId> = used.iter().copied().collect();
        while let Some(id) = open.pop() {
            self.each_target_of_shared(id, &mut |target| {
                if let Target::Own(field) | Target::OfShared(field) = target
                    && let Some(id) = self.shared_id(field.entry.as_str())
                    && used.insert(id)
                {
                    open.push(id);
                }
            });
        }
        used
    }
}

fn read(inside: &str, tell: &mut dyn FnMut(Target)) {
    if let Ok(target) = Target::parse(inside) {
        tell(target);
    }
}

fn of_default<'t>(field: &'t Declaration, tell: &mut dyn FnMut(&'t str)) {
    if let Some(Default { value, verdict, .. }) = &field.default
        && may_refer(value.expose(), *verdict)
    {
        of_value(value.expose(), tell);
    }
}

fn of_setting<'t>(setting: &'t Setting, tell: &mut dyn FnMut(&'t str)) {
    match &setting.value {
        SettingValue::Value(held) if may_refer(held.expose(), setting.verdict) => {
            of_value(held.expose(), tell);
        }
        SettingValue::From(source) => of_text(&source.0, tell),
        SettingValue::Value(_) | SettingValue::Absent | SettingValue::Cipher(_) => {}
    }
}

/// Whether texts in a value count as references: those in rows of lookup tables do, whatever else is in these.
fn may_refer(value: &Value, verdict: Verdict) -> bool {
    verdict == Verdict::Open || verdict == Verdict::Fits && matches!(value, Value::Map(_))
}

fn of_value<'t>(value: &'t Value, tell: &mut dyn FnMut(&'t str)) {
    match value {
        Value::Text(text) => of_text(text, tell),
        Value::List(items) => items.iter().for_each(|item| of_value(item, tell)),
        Value::Map(map) => map.values().for_each(|item| of_value(item, tell)),
        _ => {}
    }
}

fn of_text<'t>(text: &'t str, tell: &mut dyn FnMut(&'t str)) {
    for piece in pieces(text) {
        if let Piece::Reference(inside) = piece {
            tell(inside);
        }
    }
}
