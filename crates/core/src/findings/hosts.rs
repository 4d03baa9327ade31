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
            all.flat_map(|written| hosts_of(ledger, &written)).map(|host| host.name.to_owned()).collect()
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
                found.extend(written(id, (entry, field), setting));
            }
        }
    }
    found
}

pub(super) fn unit_settings(ledger: &Ledger, id: UnitId) -> impl Iterator<Item = Written<'_>> {
    let unit = ledger.unit(id);
    ledger.stage_ids().flat_map(move |stage| {
        let settings = ledger.unit_layer(unit, LayerId::Stage(stage));
        let instances = settings.instances.iter().map(|(instance, _, list)| (Some(*instance), list));
        let all = std::iter::once((None, &settings.unit)).chain(instances);
        all.flat_map(move |(instance, list)| {
            let subject = Subject::Unit(id, instance);
            list.iter().filter(|setting| may_mention(setting)).filter_map(move |setting| {
                let id = FieldId { subject, stage, slot: setting.slot };
                written(id, ledger.field(subject, setting.slot), setting)
            })
        })
    })
}

/// Whether a setting's value is of a form that can mention a host: what is cheap to tell first.
fn may_mention(setting: &Setting) -> bool {
    let is_text = |value: &Value| matches!(value, Value::Text(_) | Value::List(_) | Value::Map(_));
    matches!(&setting.value, SettingValue::Value(Held::Open(value)) if is_text(value))
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
pub(super) fn hosts_of<'l>(ledger: &Ledger, written: &Written<'l>) -> Vec<Host<'l>> {
    let (stage, place) = (written.field_id.stage, written.place);
    if let (true, Some(name)) = (written.names_database(), written.value.as_text()) {
        let is_of_stage = has_part(name, ledger.stage(stage).name.as_str());
        let host = Host { name, stage, place, learned: Learned::Database };
        return is_of_stage.then_some(host).into_iter().collect();
    }
    if !written.names_hosts() {
        return Vec::new();
    }
    let host = |text: &'l str| {
        let is_whole = written.field.this_type == Type::Host;
        let seen = Sighting::in_url(text);
        let name = if is_whole { text } else { seen.host };
        let learned = if is_whole { Learned::Field(written.field_id) } else { Learned::Text(seen) };
        let plain = !name.is_empty() && !name.contains("${") && !is_local(name);
        plain.then_some(Host { name, stage, place, learned })
    };
    match written.value {
        Value::Text(text) => host(text).into_iter().collect(),
        Value::List(items) => items.iter().filter_map(Value::as_text).filter_map(host).collect(),
        _ => Vec::new(),
    }
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
