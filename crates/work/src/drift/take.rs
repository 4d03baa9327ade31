//! Live values taken over into the ledger.

use std::path::PathBuf;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{LayerId, Ledger, Note, SettingValue, Subject};
use cledger_core::name::Name;
use cledger_core::output::as_text;
use cledger_core::resolve::{FieldId, Outcome};
use cledger_core::value::Value;
use cledger_store::{Edit, Target, What, key, literal};

use crate::change::{Changing, Consent, NO_CHANGE, Planned};
use crate::drift::live::{Live, agreed, all_have_it, is_same_field, lives};
use crate::drift::new_name::{declare, where_found};
use crate::drift::taking::{Changes, Found, With};
use crate::drift::wanted::{Wanted, see};
use crate::existing;
use crate::meant::{Place, outputs_of, unit_of, with_stage};
use crate::opened::Opened;
use crate::reality::looked::Looked;
use crate::set::SettingsChanged;
use crate::setting::{Given, Setter, may_be_set, write};
use crate::shown;
use crate::trouble::Trouble;

/// What is to be taken over.
#[derive(Debug, Clone)]
pub struct ToTake {
    /// The fields; UNIT/NAME@STAGE for a name that no contract has, which is declared.
    pub fields: Vec<Address>,
    /// The stage, where an address names none.
    pub stage: Option<Name>,
    /// A capture to take them from instead of outlets.
    pub captured: Option<PathBuf>,
    /// The day from which last days are counted; today if not given.
    pub today: Option<String>,
    /// Whether secrets may stand in plain text where the stage has no key.
    pub plain_secrets: bool,
    /// What somebody says to it.
    pub consent: Consent,
    /// Do it.
    pub write: bool,
}

/// Takes the live values of fields over, or shows what that would change.
pub fn take(changing: &Changing, asked: &ToTake) -> Result<SettingsChanged, Trouble> {
    let capture = asked.captured.as_deref().map(existing::capture).transpose()?;
    let stage_of_capture = capture.as_ref().map(|capture| &capture.stage);
    let wanted = Wanted::for_fields(&asked.fields, asked.stage.as_ref(), stage_of_capture)?;
    let opened = &changing.opened;
    let mut changes = see(opened, &wanted, asked.today.as_deref(), capture, |looked, _, _| {
        changes(changing, asked, &looked)
    })?;
    let planned = planned(changing, &mut changes)?;
    changing.refuse_bad_rows(&planned)?;
    if asked.write {
        changing.guard(&changes.layers, &planned, &asked.consent)?;
        changing.write(&planned)?;
    }
    Ok(SettingsChanged::of(changing, changes.written, planned, asked.write))
}

