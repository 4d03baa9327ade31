//! Settings of stages and groups, and defaults, set and taken out by their addresses.

use std::collections::BTreeSet;

use cledger_core::address::{Address, Owner};
use cledger_core::effects::Effect;
use cledger_core::findings::Finding;
use cledger_core::model::{LayerId, Ledger, LookUp, Note, Setting, SettingValue, Source};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::types::Type;
use cledger_store::{Edit, Target, What, literal, setting};
use zeroize::Zeroizing;

use crate::change::{Changing, Concerns, Consent, NO_CHANGE, Planned};
use crate::meant::Place;
use crate::setting::{Given, Setter, Written, may_be_set, there, write};
use crate::shown;
use crate::trouble::Trouble;

/// Gives the text of a secret when it is asked for: from a pipe, from a file, or made just now.
pub type SecretText<'s> = &'s dyn Fn() -> Result<Zeroizing<String>, Trouble>;

/// What the settings are to say, where no value stands behind their addresses.
#[derive(Default)]
pub enum ToSay<'s> {
    /// Whoever is there is asked: secrets alone.
    #[default]
    Asked,
    /// There is none, on purpose.
    Absent,
    /// It comes from outside when it is used: `env:NAME` or `file:PATH`.
    From(String),
    /// This text: that of all settings, or another one each time.
    Text(SecretText<'s>),
}

/// What is to be set.
#[derive(Default)]
pub struct ToSet<'s> {
    /// The addresses, each with a value behind `=` or without.
    pub settings: Vec<String>,
    /// The stage or group, where an address names none.
    pub stage: Option<Name>,
    /// What they say where no value is given.
    pub say: ToSay<'s>,
    /// Whether secrets may stand in plain text where there is no key.
    pub plain_secrets: bool,
    /// The last day on which they are meant to count.
    pub until: Option<String>,
    /// Where their values are looked up.
    pub looked_up: Option<String>,
    /// What somebody says to it.
    pub consent: Consent,
}

/// What settings were written, and what that does.
#[derive(Debug)]
pub struct SettingsChanged {
    /// The settings.
    pub settings: Vec<Written>,
    /// The effective values that change.
    pub effects: Vec<Effect>,
    /// The findings that it causes.
    pub caused: Vec<Finding>,
    /// The findings that it cures.
    pub cured: Vec<Finding>,
    /// Whether it is done.
    pub written: bool,
}

/// Settings in the making.
#[derive(Default)]
struct Making {
    written: Vec<Written>,
    edits: Vec<Edit>,
    layers: Vec<LayerId>,
}

/// Sets fields at the places that addresses name.
pub fn set(changing: &Changing, asked: &ToSet<'_>) -> Result<SettingsChanged, Trouble> {
    let ledger = changing.ledger();
    let note = note(changing, asked)?;
    let keys = changing.keys(&NO_CHANGE);
    let setter = Setter { ledger, keys: &keys, plain_secrets: asked.plain_secrets };
    let mut making = Making::default();
    for text in &asked.settings {
        let (address, value) = match text.split_once('=') {
            Some((address, value)) => (address, Some(value)),
            None => (text.as_str(), None),
        };
        let place = changing.opened.place(address, asked.stage.as_ref())?;
        may_be_set(&place, ledger.field(place.subject, place.slot).1)?;
        let before = there(ledger, &place);
        let said = said(changing, asked, setter, &place, value, before)?;
        let (edit, this) = match place.target {
            Target::Layer(layer) => write(ledger, &place, layer, &said, &note),
            Target::Default => {
                let has_note = asked.until.is_some() || asked.looked_up.is_some();
                write_default(ledger, &place, said, has_note)?
            }
        };
        making.written.push(this);
        making.edits.extend(edit);
        making.layers.extend(layer_of(&place));
    }
    finish(changing, making, &asked.consent)
}

/// Takes settings and defaults out at the places that addresses name.
pub fn unset(
    changing: &Changing,
    settings: &[String],
    stage: Option<&Name>,
    consent: &Consent,
) -> Result<SettingsChanged, Trouble> {
    let ledger = changing.ledger();
    let mut making = Making::default();
    for text in settings {
        let place = changing.opened.place(text, stage)?;
        let before = there(ledger, &place).map(|setting| shown::setting(&setting.value));
        let before = before.or_else(|| default_shown(ledger, &place));
        if before.is_none() {
            let message = format!("`{}` is not set there, so it cannot be taken out", place.address);
            return Err(Trouble::usage(message).help("`cledger show` says where a value comes from"));
        }
        let edit = setting(ledger, place.target, place.subject, place.slot, What::Remove);
        let (address, file) = (place.address.to_string(), edit.file.clone());
        making.written.push(Written { address, file, before, after: None });
        making.edits.push(edit);
        making.layers.extend(layer_of(&place));
    }
    finish(changing, making, consent)
}

