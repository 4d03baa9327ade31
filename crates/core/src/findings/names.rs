//! `unknown-name` and `unused-setting`: settings for something that is not there.

use super::bounds::Bounds;
use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::Finding;
use crate::model::{LayerId, Ledger, Stray, StrayKind, Subject, Unit};
use crate::name::{Name, nearest};
use crate::resolve::Resolver;
use crate::source::Place;

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    let resolver = checking.resolver();
    let unit = ledger.unit(id);
    for stray in &unit.strays {
        let instance = stray.instance.map(|id| unit.instances[usize::from(id.0)].name.as_str());
        let covered = bounds.covers_owner(unit.name.as_str(), instance)
            && bounds.covers_field(stray.entry(), Some(&stray.name))
            && bounds.covers_layer(stray.layer);
        if covered {
            let subject = Subject::Unit(id, stray.instance);
            let finding = unknown_name(ledger, subject, stray);
            checking.standing.count_in_layer(resolver, stray.layer, bounds.counts(&finding));
            checking.findings.push(finding);
        }
    }
    for layer in ledger.layer_ids() {
        if !bounds.covers_layer(layer) {
            continue;
        }
        let settings = ledger.unit_layer(unit, layer);
        let base = settings.place.map(|place| (None, place));
        let instances = settings.instances.iter().map(|(id, place, _)| (Some(*id), *place));
        for (instance, place) in base.into_iter().chain(instances) {
            let name = instance.map(|id| unit.instances[usize::from(id.0)].name.clone());
            let belongs = reaches(ledger, resolver, unit, layer, instance);
            let name = name.as_ref().map(Name::as_str);
            if !belongs && bounds.covers_owner(unit.name.as_str(), name) {
                let mut finding = unused(ledger, layer, unit.name.as_str(), name, place);
                finding.unit = Some(id);
                (finding.message, finding.help) = not_here(ledger, unit, layer, name);
                checking.findings.push(finding);
            }
        }
    }
}

/// Whether settings in this layer count for the unit or instance in some stage.
fn reaches(
    ledger: &Ledger,
    resolver: &Resolver<'_>,
    unit: &Unit,
    layer: LayerId,
    instance: Option<crate::model::InstanceId>,
) -> bool {
    match layer {
        LayerId::Stage(stage) => unit.belongs_to(stage, instance),
        LayerId::Group(_) => ledger.stage_ids().any(|stage| {
            unit.belongs_to(stage, instance) && resolver.chain(stage).iter().any(|l| l.layer == layer)
        }),
    }
}

fn not_here(ledger: &Ledger, unit: &Unit, layer: LayerId, instance: Option<&str>) -> (String, String) {
    let (unit, layer_name) = (&unit.name, ledger.layer_name(layer));
    let whose = instance.map_or(format!("unit `{unit}`"), |name| format!("instance `{unit}+{name}`"));
    let where_to = match layer {
        LayerId::Stage(_) => format!("stage `{layer_name}`"),
        LayerId::Group(_) => format!("a stage of group `{layer_name}`"),
    };
    let help = format!("take these settings out, or widen `stages` in units/{unit}.toml");
    (format!("{whose} does not belong to {where_to}, so these settings have no effect"), help)
}

pub(super) fn of_shared(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    for layer in bounds.ledger.layer_ids() {
        for stray in &bounds.ledger.layer(layer).strays {
            let covered = bounds.covers_owner("shared", None)
                && bounds.covers_field(stray.entry(), Some(&stray.name))
                && bounds.covers_layer(layer);
            if covered {
                findings.push(unknown_name(bounds.ledger, Subject::Shared, stray));
            }
        }
    }
}

