//! What is checked: how much of a ledger is looked at.

use std::collections::BTreeSet;

use jiff::civil::Date;
use rustc_hash::FxHashSet;

use super::code::{Code, Severity};
use super::finding::Finding;
use super::hosts::DevelopmentHosts;
use super::mentions::Mentions;
use super::plain::plain_secrets;
use super::waivers;
use crate::address::{Owner, Pattern};
use crate::model::{InstanceId, LayerId, Ledger, Rule, SharedId, StageId, Subject, UnitId, Waived};
use crate::name::Name;
use crate::resolve::Resolver;
use crate::search::Found;
use crate::source::Place;

/// How much of a ledger is looked at: all, if nothing else is said.
#[derive(Default)]
pub(super) struct Looked<'l> {
    /// What a pattern covers.
    pub(super) pattern: Option<&'l Pattern>,
    /// These units.
    pub(super) units: Option<&'l FxHashSet<UnitId>>,
    /// Values in these stages.
    pub(super) stages: Option<FxHashSet<StageId>>,
    /// What these rules demand.
    pub(super) rules: Option<&'l BTreeSet<Name>>,
    /// All but the hosts of other stages.
    pub(super) but_hosts: bool,
    /// All but what is found of outputs.
    pub(super) but_outputs: bool,
    /// All but what is found of these units' own settings where they stand.
    pub(super) but_texts: FxHashSet<UnitId>,
}

/// What is checked.
pub(super) struct Bounds<'l> {
    pub(super) ledger: &'l Ledger,
    pub(super) looked: Looked<'l>,
    pub(super) today: Option<Date>,
    /// The layers that the pattern covers, if there is one.
    layers: Option<FxHashSet<LayerId>>,
    /// What texts refer to.
    pub(super) mentions: Mentions,
    /// What belongs to development.
    pub(super) development: DevelopmentHosts,
    /// Where secrets stand in plain text and that is waived.
    plain_waived: FxHashSet<Place>,
}

impl<'l> Bounds<'l> {
    /// What is looked at. `today` is the day from which last days are counted.
    pub(super) fn new(resolver: &'l Resolver<'_>, looked: Looked<'l>, today: Option<Date>) -> Self {
        let ledger = resolver.ledger();
        let layers = looked.pattern.map(|pattern| covered_layers(resolver, pattern));
        let (mentions, development) = (Mentions::default(), DevelopmentHosts::default());
        let plain_waived = plain_waived(ledger, today);
        Self { ledger, looked, today, layers, mentions, development, plain_waived }
    }
}

