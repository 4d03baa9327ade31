//! `points-at-other-stage`: a value that mentions a host, address or database of another stage.
//!
//! Which host belongs to which stage is learned from the stages' own settings of hosts and URLs. What
//! groups, defaults and followed stages say belongs to nobody, and neither does what three stages or
//! more have in common. Stages that share a host are parted by their ports and paths on it, unless the
//! host bears the name of one of them.

use std::collections::BTreeSet;
use std::sync::OnceLock;

use rayon::prelude::*;
use rustc_hash::FxHashMap;

use super::aligned::may_share;
use super::bounds::Bounds;
use super::code::{Code, Severity};
use super::finding::{Finding, called};
use super::hosts::{Host, Written, has_part, hosts_of, may_have_host, shared_settings, unit_settings};
use super::spots::{Learned, Sighting, Spot, Spots};
use super::standing::{UnitStanding, standing_of};
use crate::address::Address;
use crate::model::{LayerId, Ledger, Stage, StageId, Subject, UNITS_AT_ONCE, UnitId, Waiver};
use crate::name::Name;
use crate::resolve::{FieldId, Resolver};
use crate::source::Place;
use crate::types::Type;
use crate::value::Value;

/// From so many stages on, a host is common to all.
const COMMON: usize = 3;

/// A stage in whose settings a host stands: its first place there, and all that tells where on the host.
struct Known<'l> {
    stage: StageId,
    place: Place,
    learned: Vec<Learned<'l>>,
    /// Worked out when somebody else mentions the host.
    spots: OnceLock<Spots>,
}

impl Known<'_> {
    fn spots(&self, resolver: &Resolver<'_>) -> &Spots {
        self.spots.get_or_init(|| {
            let mut spots = Spots::default();
            self.learned.iter().for_each(|learned| spots.add(learned.spot(resolver)));
            spots
        })
    }
}

