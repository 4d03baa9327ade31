//! `follows-secret`: secrets that a production stage takes over from a stage that it follows.

use super::checking::Checking;
use super::code::{Code, Severity};
use super::finding::{Finding, called, whose};
use crate::address::Pattern;
use crate::model::{Class, LayerId, Ledger, Setting, SettingValue};
use crate::name::Name;
use crate::resolve::{FieldId, Layer, Link, Winner};

pub(super) fn of_unit(checking: &mut Checking<'_, '_, '_>) {
    let (ledger, bounds, id) = (checking.ledger(), checking.bounds, checking.unit);
    for (subject, stage) in bounds.places_of(id) {
        let here = ledger.stage(stage);
        if here.class != Class::Production || here.follows.is_empty() {
            continue;
        }
        for slot in ledger.slots(subject).all().filter(|&slot| ledger.field(subject, slot).1.secret) {
            let winner = checking.session.winners(subject, stage)[slot.0 as usize];
            let Winner::Set(setting, Layer::Follow(_), _) = winner else { continue };
            let field = FieldId { subject, stage, slot };
            let Some(link) = link_of(ledger, checking.resolver().chain(stage), setting) else { continue };
            let is_own_group = matches!(link.layer, LayerId::Group(group) if here.groups.contains(&group));
            if is_own_group || names_stage(setting) || is_named(ledger, link, field) {
                continue;
            }
            tell(checking, field, setting, link);
        }
    }
}

fn tell(checking: &mut Checking<'_, '_, '_>, field: FieldId, setting: &Setting, link: &Link<'_>) {
    let ledger = checking.ledger();
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let about = whose(ledger, checking.session, field, |_| true);
    let (here, from) = (&ledger.stage(field.stage).name, ledger.layer_name(link.layer));
    let message = format!(
        "{} in `{here}` is a secret that it takes over from `{from}`, since it follows that",
        called(entry, declaration)
    );
    let mut finding = Finding::of_field(ledger, field, about, Code::FollowsSecret, message);
    finding.severity = Severity::Warning;
    finding.place = Some(setting.place);
    let name = declaration.name.as_ref().map(|name| format!(".{name}")).unwrap_or_default();
    finding.help = format!(
        "set {} for itself, or name it in `only` of the follow: \"*/{}{name}\"",
        ledger.address(about),
        entry.name
    );
    checking.tell(field, finding);
}

/// By which way a setting of what is followed came.
fn link_of<'r, 'l>(ledger: &Ledger, chain: &'r [Link<'l>], setting: &Setting) -> Option<&'r Link<'l>> {
    // The layer's name is that of its file or folder.
    let file = ledger.files.locate(setting.place).file;
    let name = file.split('/').nth(1).map(|name| name.strip_suffix(".toml").unwrap_or(name))?;
    chain.iter().rev().find(|link| !link.follows.is_empty() && ledger.layer_name(link.layer).as_str() == name)
}

/// Whether a secret is fetched from a place that names the stage, so that each stage has its own.
fn names_stage(setting: &Setting) -> bool {
    matches!(&setting.value, SettingValue::From(source) if source.0.contains("${stage."))
}

/// Whether somebody has named the field in full where it is followed.
fn is_named(ledger: &Ledger, link: &Link<'_>, field: FieldId) -> bool {
    let (entry, declaration) = ledger.field(field.subject, field.slot);
    let wanted = match &declaration.name {
        Some(name) => format!("{}.{name}", entry.name),
        None => entry.name.to_string(),
    };
    let names_it = |pattern: &Pattern| {
        pattern.to_string().split_once('/').is_some_and(|(_, field)| field == wanted)
            && pattern.covers_field(entry.name.as_str(), declaration.name.as_ref().map(Name::as_str))
    };
    link.follows.first().is_some_and(|follow| follow.only.iter().any(names_it))
}