impl Bounds<'_> {
    /// Whether a unit's fields are looked at: also where only shared entries are asked for, since
    /// what is wrong with those shows in the units that use them.
    pub(super) fn looks_at(&self, unit: UnitId) -> bool {
        let covers = |pattern: &Pattern| {
            let unit = self.ledger.unit(unit);
            let mut instances = unit.instances.iter();
            pattern.covers_owner("shared", None)
                || pattern.covers_owner(unit.name.as_str(), None)
                || instances.any(|it| pattern.covers_owner(unit.name.as_str(), Some(it.name.as_str())))
        };
        self.looked.units.is_none_or(|units| units.contains(&unit)) && self.looked.pattern.is_none_or(covers)
    }

    pub(super) fn covers_owner(&self, owner: &str, instance: Option<&str>) -> bool {
        self.looked.pattern.is_none_or(|pattern| pattern.covers_owner(owner, instance))
    }

    /// Whether a shared entry is covered: by itself, or as part of a unit that uses it.
    pub(super) fn covers_shared(&self, id: SharedId) -> bool {
        self.covers_owner("shared", None)
            || self.ledger.units.iter().any(|unit| {
                unit.uses.binary_search(&id).is_ok() && self.covers_owner(unit.name.as_str(), None)
            })
    }

    /// How bad a finding is by the ledger's own word; `None` if it is waived.
    pub(super) fn counts(&self, finding: &Finding) -> Option<Severity> {
        let waived =
            !self.ledger.waivers.is_empty() && waivers::of(self.ledger, finding, self.today).is_some();
        (!waived).then(|| self.severity(finding.code, finding.severity))
    }

    /// The severity of a code by the ledger's own word.
    pub(super) fn severity(&self, code: Code, usual: Severity) -> Severity {
        self.ledger.judging.severities.get(&code).copied().unwrap_or(usual)
    }

    /// How bad a secret in plain text at a place is; `None` if that is waived.
    pub(super) fn plain_counts(&self, at: Place, usual: Severity) -> Option<Severity> {
        (!self.plain_waived.contains(&at)).then(|| self.severity(Code::PlainSecret, usual))
    }

    /// Whether what a rule demands is looked at.
    pub(super) fn covers_rule(&self, rule: &Rule) -> bool {
        self.looked.rules.is_none_or(|rules| rules.contains(&rule.name))
    }

    /// Whether all of the ledger is looked at.
    pub(super) fn is_whole(&self) -> bool {
        self.looked.pattern.is_none() && self.looked.units.is_none() && self.looked.stages.is_none()
    }

    /// Whether it is to be told which patterns cover nothing: that hangs on all declarations, and on no value.
    pub(super) fn is_of_declarations(&self) -> bool {
        self.looked.pattern.is_none() && self.looked.stages.is_none()
    }

    /// A unit and its instances, wherever they belong.
    pub(super) fn subjects_of(&self, id: UnitId) -> impl Iterator<Item = (Subject, Option<InstanceId>)> {
        self.ledger.subjects_of(id).map(|subject| match subject {
            Subject::Unit(_, instance) => (subject, instance),
            Subject::Shared => (subject, None),
        })
    }

    /// Where a unit and its instances belong, as far as these stages are covered, and all that counts there can be
    /// read.
    pub(super) fn places_of(&self, id: UnitId) -> impl Iterator<Item = (Subject, StageId)> {
        let is_meant = |stage| self.looked.stages.as_ref().is_none_or(|stages| stages.contains(&stage));
        self.all_places_of(id).filter(move |(_, stage)| is_meant(*stage))
    }

    /// The same in all stages, for what compares one stage with others.
    pub(super) fn all_places_of(&self, id: UnitId) -> impl Iterator<Item = (Subject, StageId)> {
        let is_known = move |stage| self.ledger.broken_for(Subject::Unit(id, None), stage).next().is_none();
        self.ledger.places_of(id).filter(move |&(_, stage)| self.covers_stage(stage) && is_known(stage))
    }

    /// Whether a field that is written or seen under this owner is covered.
    pub(super) fn covers(&self, owner: &Owner, entry: &str, field: Option<&str>) -> bool {
        let (name, instance) = owner.names();
        self.covers_owner(name, instance) && self.covers_field(entry, field)
    }

    pub(super) fn covers_field(&self, entry: &str, field: Option<&str>) -> bool {
        self.looked.pattern.is_none_or(|pattern| pattern.covers_field(entry, field))
    }

    pub(super) fn covers_stage(&self, stage: StageId) -> bool {
        let name = self.ledger.stage(stage).name.as_str();
        self.looked.pattern.is_none_or(|pattern| pattern.covers_stage(name))
    }

    /// Whether a layer is covered by its own name or by that of a stage in which it counts.
    pub(super) fn covers_layer(&self, layer: LayerId) -> bool {
        self.layers.as_ref().is_none_or(|layers| layers.contains(&layer))
    }
}

/// The layers that a pattern covers, by their own names or by those of stages in which they count.
fn covered_layers(resolver: &Resolver<'_>, pattern: &Pattern) -> FxHashSet<LayerId> {
    let ledger = resolver.ledger();
    let named = ledger.layer_ids().filter(|&layer| pattern.covers_stage(ledger.layer_name(layer).as_str()));
    let stages = ledger.stage_ids().filter(|&stage| pattern.covers_stage(ledger.stage(stage).name.as_str()));
    let counting = stages.flat_map(|stage| resolver.chain(stage).iter().map(|it| it.layer));
    named.chain(counting).collect()
}

/// Where secrets stand in plain text and that is waived.
fn plain_waived(ledger: &Ledger, today: Option<Date>) -> FxHashSet<Place> {
    let plain = Waived::Finding(Code::PlainSecret);
    let waivers: Vec<_> =
        ledger.waivers.iter().filter(|waiver| waiver.what == plain && waiver.counts_on(today)).collect();
    if waivers.is_empty() {
        return FxHashSet::default();
    }
    let is_waived = |found: &Found<'_>| {
        let address = found.address(ledger);
        waivers.iter().any(|waiver| waiver.pattern.covers(&address))
    };
    let all = plain_secrets(ledger).into_iter().map(|(found, _)| found);
    all.filter(is_waived).filter_map(|found| found.place).collect()
}
