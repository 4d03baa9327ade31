//! `points-at-other-stage`: a value that mentions a host, address or database of another stage.
//!
//! Which host belongs to which stage is learned from the stages' own settings of hosts and URLs. What
//! groups, defaults and followed stages say belongs to nobody, and neither does what three stages or
//! more have in common.

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use super::aligned::may_share;
use super::bounds::Bounds;
use super::code::{Code, Severity};
use super::finding::{Finding, called};
use super::hosts::{Written, host_in, hosts_of, shared_settings, unit_settings};
use super::standing::{UnitStanding, standing_of};
use crate::address::Address;
use crate::model::{LayerId, Ledger, StageId, Subject, UnitId};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver};
use crate::source::Place;
use crate::types::Type;
use crate::value::Value;

/// From so many stages on, a host is common to all.
const COMMON: usize = 3;

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
