//! Whether what is said of shared entries stays the same when one of them, or a field of one, gets another name.

use std::cell::Cell;

use super::NewAddress;
use crate::address::{Address, Owner};
use crate::model::{Declaration, Entry, LayerSettings, Ledger, Setting, SettingValue, SharedId, Subject};
use crate::name::Name;
use crate::reference::{self, FieldName, Target};
use crate::value::Value;

/// Whether two ledgers say the same of shared entries, in their declarations and in the settings of all layers, but for
/// names: `renamed` gives the new address of an old one. Then a unit that reads as it did, and that refers only to such
/// units, keeps all its values. `false` says only that it does not show.
pub fn shared_says_the_same(before: &Ledger, after: &Ledger, renamed: NewAddress<'_>) -> bool {
    let both = Both { before, after, renamed };
    before.shared.len() == after.shared.len()
        && before.layers.len() == after.layers.len()
        && (0_u16..).zip(&before.shared).all(|(id, entry)| both.are_same(SharedId(id), entry))
}

/// Whether a name leads to a shared field afterwards, and led to none before.
fn is_new((before, after): (&Ledger, &Ledger), field: &FieldName) -> bool {
    let leads = |ledger: &Ledger| {
        let name = field.field.as_ref().map(Name::as_str);
        ledger.find_slot(Subject::Shared, field.entry.as_str(), name).is_ok()
    };
    leads(after) && !leads(before)
}

/// The settings of a shared entry in a layer.
fn of_layer(layer: &LayerSettings, id: SharedId) -> &[Setting] {
    layer.shared.get(usize::from(id.0)).map(Vec::as_slice).unwrap_or_default()
}

struct Both<'b, 'r> {
    before: &'b Ledger,
    after: &'b Ledger,
    renamed: NewAddress<'r>,
}

impl Both<'_, '_> {
    /// What a shared field is called afterwards.
    fn name_after(&self, entry: &Name, field: Option<&Name>) -> Option<(Name, Option<Name>)> {
        let address = (self.renamed)(&Address::of_field(Owner::Shared, entry, field, None));
        Some((address.entry?, address.field))
    }

    fn are_same(&self, id: SharedId, entry: &Entry) -> bool {
        let first = entry.fields.first().and_then(|field| self.name_after(&entry.name, field.name.as_ref()));
        let Some(now) = first.and_then(|(name, _)| self.after.shared_id(name.as_str())) else { return false };
        let other = self.after.shared_entry(now);
        if entry.kind != other.kind || entry.fields.len() != other.fields.len() {
            return false;
        }
        // Where each of its fields is afterwards.
        let mut positions = Vec::with_capacity(entry.fields.len());
        for field in &entry.fields {
            let after = self.name_after(&entry.name, field.name.as_ref());
            let position = after.and_then(|(_, name)| other.field(name.as_ref().map(Name::as_str)));
            let Some(position) = position.filter(|&at| self.are_declared_the_same(field, &other.fields[at]))
            else {
                return false;
            };
            positions.push(position);
        }
        self.before.layers.iter().zip(&self.after.layers).all(|(before, after)| {
            self.are_set_the_same(of_layer(before, id), of_layer(after, now), &positions)
        })
    }

    fn are_declared_the_same(&self, one: &Declaration, other: &Declaration) -> bool {
        let same_default = match (&one.default, &other.default) {
            (None, None) => true,
            (Some(one), Some(other)) => {
                one.verdict == other.verdict
                    && one.value.is_secret() == other.value.is_secret()
                    && self.are_same_values(one.value.expose(), other.value.expose())
            }
            _ => false,
        };
        let mut renamed = one.clone();
        renamed.name.clone_from(&other.name);
        same_default && renamed.reads_as(other)
    }

    /// Whether two lists of settings of one entry say the same; `positions` are those of the fields afterwards.
    fn are_set_the_same(&self, before: &[Setting], after: &[Setting], positions: &[usize]) -> bool {
        let in_after = |setting: &Setting| {
            let position = *positions.get(setting.slot.0 as usize)?;
            after.iter().find(|other| other.slot.0 as usize == position)
        };
        before.len() == after.len()
            && before.iter().all(|one| {
                in_after(one)
                    .is_some_and(|other| one.verdict == other.verdict && self.say_the_same(one, other))
            })
    }

    fn say_the_same(&self, one: &Setting, other: &Setting) -> bool {
        match (&one.value, &other.value) {
            (SettingValue::Absent, SettingValue::Absent) => true,
            (SettingValue::From(one), SettingValue::From(other)) => self.is_same_text(&one.0, &other.0),
            (SettingValue::Cipher(one), SettingValue::Cipher(other)) => one == other,
            (SettingValue::Value(one), SettingValue::Value(other)) => {
                one.is_secret() == other.is_secret() && self.are_same_values(one.expose(), other.expose())
            }
            _ => false,
        }
    }

    fn are_same_values(&self, one: &Value, other: &Value) -> bool {
        one.is_same_by(other, &mut |one, other| self.is_same_text(one, other))
    }

    /// Whether a shared text is the other one once its references have the new names, and names nothing that is new.
    fn is_same_text(&self, one: &str, other: &str) -> bool {
        let names_new = Cell::new(false);
        let field_after = |field: FieldName| {
            names_new.set(names_new.get() || is_new((self.before, self.after), &field));
            let after = self.name_after(&field.entry, field.field.as_ref());
            after.map(|(entry, name)| FieldName { entry, field: name, stage: field.stage })
        };
        let now = reference::rewrite(one, |target| match target {
            Target::Own(field) => field_after(field).map(Target::Own),
            Target::OfShared(field) => field_after(field).map(Target::OfShared),
            _ => None,
        });
        now.as_deref().unwrap_or(one) == other && !names_new.get()
    }
}
