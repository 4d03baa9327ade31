//! Which hosts and databases the stages have in their own settings.

use std::sync::OnceLock;

use rustc_hash::FxHashSet;

use super::spots::{Learned, Sighting};
use crate::model::{
    Class, Declaration, Entry, Kind, LayerId, Ledger, Setting, SettingValue, Slot, StageId, Subject, UnitId,
};
use crate::resolve::FieldId;
use crate::source::Place;
use crate::types::Type;
use crate::value::{Held, Value};

/// A setting of a stage of its own.
pub(super) struct Written<'l> {
    pub(super) field_id: FieldId,
    pub(super) entry: &'l Entry,
    pub(super) field: &'l Declaration,
    pub(super) value: &'l Value,
    pub(super) place: Place,
}

impl Written<'_> {
    /// Whether its text is a host or has one where a URL has it.
    pub(super) fn names_hosts(&self) -> bool {
        matches!(self.field.this_type, Type::Host | Type::Url) || self.names_brokers()
    }

    fn names_brokers(&self) -> bool {
        self.is_field_of_connection("brokers")
    }

    /// Whether its text is the name of a database. It is known to belong to a stage if it has that
    /// stage's name as a part, as `tides_test` has.
    pub(super) fn names_database(&self) -> bool {
        self.is_field_of_connection("database")
    }

    /// Whether its value may have the name of a host or of a database in it.
    fn may_name(&self) -> bool {
        fn has_host(value: &Value) -> bool {
            match value {
                Value::Text(text) => may_have_host(text),
                Value::List(items) => items.iter().any(has_host),
                Value::Map(map) => map.values().any(has_host),
                _ => false,
            }
        }
        has_host(self.value) || self.names_hosts() || self.names_database()
    }

    /// Whether it says the same of the same field as one of another ledger, in which stages have the same numbers.
    pub(super) fn is_same_in(&self, ledger: &Ledger, other: &Written<'_>, others: &Ledger) -> bool {
        let subjects = (self.field_id.subject, other.field_id.subject);
        self.field_id.stage == other.field_id.stage
            && ledger.owner(subjects.0) == others.owner(subjects.1)
            && (&self.entry.name, &self.entry.kind) == (&other.entry.name, &other.entry.kind)
            && (&self.field.name, self.field.this_type) == (&other.field.name, other.field.this_type)
            && self.field.distinct == other.field.distinct
            && self.value == other.value
    }

    fn is_field_of_connection(&self, wanted: &str) -> bool {
        matches!(self.entry.kind, Kind::Connection { .. })
            && self.field.name.as_ref().is_some_and(|name| name.as_str() == wanted)
    }
}

/// A host or database that a stage names in a setting of its own.
pub(super) struct Host<'l> {
    pub(super) name: &'l str,
    pub(super) stage: StageId,
    pub(super) place: Place,
    pub(super) learned: Learned<'l>,
}

/// The hosts that stages of class development have in their own settings.
#[derive(Default)]
pub(super) struct DevelopmentHosts(OnceLock<FxHashSet<String>>);

impl DevelopmentHosts {
    fn has(&self, ledger: &Ledger, host: &str) -> bool {
        let of_development = |written: &Written<'_>| {
            ledger.stage(written.field_id.stage).class == Class::Development && written.names_hosts()
        };
        let hosts = self.0.get_or_init(|| {
            let units = ledger.unit_ids().flat_map(|unit| unit_settings(ledger, unit));
            let all = shared_settings(ledger).into_iter().chain(units).filter(of_development);
            let mut hosts = FxHashSet::default();
            all.for_each(|written| hosts.extend(hosts_of(ledger, &written).map(|host| host.name.to_owned())));
            hosts
        });
        hosts.contains(host)
    }
}

/// Whether a host or URL names this very machine, or what belongs to development.
pub(super) fn is_for_development(
    hosts: &DevelopmentHosts,
    ledger: &Ledger,
    value: &Value,
    this: Type,
) -> bool {
    let Some(text) = value.as_text() else { return false };
    let host = if this == Type::Host { text } else { Sighting::in_url(text).host };
    is_local(host) || hosts.has(ledger, host)
}

/// The settings of shared entries that a stage has of its own, as far as they may name a host or a database.
pub(super) fn shared_settings(ledger: &Ledger) -> Vec<Written<'_>> {
    let mut found = Vec::new();
    for stage in ledger.stage_ids() {
        let settings = &ledger.layer(LayerId::Stage(stage)).shared;
        for ((entry, settings), known) in ledger.shared.iter().zip(settings).zip(&ledger.shared_slots.entries)
        {
            for setting in settings {
                let field = &entry.fields[setting.slot.0 as usize];
                let slot = Slot(known.first + setting.slot.0);
                let id = FieldId { subject: Subject::Shared, stage, slot };
                found.extend(written(id, (entry, field), setting).filter(Written::may_name));
            }
        }
    }
    found
}

