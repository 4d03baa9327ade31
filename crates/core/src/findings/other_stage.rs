//! `points-at-other-stage`: a value that mentions a host, address or database of another stage.
//!
//! Which host belongs to which stage is learned from the stages' own settings of hosts and URLs. What
//! groups, defaults and followed stages say belongs to nobody, and neither does what three stages or
//! more have in common.

use std::sync::OnceLock;

use rayon::prelude::*;
use rustc_hash::{FxHashMap, FxHashSet};

use super::aligned::may_share;
use super::bounds::Bounds;
use super::code::{Code, Severity};
use super::finding::{Finding, called};
use super::standing::{UnitStanding, standing_of};
use crate::address::Address;
use crate::model::{
    Class, Declaration, Entry, Kind, LayerId, Ledger, Setting, SettingValue, Slot, StageId, Subject, UnitId,
};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver};
use crate::source::Place;
use crate::types::Type;
use crate::value::{Held, Value};

/// From so many stages on, a host is common to all.
const COMMON: usize = 3;

/// A setting of a stage of its own.
struct Written<'l> {
    field_id: FieldId,
    entry: &'l Entry,
    field: &'l Declaration,
    value: &'l Value,
    place: Place,
}

impl Written<'_> {
    /// Whether its text is a host or has one where a URL has it.
    fn names_hosts(&self) -> bool {
        matches!(self.field.this_type, Type::Host | Type::Url) || self.names_brokers()
    }

    fn names_brokers(&self) -> bool {
        self.is_field_of_connection("brokers")
    }

    /// Whether its text is the name of a database. It is known to belong to a stage if it has that
    /// stage's name as a part, as `tides_test` has.
    fn names_database(&self) -> bool {
        self.is_field_of_connection("database")
    }

    fn is_field_of_connection(&self, wanted: &str) -> bool {
        matches!(self.entry.kind, Kind::Connection { .. })
            && self.field.name.as_ref().is_some_and(|name| name.as_str() == wanted)
    }
}

/// The stages in whose settings a host stands, each with its first place there.
#[derive(Default)]
struct Known(Vec<(StageId, Place)>);

type Hosts<'l> = FxHashMap<&'l str, Known>;

/// What is found of a unit, and whether it is about a shared entry.
pub(super) fn all(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    standings: &mut [UnitStanding],
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let units: Vec<UnitId> = ledger.unit_ids().collect();
    let of_shared = shared_settings(ledger);
    let learned: Vec<Vec<(&str, StageId, Place)>> = units
        .par_iter()
        .map(|&unit| unit_settings(ledger, unit).flat_map(|written| hosts_of(ledger, &written)).collect())
        .collect();
    let mut hosts = Hosts::default();
    let shared_hosts = of_shared.iter().flat_map(|written| hosts_of(ledger, written));
    for (host, stage, place) in shared_hosts.chain(learned.into_iter().flatten()) {
        let known = hosts.entry(host).or_default();
        if !known.0.iter().any(|(other, _)| *other == stage) {
            known.0.push((stage, place));
        }
    }
    hosts.retain(|_, known| known.0.len() < COMMON);
    if hosts.is_empty() {
        return;
    }
    let told: Vec<(usize, Finding, StageId)> = units
        .par_iter()
        .enumerate()
        .flat_map_iter(|(at, &unit)| {
            let found = unit_settings(ledger, unit).filter_map(|written| mention(bounds, &hosts, &written));
            found.map(move |(finding, stage)| (at, finding, stage)).collect::<Vec<_>>()
        })
        .collect();
    for (at, finding, stage) in told {
        if let Some(standing) = standing_of(standings, units[at]) {
            standing.count_in_layer(resolver, LayerId::Stage(stage), bounds.counts(&finding));
        }
        findings.push(finding);
    }
    for written in &of_shared {
        let Some((finding, stage)) = mention(bounds, &hosts, written) else { continue };
        let severity = bounds.counts(&finding);
        let shared = ledger.shared_id(written.entry.name.as_str());
        for standing in standings.iter_mut() {
            let uses = shared.is_some_and(|id| ledger.unit(standing.unit).uses.binary_search(&id).is_ok());
            let here = &mut standing.stages[usize::from(stage.0)];
            if uses && here.belongs {
                here.count(severity);
            }
        }
        findings.push(finding);
    }
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
            all.flat_map(|written| hosts_of(ledger, &written)).map(|(host, ..)| host.to_owned()).collect()
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
    let host = if this == Type::Host { text } else { host_in(text) };
    is_local(host) || hosts.has(ledger, host)
}

fn shared_settings(ledger: &Ledger) -> Vec<Written<'_>> {
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

