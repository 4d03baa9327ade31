//! Lookup tables: the one sort of value that is merged, row by row.

use std::collections::BTreeMap;

use compact_str::CompactString;

use super::{FieldId, Layer, Origin, Resolver, Session, default_counts};
use crate::model::{Ledger, Setting, SettingValue, Subject};
use crate::source::Place;
use crate::value::Value;

/// A row that a table ends up with.
#[derive(Debug, Clone)]
pub struct EffectiveRow<'l> {
    /// Its cells, by column.
    pub cells: &'l Value,
    /// Where it came from.
    pub origin: Origin,
    /// Whether it stands in a shared entry's declaration or under `[shared]`.
    pub(super) shared_text: bool,
}

/// What all layers together make of a table.
#[derive(Debug, Default)]
pub struct Merged<'l> {
    /// The rows, by key.
    pub rows: BTreeMap<CompactString, EffectiveRow<'l>>,
    /// Where the strongest of them came from.
    pub origin: Option<Origin>,
    /// Whether the strongest layer says that there is none.
    pub absent: bool,
    /// Where everything stands that has a part in it.
    pub parts: Vec<Place>,
}

impl<'l> Merged<'l> {
    fn add(
        &mut self,
        value: &'l Value,
        places: &[(CompactString, Place)],
        layer: Layer,
        whole: Option<Place>,
        shared_text: bool,
    ) {
        let Value::Map(rows) = value else { return };
        self.absent = false;
        self.origin = Some(Origin { layer, place: whole });
        self.parts.extend(whole);
        for (key, cells) in rows {
            let found = places.binary_search_by(|(known, _)| known.cmp(key));
            let place = found.map_or(whole, |at| Some(places[at].1));
            match cells {
                Value::Map(_) => {
                    let row = EffectiveRow { cells, origin: Origin { layer, place }, shared_text };
                    self.rows.insert(key.clone(), row);
                }
                _ => drop(self.rows.remove(key)),
            }
        }
    }

    /// The rows as one value, with their references as they are written.
    pub fn written(&self) -> Value {
        Value::Map(self.rows.iter().map(|(key, row)| (key.clone(), row.cells.clone())).collect())
    }
}

impl<'l> Resolver<'l> {
    /// Merges the rows of a lookup table, from the weakest layer to the strongest.
    pub fn rows(&self, field: FieldId) -> Merged<'l> {
        let ledger = self.ledger();
        let FieldId { subject, stage, slot } = field;
        let (_, declaration) = ledger.field(subject, slot);
        let entry = ledger.slots(subject).entry_of(slot).0.entry;
        let mut merged = Merged::default();
        if let Some(default) = &declaration.default
            && default_counts(declaration, ledger.stage(stage).class)
        {
            let shared = subject == Subject::Shared || entry.shared().is_some();
            merged.add(default.value.expose(), &declaration.rows, Layer::Default, default.place, shared);
        }
        for link in self.chain(stage) {
            for (whose, setting) in settings_of(ledger, link.layer, field) {
                if !self.counts(link, field, whose) {
                    continue;
                }
                match &setting.value {
                    SettingValue::Value(held) => {
                        let places =
                            setting.note.as_ref().map(|note| note.rows.as_slice()).unwrap_or_default();
                        let shared = whose == Subject::Shared;
                        merged.add(held.expose(), places, link.origin, Some(setting.place), shared);
                    }
                    SettingValue::Absent => {
                        let origin = Some(Origin { layer: link.origin, place: Some(setting.place) });
                        let parts = vec![setting.place];
                        merged = Merged { rows: BTreeMap::new(), origin, absent: true, parts };
                    }
                    SettingValue::From(_) | SettingValue::Cipher(_) => {}
                }
            }
        }
        merged
    }
}

impl<'l> Session<'_, 'l> {
    /// The rows of a lookup table and their origins, with references as they are written.
    pub fn rows(&self, field: FieldId) -> Merged<'l> {
        self.resolver.rows(field)
    }
}

/// What a layer says of a field: for the shared entry, the unit and the instance, in this order.
fn settings_of(
    ledger: &Ledger,
    layer: crate::model::LayerId,
    field: FieldId,
) -> impl Iterator<Item = (Subject, &Setting)> {
    let FieldId { subject, slot, .. } = field;
    let of_shared = ledger.shared_slot(subject, slot).map(|slot| (Subject::Shared, slot));
    let (of_unit, of_instance) = match subject {
        Subject::Shared => (None, None),
        Subject::Unit(unit, instance) => {
            (Some((Subject::Unit(unit, None), slot)), instance.map(|_| (subject, slot)))
        }
    };
    of_shared
        .into_iter()
        .chain(of_unit)
        .chain(of_instance)
        .filter_map(move |(whose, slot)| Some((whose, ledger.setting_at(layer, whose, slot)?)))
}