/// The same of a unit and its instances.
pub(super) fn unit_settings(ledger: &Ledger, id: UnitId) -> Vec<Written<'_>> {
    let unit = ledger.unit(id);
    let mut found = Vec::new();
    for stage in ledger.stage_ids() {
        let settings = ledger.unit_layer(unit, LayerId::Stage(stage));
        let instances = settings.instances.iter().map(|(instance, _, list)| (Some(*instance), list));
        for (instance, list) in std::iter::once((None, &settings.unit)).chain(instances) {
            let subject = Subject::Unit(id, instance);
            for setting in list.iter().filter(|setting| has_text(setting)) {
                let field = FieldId { subject, stage, slot: setting.slot };
                let declared = ledger.field(subject, setting.slot);
                found.extend(written(field, declared, setting).filter(Written::may_name));
            }
        }
    }
    found
}

/// Whether a setting's value has text, as far as that is cheap to tell.
fn has_text(setting: &Setting) -> bool {
    let is_text = |value: &Value| matches!(value, Value::Text(_) | Value::List(_) | Value::Map(_));
    matches!(&setting.value, SettingValue::Value(Held::Open(value)) if is_text(value))
}

/// Whether a text may have a host in it where none is meant: with a dot, or before a port.
pub(super) fn may_have_host(text: &str) -> bool {
    memchr::memchr2(b'.', b':', text.as_bytes()).is_some()
}

/// A setting whose text may be looked at: secrets are none of anybody's business here.
fn written<'l>(
    field_id: FieldId,
    (entry, field): (&'l Entry, &'l Declaration),
    setting: &'l Setting,
) -> Option<Written<'l>> {
    match &setting.value {
        SettingValue::Value(Held::Open(value)) if !field.secret => {
            let place = setting.place;
            Some(Written { field_id, entry, field, value, place })
        }
        _ => None,
    }
}

/// The hosts and databases that a setting names, but for local ones and those that depend on references.
pub(super) fn hosts_of<'l>(ledger: &Ledger, written: &Written<'l>) -> impl Iterator<Item = Host<'l>> {
    let values = match written.value {
        Value::List(items) => items,
        one => std::slice::from_ref(one),
    };
    values.iter().filter_map(Value::as_text).filter_map(|text| host_in(ledger, written, text))
}

fn host_in<'l>(ledger: &Ledger, written: &Written<'l>, text: &'l str) -> Option<Host<'l>> {
    let (stage, place) = (written.field_id.stage, written.place);
    if written.names_database() {
        let is_of_stage = has_part(text, ledger.stage(stage).name.as_str());
        return is_of_stage.then_some(Host { name: text, stage, place, learned: Learned::Database });
    }
    if !written.names_hosts() {
        return None;
    }
    let (name, learned) = if written.field.this_type == Type::Host {
        (text, Learned::Field(written.field_id))
    } else {
        let seen = Sighting::in_url(text);
        (seen.host, Learned::Text(seen))
    };
    let plain = !name.is_empty() && !name.contains("${") && !is_local(name);
    plain.then_some(Host { name, stage, place, learned })
}

/// Whether a name has another as a part of it, as `tides_test` has `test`.
pub(super) fn has_part(name: &str, part: &str) -> bool {
    let is_edge = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric());
    name.match_indices(part).any(|(at, _)| {
        is_edge(name[..at].chars().next_back()) && is_edge(name[at + part.len()..].chars().next())
    })
}

fn is_local(host: &str) -> bool {
    matches!(host, "localhost" | "::1" | "0.0.0.0" | "::")
        || host.starts_with("127.")
        || host.ends_with(".localhost")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn this_very_machine_has_many_names() {
        for (host, local) in [
            ("localhost", true),
            ("127.0.0.9", true),
            ("::1", true),
            ("db.localhost", true),
            ("db.local.example", false),
        ] {
            assert_eq!(is_local(host), local, "{host}");
        }
    }

    #[test]
    fn a_part_of_a_name_stands_between_other_signs() {
        for (name, part, has) in [
            ("tides_test", "test", true),
            ("test", "test", true),
            ("db.prod-north.example", "prod-north", true),
            ("contest.test", "test", true),
            ("contest", "test", false),
            ("tests", "test", false),
        ] {
            assert_eq!(has_part(name, part), has, "{name} {part}");
        }
    }
}