/// What taking the fields over changes.
fn changes(changing: &Changing, asked: &ToTake, looked: &[Looked<'_>]) -> Result<Changes, Trouble> {
    let (opened, ledger) = (&changing.opened, changing.ledger());
    let keys = changing.keys(&NO_CHANGE);
    let with = With { ledger, keys: &keys, plain_secrets: asked.plain_secrets, consent: &asked.consent };
    let mut changes = Changes::default();
    for address in &asked.fields {
        if is_known(ledger, address) {
            let field = opened.place(&address.to_string(), asked.stage.as_ref())?;
            take_one(with, opened, &field, looked, &mut changes)?;
        } else {
            let address = with_stage(address.clone(), asked.stage.as_ref())?;
            declare(with, &address, looked, &mut changes)?;
        }
    }
    Ok(changes)
}

/// Whether an entry of this name is declared.
fn is_known(ledger: &Ledger, address: &Address) -> bool {
    let (Some(owner), Some(entry)) = (&address.owner, &address.entry) else { return true };
    let subject = match owner {
        Owner::Shared => Some(Subject::Shared),
        Owner::Unit(unit, _) => ledger.unit_id(unit.as_str()).map(|id| Subject::Unit(id, None)),
    };
    subject.is_none_or(|subject| ledger.entry_names(subject).any(|known| known == entry.as_str()))
}

/// Takes over what a field that is declared has there.
fn take_one(
    with: With<'_>,
    opened: &Opened,
    field: &Place,
    looked: &[Looked<'_>],
    changes: &mut Changes,
) -> Result<(), Trouble> {
    let (address, ledger) = (&field.address, with.ledger);
    let layer = stage_layer(field)?;
    may_be_set(field, ledger.field(field.subject, field.slot).1)?;
    let is_it = |live: &Live<'_>| {
        let drifted = live.drifted.address.as_deref().and_then(|text| Address::parse(text).ok());
        drifted.is_some_and(|drifted| is_same_field(ledger, &drifted, address))
    };
    let found: Vec<Live<'_>> = lives(looked, address).filter(is_it).collect();
    let live = agreed(address, &found, looked)?;
    if field.subject == Subject::Shared {
        all_have_it(ledger, address, &found, looked)?;
    }
    refuse_made(opened, field, layer)?;
    let before = ledger.setting_at(layer, field.subject, field.slot);
    let said = match live {
        Some(live) => {
            let setter = Setter { ledger, keys: with.keys, plain_secrets: with.plain_secrets };
            setter.said(field, Given::System(live), before)?
        }
        None => SettingValue::Absent,
    };
    let note = Note { why: with.consent.why.clone(), ..Note::default() };
    let (edit, written) = write(ledger, field, layer, &said, &note);
    changes.edits.extend(edit);
    changes.layers.push(layer);
    changes.written.push(written);
    Ok(())
}

/// Refuses to put a text in the place of references: what a value is made of is what changed, and it may be a
/// secret, or another stage's.
fn refuse_made(opened: &Opened, field: &Place, layer: LayerId) -> Result<(), Trouble> {
    let LayerId::Stage(stage) = layer else { return Ok(()) };
    let (resolver, ledger) = (opened.resolver(), &opened.ledger);
    let mut session = resolver.session(unit_of(field.subject));
    let id = FieldId { subject: field.subject, stage, slot: field.slot };
    let Outcome::Value(effective) = session.outcome(id) else { return Ok(()) };
    let Some(made_from) = shown::made_from(ledger, &effective) else { return Ok(()) };
    let message = format!(
        "`{}` is made from {made_from}: what is there would take the place of these references",
        field.address
    );
    Err(Trouble::refused(message)
        .help("take over what has changed of these, or give the field a text of its own: cledger set"))
}

fn stage_layer(field: &Place) -> Result<LayerId, Trouble> {
    if let Target::Layer(layer @ LayerId::Stage(_)) = field.target {
        return Ok(layer);
    }
    let message = format!("`{}` names no stage, and only stages are live", field.address);
    Err(Trouble::usage(message).help("write @STAGE behind the field"))
}

/// The plan, with names kept that new variables would not have by themselves.
fn planned(changing: &Changing, changes: &mut Changes) -> Result<Planned, Trouble> {
    let planned = changing.plan(&changes.edits)?;
    let mut more = Vec::new();
    for ((unit, entry), Found { format, steps, .. }) in &changes.declared {
        let Some(id) = planned.after.unit_id(unit.as_str()) else { continue };
        let mut outputs = planned.after.unit(id).outputs.iter().filter(|output| output.format == *format);
        let has_it = outputs
            .any(|output| output.names_as_written(&planned.after, id).iter().any(|(name, _)| name == steps));
        if !has_it {
            let text = literal(&Value::text(&as_text(*format, steps)), None);
            more.push(Edit {
                file: format!("units/{unit}.toml"),
                path: ["variables", entry.as_str(), "as"].map(str::to_owned).into(),
                header: 2,
                what: What::Set(format!("{{ {} = {text} }}", key(format.name()))),
            });
        }
    }
    let planned = if more.is_empty() {
        planned
    } else {
        changes.edits.extend(more);
        changing.plan(&changes.edits)?
    };
    let planned = where_found(changing, planned, changes)?;
    for (unit, entry) in changes.declared.keys() {
        let address = format!("{unit}/{entry}");
        let declared = changes.written.iter_mut().filter(|written| written.address == address);
        if let Some(outputs) = outputs_of(&planned.after, unit, entry) {
            for said in declared.filter_map(|written| written.after.as_mut()) {
                let into = if outputs.is_empty() { "no output".to_owned() } else { outputs.join(", ") };
                *said = format!("{said}; into {into}");
            }
        }
    }
    Ok(planned)
}