/// Settings for units and instances that do not exist.
pub(super) fn strangers(bounds: &Bounds<'_>, findings: &mut Vec<Finding>) {
    let ledger = bounds.ledger;
    for stranger in &ledger.strangers {
        let (unit, instance) = (stranger.unit.as_str(), stranger.instance.as_deref());
        if !bounds.covers_owner(unit, instance) || !bounds.covers_layer(stranger.layer) {
            continue;
        }
        let mut finding = unused(ledger, stranger.layer, unit, instance, stranger.place);
        let known = ledger.unit_id(unit);
        let (what, near) = if let (Some(id), Some(instance)) = (known, instance) {
            finding.unit = Some(id);
            let names = ledger.unit(id).instances.iter().map(|it| it.name.as_str());
            (format!("unit `{unit}` has no instance `{instance}`"), nearest(instance, names))
        } else {
            let names = ledger.units.iter().map(|unit| unit.name.as_str());
            (format!("there is no unit `{unit}`"), nearest(unit, names))
        };
        finding.message = format!("{what}, so these settings have no effect");
        finding.help = match near {
            Some(near) => format!("did you mean `{near}`? If not, take these settings out"),
            None => format!("take these settings out, or declare the unit in units/{unit}.toml"),
        };
        findings.push(finding);
    }
}

fn unused(ledger: &Ledger, layer: LayerId, unit: &str, instance: Option<&str>, place: Place) -> Finding {
    let subject = instance.map_or(unit.to_owned(), |name| format!("{unit}+{name}"));
    let stage = ledger.layer_name(layer).to_string();
    Finding {
        code: Code::UnusedSetting,
        severity: Severity::Warning,
        address: format!("{subject}@{stage}"),
        subject,
        stage: Some(stage),
        unit: None,
        message: String::new(),
        place: Some(place),
        hides_value: false,
        help: String::new(),
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}

fn unknown_name(ledger: &Ledger, subject: Subject, stray: &Stray) -> Finding {
    let (owner, name) = (ledger.owner(subject), &stray.name);
    let whose = match subject {
        Subject::Shared => "there is no shared entry".to_owned(),
        Subject::Unit(unit, _) => format!("unit `{}` has no entry", ledger.unit(unit).name),
    };
    let declared_in = match subject {
        Subject::Shared => "shared.toml".to_owned(),
        Subject::Unit(unit, _) => format!("units/{}.toml", ledger.unit(unit).name),
    };
    let (thing, message, help) = match &stray.kind {
        StrayKind::UnknownEntry => {
            let help = match nearest(name, ledger.entry_names(subject)) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("declare it in {declared_in}, or take the setting out"),
            };
            (name.clone(), format!("{whose} `{name}`, so this setting has no effect"), help)
        }
        StrayKind::NotUsed => {
            let message =
                format!("`{owner}` does not use shared entry `{name}`, so this setting has no effect");
            (name.clone(), message, format!("add \"{name}\" to `uses` in {declared_in}"))
        }
        StrayKind::UnknownField { entry } => {
            let slots = &ledger.slots(subject).entries;
            let known = slots.iter().map(|slot| ledger.entry(subject, slot.entry));
            let known = known.into_iter().find(|known| known.name == *entry);
            let near = known.and_then(|known| nearest(name, known.field_names()));
            let help = match (near, known) {
                (Some(near), _) => format!("did you mean `{near}`?"),
                (None, Some(known)) => {
                    let names: Vec<_> = known.field_names().collect();
                    format!("its fields are {}", names.join(", "))
                }
                (None, None) => String::new(),
            };
            let message = format!("`{entry}` has no field `{name}`, so this setting has no effect");
            (format!("{entry}.{name}"), message, help)
        }
        StrayKind::NotFields { entry } => {
            let message = format!("`{entry}` has several fields, and this setting names none of them");
            (entry.to_string(), message, format!("write a table: {entry} = {{ FIELD = … }}"))
        }
    };
    let subject_text = format!("{owner}/{thing}");
    let stage = ledger.layer_name(stray.layer).to_string();
    Finding {
        code: Code::UnknownName,
        severity: Severity::Error,
        address: format!("{subject_text}@{stage}"),
        subject: subject_text,
        stage: Some(stage),
        unit: match subject {
            Subject::Unit(unit, _) => Some(unit),
            Subject::Shared => None,
        },
        message,
        place: Some(stray.place),
        // A mistyped `password` still has a password behind it.
        hides_value: true,
        help,
        because_of: None,
        needed_by: Vec::new(),
        rule: None,
    }
}
