//! What a unit gets in a stage, and one value of it.

use cledger_core::address::{Address, Owner};
use cledger_core::cipher::KeyScope;
use cledger_core::findings;
use cledger_core::model::{Class, Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::{Effective, FieldId, Layer, Outcome, Resolver};
use zeroize::Zeroizing;

use crate::meant::{Chosen, fields_in, one_field, unit_of};
use crate::opened::Opened;
use crate::rendered::not_readable;
use crate::trouble::{Kind, Trouble};

/// What is to be shown.
#[derive(Debug, Clone)]
pub struct Shown {
    /// Whose values.
    pub subject: Subject,
    /// In which stage, and why in this one.
    pub chosen: Chosen,
    /// Which of them.
    pub fields: Vec<FieldId>,
}

/// The fields that an address names, in the stage that is meant.
pub fn shown(opened: &Opened, address: &Address) -> Result<Shown, Trouble> {
    let Some(owner) = &address.owner else {
        return Err(Trouble::usage(format!("`{address}` names no unit"))
            .help(format!("write UNIT{address}; `cledger list` shows the units")));
    };
    let chosen = opened.stage(address.stage.as_ref())?;
    let subject = opened.subject_in(owner, chosen.stage)?;
    let fields = fields_in(&opened.ledger, subject, address, chosen.stage)?;
    Ok(Shown { subject, chosen, fields })
}

/// The one field that an address names in the stage that is meant, which is told.
pub fn one(opened: &Opened, address: &Address) -> Result<FieldId, Trouble> {
    let (owner, entry) = named(address)?;
    let stage = opened.told_stage(address.stage.as_ref())?;
    let ledger = &opened.ledger;
    let subject = opened.subject_in(owner, stage)?;
    let slot = one_field(ledger, subject, &Address { stage: None, ..address.clone() })?;
    let field = FieldId { subject, stage, slot };
    if address.field.is_none() && ledger.field(subject, slot).1.name.is_some() {
        let message = format!("`{owner}/{entry}` is no variable");
        return Err(Trouble::usage(message).help(format!("write {}", ledger.address(field))));
    }
    Ok(field)
}

/// The owner and the entry that an address must name.
pub fn named(address: &Address) -> Result<(&Owner, &Name), Trouble> {
    match (&address.owner, &address.entry) {
        (Some(owner), Some(entry)) => Ok((owner, entry)),
        _ => Err(Trouble::usage(format!("`{address}` names no field")).help("write UNIT/ENTRY.FIELD@STAGE")),
    }
}

/// The value of a field, which must have one; a secret only where secrets are `unmasked`.
pub fn value<'l>(
    opened: &Opened,
    resolver: &Resolver<'l>,
    field: FieldId,
    unmasked: bool,
) -> Result<Effective<'l>, Trouble> {
    let ledger = resolver.ledger();
    let mut session = resolver.session(unit_of(field.subject));
    let lacking = |message: String, help: String| Trouble::new(Kind::Found, message).help(help);
    let address = ledger.address(field);
    match session.outcome(field) {
        Outcome::Value(effective) if effective.is_secret() && !unmasked => {
            Err(Trouble::refused(format!("`{address}` is a secret, and is not shown"))
                .help("add --unmask, or --unmask=always in a pipe"))
        }
        Outcome::Value(effective) if effective.unread().is_some() => {
            let owner = ledger.owner(field.subject).to_string();
            Err(not_readable(&[owner], &opened.surroundings, ""))
        }
        Outcome::Value(effective) => Ok(effective),
        Outcome::Absent(_) => {
            let message = format!("`{address}` has no value: it is absent on purpose");
            Err(lacking(message, "set it in the stage to give it one".to_owned()))
        }
        Outcome::Unset => {
            let message = format!("`{address}` has no value, and needs none");
            Err(lacking(message, "set it in the stage to give it one".to_owned()))
        }
        Outcome::Missing(..) | Outcome::Broken(_) => {
            let first = findings::of_field(&mut session, field).into_iter().next();
            let (message, help) = first.map(|finding| (finding.message, finding.help)).unwrap_or_default();
            Err(lacking(message, help))
        }
    }
}

/// What is the same for all who see the same secret: by the stage's own key, else by that of the group which it
/// is from. [`None`] for what is no secret, or cannot be read here.
pub fn fingerprint(opened: &Opened, stage: StageId, effective: &Effective<'_>) -> Option<String> {
    let (ledger, keys) = (&opened.ledger, opened.keys());
    let secret = effective.expose().filter(|_| effective.is_secret())?;
    let of_group = match effective.origin.layer {
        Layer::Group(id) => Some(KeyScope::Group(ledger.group(id).name.clone())),
        _ => None,
    };
    let scope = KeyScope::Stage(ledger.stage(stage).name.clone());
    let key = keys.key(&scope).ok().or_else(|| keys.key(&of_group?).ok())?;
    Some(key.key.fingerprint(&Zeroizing::new(secret.to_text())))
}

/// Refuses to show secrets of a production stage without its countersign.
pub fn may_unmask(ledger: &Ledger, stage: StageId, countersign: Option<&Name>) -> Result<(), Trouble> {
    let stage = ledger.stage(stage);
    if stage.class == Class::Production && countersign != Some(&stage.name) {
        let message =
            format!("secrets of `{}`, a production stage, are not shown without countersigning", stage.name);
        return Err(Trouble::refused(message).help(format!("add --countersign {}", stage.name)));
    }
    Ok(())
}
