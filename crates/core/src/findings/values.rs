//! `wrong-type`, `not-allowed`, `fixed-value-set` and `plain-secret`: what can be told from a
//! setting or a default where it stands.

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called};
use super::plain::is_plain_secret;
use crate::address::{Address, Owner};
use crate::model::{
    Class, Declaration, Entry, InstanceId, LayerId, Ledger, Setting, SettingValue, SharedId, Subject, UnitId,
    Vary, Verdict,
};
use crate::name::Name;
use crate::resolve::Resolver;
use crate::source::Place;
use crate::value::Value;

/// A setting or default that is looked at.
struct Seen<'l> {
    entry: &'l Entry,
    field: &'l Declaration,
    owner: Owner,
    unit: Option<UnitId>,
    /// The layer; `None` for a default.
    layer: Option<LayerId>,
    place: Option<Place>,
}

impl Seen<'_> {
    fn finding(&self, ledger: &Ledger, code: Code, message: String, help: String) -> Finding {
        let name = self.field.name.as_ref();
        let default = Name::parse("default").ok();
        let stage = self.layer.map(|layer| ledger.layer_name(layer).clone()).or(default);
        let address = Address::of_field(self.owner.clone(), &self.entry.name, name, stage.as_ref());
        let subject = Address { stage: None, ..address.clone() };
        Finding {
            code,
            severity: Severity::Error,
            address: address.to_string(),
            subject: subject.to_string(),
            stage: stage.map(|stage| stage.to_string()),
            unit: self.unit,
            message,
            place: self.place.or(Some(self.field.place)),
            // A derived URL may hold a password.
            hides_value: self.field.secret || self.field.derived,
            help,
            because_of: None,
            needed_by: Vec::new(),
            rule: None,
        }
    }

    /// What the field is called in messages.
    fn called(&self) -> String {
        called(self.entry, self.field)
    }
}

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let resolver = checking.resolver();
    let unit = ledger.unit(id);
    if bounds.covers_owner(unit.name.as_str(), None) {
        for entry in &unit.entries {
            let owner = Owner::Unit(unit.name.clone(), None);
            defaults(bounds, entry, &owner, Some(id), &mut checking.findings);
        }
    }
    for layer in ledger.layer_ids() {
        let of_layer = ledger.unit_layer(unit, layer);
        if of_layer.unit.is_empty() && of_layer.instances.is_empty() || !bounds.covers_layer(layer) {
            continue;
        }
        let base = std::iter::once((None::<InstanceId>, &of_layer.unit));
        let instances = of_layer.instances.iter().map(|(id, _, settings)| (Some(*id), settings));
        for (instance, settings) in base.chain(instances) {
            let name = instance.map(|id| &unit.instances[usize::from(id.0)].name);
            if !bounds.covers_owner(unit.name.as_str(), name.map(Name::as_str)) {
                continue;
            }
            for setting in settings {
                let subject = Subject::Unit(id, None);
                let (entry, field) = ledger.field(subject, setting.slot);
                if is_fine(setting, field) {
                    continue;
                }
                let owner = Owner::Unit(unit.name.clone(), name.cloned());
                let place = Some(setting.place);
                let seen = Seen { entry, field, owner, unit: Some(id), layer: Some(layer), place };
                let before = checking.findings.len();
                look(bounds, resolver, &seen, setting, &mut checking.findings);
                let fixed =
                    checking.findings[before..].iter().find(|finding| finding.code == Code::FixedValueSet);
                if let Some(fixed) = fixed {
                    checking.standing.count_in_layer(resolver, layer, bounds.counts(fixed));
                }
            }
        }
    }
}

pub(super) fn of_shared(bounds: &Bounds<'_>, resolver: &Resolver<'_>, findings: &mut Vec<Finding>) {
    let ledger = bounds.ledger;
    let layers: Vec<LayerId> = ledger.layer_ids().filter(|&layer| bounds.covers_layer(layer)).collect();
    for (position, entry) in (0_u16..).zip(&ledger.shared) {
        if !bounds.covers_shared(SharedId(position)) {
            continue;
        }
        if bounds.covers_owner("shared", None) {
            defaults(bounds, entry, &Owner::Shared, None, findings);
        }
        for &layer in &layers {
            let settings = ledger.layer(layer).shared.get(usize::from(position));
            for setting in settings.into_iter().flatten() {
                let field = &entry.fields[setting.slot.0 as usize];
                if is_fine(setting, field) {
                    continue;
                }
                let (owner, place) = (Owner::Shared, Some(setting.place));
                let seen = Seen { entry, field, owner, unit: None, layer: Some(layer), place };
                look(bounds, resolver, &seen, setting, findings);
            }
        }
    }
}