/// What makes a default of a value.
fn write_default(
    ledger: &Ledger,
    place: &Place,
    said: SettingValue,
    has_note: bool,
) -> Result<(Option<Edit>, Written), Trouble> {
    let SettingValue::Value(held) = said else { return Err(no_default()) };
    if has_note {
        return Err(no_default());
    }
    let what = What::Set(literal(held.expose(), None));
    let edit = setting(ledger, place.target, place.subject, place.slot, what);
    let written = Written {
        address: place.address.to_string(),
        file: edit.file.clone(),
        before: default_shown(ledger, place),
        after: Some(shown::held(&held)),
    };
    Ok((Some(edit), written))
}

fn no_default() -> Trouble {
    Trouble::usage("a default is a plain value, without --absent, --from, --until and --looked-up")
}

fn finish(changing: &Changing, making: Making, consent: &Consent) -> Result<SettingsChanged, Trouble> {
    let planned = changing.plan(&making.edits)?;
    changing.refuse_bad_rows(&planned)?;
    changing.guard(&making.layers, &planned, consent)?;
    changing.write(&planned)?;
    Ok(SettingsChanged::of(changing, making.written, planned, changing.writes()))
}

impl SettingsChanged {
    /// What a plan changes, with what it causes and cures in the units that it is about.
    pub(crate) fn of(changing: &Changing, settings: Vec<Written>, planned: Planned, written: bool) -> Self {
        let said = settings.iter().filter_map(|one| Address::parse(&one.address).ok()?.owner);
        let owners = said.chain(planned.effects.iter().filter_map(|effect| effect.address.owner.clone()));
        let units: BTreeSet<Name> = owners
            .filter_map(|owner| match owner {
                Owner::Unit(unit, _) => Some(unit),
                Owner::Shared => None,
            })
            .collect();
        let (concerns, stages) = (Concerns::Units(units), planned.stages.as_ref());
        let (caused, cured) = changing.differing_as(&planned, &concerns, stages);
        Self { settings, effects: planned.effects, caused, cured, written }
    }
}

fn note(changing: &Changing, asked: &ToSet<'_>) -> Result<Note, Trouble> {
    let until = asked.until.as_deref().map(|text| changing.opened.at.day(Some(text))).transpose()?;
    let looked_up = asked.looked_up.as_deref().map(LookUp::parse).transpose().map_err(|error| {
        Trouble::usage(error.to_string()).help("write https://HOST/PATH#/NAME, OUTLET or OUTLET#/NAME")
    })?;
    Ok(Note { why: asked.consent.why.clone(), until, looked_up, ..Note::default() })
}

fn layer_of(place: &Place) -> Option<LayerId> {
    match place.target {
        Target::Layer(layer) => Some(layer),
        Target::Default => None,
    }
}

/// What is to be said for a field.
fn said(
    changing: &Changing,
    asked: &ToSet<'_>,
    setter: Setter<'_>,
    place: &Place,
    value: Option<&str>,
    before: Option<&Setting>,
) -> Result<SettingValue, Trouble> {
    let (address, declaration) = (&place.address, setter.ledger.field(place.subject, place.slot).1);
    let says_it = !matches!(asked.say, ToSay::Asked);
    if value.is_none() && !says_it && asked.looked_up.is_some() {
        // Where it is looked up is said of what is there, or of a value that nobody knows yet.
        return Ok(before.map_or(SettingValue::Absent, |setting| setting.value.clone()));
    }
    if value.is_some() && says_it || value.is_none() && !says_it && !declaration.secret {
        let message = format!("`{address}` needs exactly one value");
        return Err(Trouble::usage(message)
            .help(format!("write {address}=VALUE, or one of --absent, --stdin, --file and --from")));
    }
    if declaration.secret && value.is_some_and(|value| !reference::is_in(value)) {
        let message = format!("`{address}` is a secret: an argument can be seen by others on this machine");
        return Err(
            Trouble::refused(message).help(format!("cledger set {address}, which asks for it, or --stdin"))
        );
    }
    let typed = match (value, &asked.say) {
        (Some(value), _) => return setter.said(place, Given::Argument(value), before),
        (None, ToSay::Absent) => return Ok(SettingValue::Absent),
        (None, ToSay::From(source)) => return from_outside(place, declaration.this_type, source),
        (None, ToSay::Text(text)) => text()?,
        (None, ToSay::Asked) => {
            let what = address.to_string();
            changing.opened.at.asking.secret(&what)?.ok_or_else(|| {
                Trouble::usage(format!("nobody is there to type {what}"))
                    .help("give it with --stdin, --file PATH or --generate")
            })?
        }
    };
    setter.said(place, Given::Hand(&typed), before)
}

/// A value that is fetched when it is used.
fn from_outside(place: &Place, this: Type, source: &str) -> Result<SettingValue, Trouble> {
    if matches!(this, Type::List | Type::Map | Type::Table) {
        let message = format!("`{}` is a {}, which cannot be fetched", place.address, this.name());
        return Err(Trouble::usage(message));
    }
    Ok(SettingValue::From(Source(source.into())))
}

fn default_shown(ledger: &Ledger, place: &Place) -> Option<String> {
    let declaration = ledger.field(place.subject, place.slot).1;
    let default = declaration.default.as_ref().filter(|_| place.target == Target::Default)?;
    default.place.map(|_| shown::held(&default.value))
}