fn unit_settings(ledger: &Ledger, id: UnitId) -> impl Iterator<Item = Written<'_>> {
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
fn hosts_of<'l>(ledger: &Ledger, written: &Written<'l>) -> Vec<(&'l str, StageId, Place)> {
    let (stage, place) = (written.field_id.stage, written.place);
    if let (true, Some(name)) = (written.names_database(), written.value.as_text()) {
        let stage_name = ledger.stage(stage).name.as_str();
        let mut parts = name.split(|c: char| !c.is_ascii_alphanumeric());
        let of_stage = parts.any(|part| part == stage_name) || name == stage_name;
        return of_stage.then_some((name, stage, place)).into_iter().collect();
    }
    if !written.names_hosts() {
        return Vec::new();
    }
    let host = |text: &'l str| {
        let host = if written.field.this_type == Type::Host { text } else { host_in(text) };
        let plain = !host.is_empty() && !host.contains("${") && !is_local(host);
        plain.then_some((host, stage, place))
    };
    match written.value {
        Value::Text(text) => host(text).into_iter().collect(),
        Value::List(items) => items.iter().filter_map(Value::as_text).filter_map(host).collect(),
        _ => Vec::new(),
    }
}

/// The host in a URL (RFC 3986 section 3.2.2), or before the port of `host:port`.
fn host_in(text: &str) -> &str {
    let authority = text.split_once("://").map_or(text, |(_, rest)| rest);
    let authority = authority.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit('@').next().unwrap_or_default();
    match host.strip_prefix('[') {
        Some(address) => address.split(']').next().unwrap_or_default(),
        None => host.split(':').next().unwrap_or_default(),
    }
}

fn is_local(host: &str) -> bool {
    matches!(host, "localhost" | "::1" | "0.0.0.0" | "::")
        || host.starts_with("127.")
        || host.ends_with(".localhost")
}

/// The finding about a setting that mentions a host of another stage.
fn mention(bounds: &Bounds<'_>, hosts: &Hosts<'_>, written: &Written<'_>) -> Option<(Finding, StageId)> {
    let ledger = bounds.ledger;
    let (stage, other, place, host) = search(ledger, hosts, written, written.value)?;
    let name = written.field.name.as_ref();
    let owner = ledger.owner(written.field_id.subject);
    let covered = bounds.covers(&owner, written.entry.name.as_str(), name.map(Name::as_str));
    if !covered || !bounds.covers_stage(stage) {
        return None;
    }
    let (here, there) = (ledger.stage(stage), ledger.stage(other));
    let address = Address::of_field(owner, &written.entry.name, name, Some(&here.name));
    let finding = Finding {
        code: Code::PointsAtOtherStage,
        severity: if here.class == there.class { Severity::Warning } else { Severity::Error },
        address: address.to_string(),
        subject: Address { stage: None, ..address }.to_string(),
        stage: Some(here.name.to_string()),
        unit: match written.field_id.subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        },
        message: format!(
            "{} in `{}` points at `{host}`, which belongs to `{}` ({})",
            called(written.entry, written.field),
            here.name,
            there.name,
            ledger.files.locate(place)
        ),
        place: Some(written.place),
        hides_value: false,
        help: format!("name what belongs to `{}`; what both share belongs into a group of theirs", here.name),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    };
    Some((finding, stage))
}

/// Whether the ledger lets these two stages have one value of a field.
fn may_agree(ledger: &Ledger, field: FieldId, other: StageId) -> bool {
    ledger.aligned.iter().any(|aligned| {
        aligned.stages.contains(&field.stage)
            && aligned.stages.contains(&other)
            && may_share(ledger, aligned, field)
    })
}

type Mention<'h> = (StageId, StageId, Place, &'h str);

/// The first host of another stage in a value.
fn search<'h>(
    ledger: &Ledger,
    hosts: &Hosts<'h>,
    written: &Written<'_>,
    value: &Value,
) -> Option<Mention<'h>> {
    let text = match value {
        Value::Text(text) => text.as_str(),
        Value::List(items) => return items.iter().find_map(|item| search(ledger, hosts, written, item)),
        Value::Map(map) => return map.values().find_map(|item| search(ledger, hosts, written, item)),
        _ => return None,
    };
    let is_whole = written.field.this_type == Type::Host || written.names_database();
    // A name without a dot is a host only where a host is meant.
    if !is_whole && !text.contains(['.', ':']) {
        return None;
    }
    let judge = |token: &str| {
        let (&host, known) = hosts.get_key_value(token)?;
        let (other, place) = *known.0.iter().find(|(stage, _)| *stage != written.field_id.stage)?;
        let own = known.0.iter().any(|(stage, _)| *stage == written.field_id.stage);
        // Both have it: the one of higher class, or the later one, is told.
        let rank = |stage: StageId| (ledger.stage(stage).class, stage);
        let told = !own
            || written.names_hosts()
                && rank(written.field_id.stage) > rank(other)
                && !may_agree(ledger, written.field_id, other);
        told.then_some((written.field_id.stage, other, place, host))
    };
    if is_whole {
        return judge(text);
    }
    let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '-' | '_');
    let tokens = text.split(|c| !is_part(c)).map(|token| token.trim_matches(['.', '-']));
    let dotted = tokens.filter(|token| token.contains('.') || written.names_hosts());
    let in_url = written.names_hosts().then(|| host_in(text));
    dotted.chain(in_url).find_map(judge)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_are_found_in_urls() {
        for (text, host) in [
            ("https://db.test.example/x?y@z", "db.test.example"),
            ("amqp://u:p@mq.example:5672/v", "mq.example"),
            ("http://[2001:db8::1]:80/", "2001:db8::1"),
            ("kafka-1.example:9092", "kafka-1.example"),
            ("http://", ""),
        ] {
            assert_eq!(host_in(text), host);
        }
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
}