/// Whether there is nothing to say of a setting; most settings end here.
fn is_fine(setting: &Setting, field: &Declaration) -> bool {
    matches!(setting.verdict, Verdict::Fits | Verdict::Open)
        && field.vary != Vary::Never
        && !field.derived
        && !is_plain_secret(setting, field)
}

fn defaults(
    bounds: &Bounds<'_>,
    entry: &Entry,
    owner: &Owner,
    unit: Option<UnitId>,
    findings: &mut Vec<Finding>,
) {
    for field in &entry.fields {
        let Some(default) = &field.default else { continue };
        let name = field.name.as_ref().map(Name::as_str);
        if !bounds.covers_field(entry.name.as_str(), name) {
            continue;
        }
        let place = default.place;
        let seen = Seen { entry, field, owner: owner.clone(), unit, layer: None, place };
        findings.extend(judge(bounds.ledger, &seen, default.value.expose(), default.verdict, "the default"));
    }
}

fn look(
    bounds: &Bounds<'_>,
    resolver: &Resolver<'_>,
    seen: &Seen<'_>,
    setting: &Setting,
    findings: &mut Vec<Finding>,
) {
    let ledger = bounds.ledger;
    let (field, called) = (seen.field, seen.called());
    if !bounds.covers_field(seen.entry.name.as_str(), field.name.as_ref().map(Name::as_str)) {
        return;
    }
    if field.derived {
        let message = format!("{called} is derived from the other fields, so this setting has no effect");
        let help = "take it out, and set the fields that it is made of".to_owned();
        findings.push(seen.finding(ledger, Code::FixedValueSet, message, help));
        return;
    }
    if field.vary == Vary::Never {
        let message =
            format!("{called} is the same everywhere (vary = \"never\"), so this setting has no effect");
        let help = "take it out, or let the contract say vary = \"may\"".to_owned();
        findings.push(seen.finding(ledger, Code::FixedValueSet, message, help));
        return;
    }
    let SettingValue::Value(held) = &setting.value else { return };
    findings.extend(judge(ledger, seen, held.expose(), setting.verdict, "the value"));
    if is_plain_secret(setting, field) {
        let message = format!("{called} is a secret, and stands here in plain text");
        let at = seen.layer.map(|layer| ledger.layer_name(layer).to_string()).unwrap_or_default();
        let remedy = format!("cledger key protect @{at} --write, or set it --from env:NAME");
        let mut finding = seen.finding(ledger, Code::PlainSecret, message, remedy);
        finding.severity = seen.layer.map_or(Severity::Error, |layer| plain_severity(resolver, layer));
        findings.push(finding);
    }
}

/// An error where a production stage would get the secret, a warning elsewhere.
fn plain_severity(resolver: &Resolver<'_>, layer: LayerId) -> Severity {
    let ledger = resolver.ledger();
    let production = ledger.stage_ids().any(|stage| {
        ledger.stage(stage).class == Class::Production
            && resolver.chain(stage).iter().any(|link| link.layer == layer)
    });
    if production { Severity::Error } else { Severity::Warning }
}

fn judge(ledger: &Ledger, seen: &Seen<'_>, value: &Value, verdict: Verdict, what: &str) -> Option<Finding> {
    match verdict {
        Verdict::Fits | Verdict::Open => None,
        Verdict::WrongType => {
            let called = seen.called();
            let message = format!("{what} of {called} has the wrong type: {}", seen.field.mismatch(value));
            let help = format!("write {}", seen.field.this_type.describe());
            Some(seen.finding(ledger, Code::WrongType, message, help))
        }
        Verdict::NotAllowed => {
            let (rejection, called) = (seen.field.rejection(value)?, seen.called());
            let message = format!(
                "{what} of {called} breaks `{}`: it must be {}",
                rejection.constraint, rejection.asks
            );
            let help = format!("write {}", rejection.asks);
            Some(seen.finding(ledger, Code::NotAllowed, message, help))
        }
    }
}
