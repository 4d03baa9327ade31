//! From an address to the place of one setting or default.

use cledger_core::address::{Address, Owner};
use cledger_core::model::{LayerId, Ledger, Slot, Subject};
use cledger_core::name::Name;
use cledger_store::Target;

use crate::app::App;
use crate::commands::{fields_of, with_stage, without_delivery};
use crate::error::CliError;

/// The stage's name that means a declaration's default.
pub(crate) const DEFAULT: &str = "default";

/// A field at one of the places where it can be set.
pub(crate) struct Place {
    /// Its address, with the stage, the group or `default`.
    pub(crate) address: Address,
    pub(crate) subject: Subject,
    pub(crate) slot: Slot,
    pub(crate) target: Target,
}

/// The field and the place that an address names.
pub(crate) fn place(
    app: &App<'_>,
    ledger: &Ledger,
    text: &str,
    stage: Option<&Name>,
) -> Result<Place, CliError> {
    if text.contains(['*', '?']) {
        let message = format!("`{text}` is a pattern, and one address is needed");
        return Err(CliError::usage(message).help("name each field; `cledger list` shows the names"));
    }
    let mut address = without_delivery(with_stage(Address::parse(text)?, stage)?)?;
    let (Some(owner), Some(_)) = (&address.owner, &address.entry) else {
        return Err(
            CliError::usage(format!("`{address}` names no field")).help("write UNIT/ENTRY.FIELD@STAGE")
        );
    };
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(unit, instance) => app.unit(ledger, unit, instance.as_ref())?,
    };
    let slots = fields_of(ledger, subject, &address)?;
    let &[slot] = &slots[..] else {
        let names = slots.iter().filter_map(|&slot| ledger.field(subject, slot).1.name.as_ref());
        let names: Vec<&str> = names.map(Name::as_str).collect();
        let message = format!("`{address}` has several fields");
        return Err(CliError::usage(message).help(format!("name one of {}", names.join(", "))));
    };
    let target = match &address.stage {
        Some(name) if name.as_str() == DEFAULT => Target::Default,
        Some(name) => match ledger.group_id(name.as_str()) {
            Some(group) => Target::Layer(LayerId::Group(group)),
            None => Target::Layer(LayerId::Stage(App::stage(ledger, Some(name))?.stage)),
        },
        None => {
            let chosen = App::stage(ledger, None)?;
            address.stage = Some(ledger.stage(chosen.stage).name.clone());
            Target::Layer(LayerId::Stage(chosen.stage))
        }
    };
    if let (Target::Default, Subject::Unit(unit, instance)) = (target, subject) {
        let (entry, _) = ledger.slots(subject).entry_of(slot);
        if instance.is_some() || entry.entry.shared().is_some() {
            let entry = &ledger.field(subject, slot).0.name;
            let message = format!("`{address}` has no declaration of its own");
            let owner = if entry_is_shared(ledger, subject, slot) {
                "shared".to_owned()
            } else {
                ledger.unit(unit).name.to_string()
            };
            return Err(CliError::usage(message).help(format!("its declaration is that of {owner}/{entry}")));
        }
    }
    if let (Target::Layer(LayerId::Stage(stage)), Subject::Unit(unit, instance)) = (target, subject)
        && !ledger.unit(unit).belongs_to(stage, instance)
    {
        let message =
            format!("`{}` does not belong to stage `{}`", ledger.owner(subject), ledger.stage(stage).name);
        return Err(CliError::usage(message).help("`cledger list units` shows where each belongs"));
    }
    Ok(Place { address, subject, slot, target })
}

fn entry_is_shared(ledger: &Ledger, subject: Subject, slot: Slot) -> bool {
    ledger.slots(subject).entry_of(slot).0.entry.shared().is_some()
}