type Hosts<'l> = FxHashMap<&'l str, Vec<Known<'l>>>;

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
    let of_units = units.par_iter().with_max_len(UNITS_AT_ONCE).map(|&unit| unit_settings(ledger, unit));
    let of_units: Vec<Vec<Written<'_>>> = of_units.collect();
    let hosts = known_hosts(ledger, &of_shared, &of_units);
    if hosts.is_empty() {
        return;
    }
    let told: Vec<(usize, Finding, StageId)> = of_units
        .par_iter()
        .with_max_len(UNITS_AT_ONCE)
        .enumerate()
        .flat_map_iter(|(at, of_unit)| {
            let mentioned = of_unit.iter().filter_map(|written| mention(bounds, resolver, &hosts, written));
            mentioned.map(move |(finding, stage)| (at, finding, stage)).collect::<Vec<_>>()
        })
        .collect();
    for (at, finding, stage) in told {
        if let Some(standing) = standing_of(standings, units[at]) {
            standing.count_in_layer(resolver, LayerId::Stage(stage), bounds.counts(&finding));
        }
        findings.push(finding);
    }
    for written in &of_shared {
        let Some((finding, stage)) = mention(bounds, resolver, &hosts, written) else { continue };
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

/// Which hosts stand in the settings of which stages, but for those that are common to all.
fn known_hosts<'l>(
    ledger: &'l Ledger,
    of_shared: &[Written<'l>],
    of_units: &[Vec<Written<'l>>],
) -> Hosts<'l> {
    let of_list = |list: &[Written<'l>]| -> Vec<Host<'l>> {
        list.iter().flat_map(|written| hosts_of(ledger, written)).collect()
    };
    let learned: Vec<Vec<Host<'l>>> =
        of_units.par_iter().with_max_len(UNITS_AT_ONCE).map(|of_unit| of_list(of_unit)).collect();
    let mut hosts = Hosts::default();
    for host in of_list(of_shared).into_iter().chain(learned.into_iter().flatten()) {
        let known = hosts.entry(host.name).or_default();
        match known.iter_mut().find(|known| known.stage == host.stage) {
            Some(known) => known.learned.push(host.learned),
            None => known.push(Known {
                stage: host.stage,
                place: host.place,
                learned: vec![host.learned],
                spots: OnceLock::new(),
            }),
        }
    }
    hosts.retain(|_, known| known.len() < COMMON);
    hosts
}

/// Whether all that is told from here must be the same in two ledgers, of which nothing but these units and the settings
/// of shared entries can differ, and values only in these stages.
pub(super) fn is_alike(
    (before, after): (&Resolver<'_>, &Resolver<'_>),
    units: &BTreeSet<Name>,
    stages: Option<&BTreeSet<Name>>,
) -> bool {
    let (old, new) = (before.ledger(), after.ledger());
    let stage = |(one, other): (&Stage, &Stage)| (&one.name, one.class) == (&other.name, other.class);
    let waiver = |(one, other): (&Waiver, &Waiver)| {
        (&one.what, &one.pattern, one.until) == (&other.what, &other.pattern, other.until)
    };
    if !are_alike(&old.stages, &new.stages, stage)
        || !are_alike(&old.waivers, &new.waivers, waiver)
        || old.aligned != new.aligned
    {
        return false;
    }
    let is_same = |(one, other): (&Written<'_>, &Written<'_>)| {
        let cannot_move = one.field.this_type != Type::Host
            || stages.is_some_and(|names| !names.contains(&old.stage(one.field_id.stage).name));
        let has_same_spot = || Spot::of_field(before, one.field_id) == Spot::of_field(after, other.field_id);
        one.is_same_in(old, other, new) && (cannot_move || has_same_spot())
    };
    let is_unit_same = |name: &Name| match (old.unit_id(name.as_str()), new.unit_id(name.as_str())) {
        (Some(one), Some(other)) => are_alike(&unit_settings(old, one), &unit_settings(new, other), is_same),
        (one, other) => one == other,
    };
    let units: Vec<&Name> = units.iter().collect();
    are_alike(&shared_settings(old), &shared_settings(new), is_same)
        && units.par_iter().with_max_len(UNITS_AT_ONCE).all(|name| is_unit_same(name))
}

/// Whether two lists have as many members, each pair of them alike.
fn are_alike<T>(one: &[T], other: &[T], are_alike: impl Fn((&T, &T)) -> bool) -> bool {
    one.len() == other.len() && one.iter().zip(other).all(are_alike)
}

/// The finding about a setting that mentions a host of another stage.
fn mention(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    hosts: &Hosts<'_>,
    written: &Written<'_>,
) -> Option<(Finding, StageId)> {
    let ledger = bounds.ledger;
    let stage = written.field_id.stage;
    let (other, place, host) = search(resolver, hosts, written, written.value)?;
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

/// The other stage, where it has the host, and the host.
type Mention<'h> = (StageId, Place, &'h str);

/// The first host of another stage in a value.
fn search<'h>(
    resolver: &Resolver<'_>,
    hosts: &Hosts<'h>,
    written: &Written<'_>,
    value: &Value,
) -> Option<Mention<'h>> {
    let text = match value {
        Value::Text(text) => text.as_str(),
        Value::List(items) => return items.iter().find_map(|item| search(resolver, hosts, written, item)),
        Value::Map(map) => return map.values().find_map(|item| search(resolver, hosts, written, item)),
        _ => return None,
    };
    if written.names_database() {
        return judge(resolver, hosts, written, text, Spot::default);
    }
    if written.field.this_type == Type::Host {
        return judge(resolver, hosts, written, text, || Spot::of_field(resolver, written.field_id));
    }
    if !may_have_host(text) {
        return None;
    }
    // A name without a dot is a host only where a host is meant.
    let is_meant = |seen: &Sighting<'_>| seen.host.contains('.') || written.names_hosts() || seen.is_placed();
    let is_known = |seen: &Sighting<'_>| hosts.contains_key(seen.host);
    let in_url = written.names_hosts().then(|| Sighting::in_url(text));
    let mut all = Sighting::all(text).filter(is_known).filter(is_meant).chain(in_url);
    all.find_map(|seen| judge(resolver, hosts, written, seen.host, || seen.spot()))
}

/// Whether what a setting names belongs to another stage.
fn judge<'h>(
    resolver: &Resolver<'_>,
    hosts: &Hosts<'h>,
    written: &Written<'_>,
    name: &str,
    spot: impl FnOnce() -> Spot,
) -> Option<Mention<'h>> {
    let (&host, known) = hosts.get_key_value(name)?;
    let ledger = resolver.ledger();
    let stage = written.field_id.stage;
    if known.iter().all(|known| known.stage == stage) {
        return None;
    }
    let own = known.iter().find(|known| known.stage == stage);
    let spot = spot();
    // Where both have it, the one of higher class, or the later one, is told.
    let rank = |stage: StageId| (ledger.stage(stage).class, stage);
    let bears_name = |of: StageId| has_part(host, ledger.stage(of).name.as_str());
    let belongs_to = |other: &Known<'_>| match (own, bears_name(stage), bears_name(other.stage)) {
        (Some(_), true, false) => false,
        (_, false, true) => !may_agree(ledger, written.field_id, other.stage),
        _ if !other.spots(resolver).may_have(&spot) => false,
        (None, ..) => true,
        (Some(_), ..) if written.names_hosts() => {
            rank(stage) > rank(other.stage) && !may_agree(ledger, written.field_id, other.stage)
        }
        (Some(own), ..) => !own.spots(resolver).may_have(&spot),
    };
    let other = known.iter().filter(|known| known.stage != stage).find(|known| belongs_to(known))?;
    Some((other.stage, other.place, host))
}
