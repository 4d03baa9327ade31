//! `cledger set` and `cledger unset`: settings of stages and groups, and defaults.

use clap::Args;
use cledger_core::address::{Address, Owner};
use cledger_core::model::{
    Declaration, InstanceId, LayerId, Ledger, Note, Setting, SettingValue, Slot, Subject, Vary, Verdict,
};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::types::{Type, parse_date};
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Target, What, literal, parse_value, setting};

use super::show::{fields_of, with_stage, without_delivery};
use crate::app::App;
use crate::change::{ChangeOptions, Changing};
use crate::error::{CliError, status};
use crate::options::standard_input;
use crate::output::{json, text, values};

/// The stage's name that means a declaration's default.
const DEFAULT: &str = "default";

#[derive(Debug, Args)]
pub(crate) struct SetArgs {
    /// What to set, such as ticket-desk/seat_hold@test=45s; a group or @default may stand for the stage
    #[arg(required = true, value_name = "ADDRESS[=VALUE]")]
    settings: Vec<String>,
    /// The stage or group, where an address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Say that there is none on purpose
    #[arg(long, conflicts_with_all = ["stdin", "from"])]
    absent: bool,
    /// Read the value from standard input; for secrets
    #[arg(long, conflicts_with = "from")]
    stdin: bool,
    /// Let the value come from outside when it is used: env:NAME or file:PATH
    #[arg(long, value_name = "SOURCE")]
    from: Option<String>,
    /// The last day on which the setting is meant to count
    #[arg(long, value_name = "YYYY-MM-DD")]
    until: Option<String>,
    #[command(flatten)]
    change: ChangeOptions,
}

#[derive(Debug, Args)]
pub(crate) struct UnsetArgs {
    /// What to take out, such as ticket-desk/seat_hold@test
    #[arg(required = true, value_name = "ADDRESS")]
    settings: Vec<String>,
    /// The stage or group, where an address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    change: ChangeOptions,
}

/// One setting that is written or taken out.
pub(crate) struct Written {
    /// Its address, with the stage, the group or `default`.
    pub(crate) address: String,
    /// The file that it stands in.
    pub(crate) file: String,
    /// What it said, and what it says, secrets masked; `None` for nothing.
    pub(crate) before: Option<String>,
    pub(crate) after: Option<String>,
}

/// A field at one of the places where it can be set.
struct Place {
    address: Address,
    subject: Subject,
    slot: Slot,
    target: Target,
}

pub(crate) fn set(args: &SetArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let mut written = Vec::new();
    let mut edits = Vec::new();
    let mut layers = Vec::new();
    let note = note(args)?;
    for text in &args.settings {
        let (address, value) = match text.split_once('=') {
            Some((address, value)) => (address, Some(value)),
            None => (text.as_str(), None),
        };
        let place = place(app, ledger, address, args.stage.as_ref())?;
        let (_, declaration) = ledger.field(place.subject, place.slot);
        may_be_set(&place, declaration)?;
        let said = said(args, &place, declaration, value)?;
        let before = there(ledger, &place);
        let old_text = before.map(|setting| source_text(ledger, setting));
        let (what, after) = match (place.target, said) {
            (Target::Default, SettingValue::Value(held)) if args.until.is_none() => {
                let value = held.expose();
                (literal(value, None), values::held(&held))
            }
            (Target::Default, _) => {
                return Err(CliError::usage(
                    "a default is a plain value, without --absent, --from and --until",
                ));
            }
            (Target::Layer(_), said) => {
                let kept = before.and_then(|setting| setting.note.as_deref()).cloned().unwrap_or_default();
                let note = Note {
                    why: note.why.clone().or(kept.why),
                    until: note.until.or(kept.until),
                    looked_up: kept.looked_up,
                };
                (setting_literal(&said, &note, old_text.as_deref()), shown(&said))
            }
        };
        let same = old_text.as_deref() == Some(what.as_str());
        let edit = setting(ledger, place.target, place.subject, place.slot, What::Set(what));
        written.push(Written {
            address: place.address.to_string(),
            file: edit.file.clone(),
            before: before.map(|setting| shown(&setting.value)).or_else(|| default_shown(ledger, &place)),
            after: Some(after),
        });
        if !same {
            edits.push(edit);
        }
        layers.extend(layer_of(&place));
    }
    finish(&changing, &edits, &layers, written, &args.change, app)
}

pub(crate) fn unset(args: &UnsetArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let (mut written, mut edits, mut layers) = (Vec::new(), Vec::new(), Vec::new());
    for text in &args.settings {
        let place = place(app, ledger, text, args.stage.as_ref())?;
        let before = there(ledger, &place).map(|setting| shown(&setting.value));
        let before = before.or_else(|| default_shown(ledger, &place));
        if before.is_none() {
            let message = format!("`{}` is not set there, so it cannot be taken out", place.address);
            return Err(CliError::usage(message).help("`cledger show` says where a value comes from"));
        }
        let edit = setting(ledger, place.target, place.subject, place.slot, What::Remove);
        let (address, file) = (place.address.to_string(), edit.file.clone());
        written.push(Written { address, file, before, after: None });
        edits.push(edit);
        layers.extend(layer_of(&place));
    }
    finish(&changing, &edits, &layers, written, &args.change, app)
}

fn finish(
    changing: &Changing,
    edits: &[Edit],
    layers: &[LayerId],
    written: Vec<Written>,
    options: &ChangeOptions,
    app: &mut App<'_>,
) -> Result<u8, CliError> {
    let planned = changing.plan(edits)?;
    changing.guard(layers, &planned, options)?;
    changing.write(&planned)?;
    if app.console.is_json() {
        app.console.document(&json::change::document(&written, &planned.effects));
    } else {
        text::change::print(app.console, &written, &planned.effects);
    }
    Ok(status::CLEAN)
}

fn note(args: &SetArgs) -> Result<Note, CliError> {
    let until =
        match &args.until {
            None => None,
            Some(text) => Some(parse_date(text).ok_or_else(|| {
                CliError::usage(format!("`{text}` is no day")).help("write it as 2027-01-31")
            })?),
        };
    Ok(Note { why: args.change.why.clone(), until, looked_up: None })
}

/// The field and the place that an address names.
fn place(app: &App<'_>, ledger: &Ledger, text: &str, stage: Option<&Name>) -> Result<Place, CliError> {
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

fn layer_of(place: &Place) -> Option<LayerId> {
    match place.target {
        Target::Layer(layer) => Some(layer),
        Target::Default => None,
    }
}

fn may_be_set(place: &Place, declaration: &Declaration) -> Result<(), CliError> {
    let address = &place.address;
    if declaration.derived {
        let message = format!("`{address}` is derived from other fields, and cannot be set");
        return Err(CliError::usage(message).help("set the fields that it is made of"));
    }
    if declaration.vary == Vary::Never && place.target != Target::Default {
        let message =
            format!("`{address}` is the same everywhere (vary = \"never\"), and cannot be set in one place");
        let everywhere = Address { stage: Name::parse(DEFAULT).ok(), ..address.clone() };
        return Err(CliError::usage(message).help(format!("set it everywhere: cledger set {everywhere}=…")));
    }
    Ok(())
}

/// What is to be said for a field, by the options and the value behind its address.
fn said(
    args: &SetArgs,
    place: &Place,
    declaration: &Declaration,
    value: Option<&str>,
) -> Result<SettingValue, CliError> {
    let address = &place.address;
    let given = [value.is_some(), args.absent, args.stdin, args.from.is_some()];
    if given.iter().filter(|given| **given).count() != 1 {
        let message = format!("`{address}` needs exactly one value");
        return Err(CliError::usage(message)
            .help(format!("write {address}=VALUE, or one of --absent, --stdin and --from")));
    }
    if args.stdin && args.settings.len() > 1 {
        return Err(CliError::usage("--stdin gives the value of one setting only"));
    }
    if args.absent {
        return Ok(SettingValue::Absent);
    }
    if let Some(source) = &args.from {
        if matches!(declaration.this_type, Type::List | Type::Map) {
            let message =
                format!("`{address}` is a {}, which cannot be fetched", declaration.this_type.name());
            return Err(CliError::usage(message));
        }
        return Ok(SettingValue::From(cledger_core::model::Source(source.as_str().into())));
    }
    if declaration.secret && value.is_some_and(|value| !reference::is_in(value)) {
        let message = format!("`{address}` is a secret: an argument can be seen by others on this machine");
        return Err(
            CliError::refused(message).help(format!("cledger set {address} --from env:NAME, or --stdin"))
        );
    }
    let typed = match value {
        Some(value) => value.to_owned().into(),
        None => standard_input()?,
    };
    let value = typed_value(&typed, declaration).ok_or_else(|| {
        let message = format!("the value for `{address}` is not {}", declaration.this_type.describe());
        CliError::usage(message).help(format!("its type is {}", declaration.this_type.name()))
    })?;
    match declaration.judge(&value) {
        Verdict::NotAllowed => {
            let asks = declaration.rejection(&value).map(|rejection| rejection.asks).unwrap_or_default();
            let message = format!("the value for `{address}` is not allowed: it must be {asks}");
            Err(CliError::usage(message).help("the declaration says what is allowed"))
        }
        Verdict::WrongType => {
            let message = format!("the value for `{address}` is not {}", declaration.this_type.describe());
            Err(CliError::usage(message))
        }
        Verdict::Fits | Verdict::Open => Ok(SettingValue::Value(Held::new(value, declaration.secret))),
    }
}

fn typed_value(text: &str, declaration: &Declaration) -> Option<Value> {
    match declaration.this_type {
        Type::List | Type::Map => parse_value(text),
        _ if reference::is_in(text) => Some(Value::text(text)),
        this => this.read(text),
    }
}

/// The setting that stands there already.
fn there<'l>(ledger: &'l Ledger, place: &Place) -> Option<&'l Setting> {
    let Target::Layer(layer) = place.target else { return None };
    let list: &[Setting] = match place.subject {
        Subject::Shared => {
            let (entry, position) = ledger.shared_slots.entry_of(place.slot);
            let at = ledger.shared_slots.entries.iter().position(|known| known.first == entry.first)?;
            let of_entry = ledger.layer(layer).shared.get(at)?;
            return of_entry.iter().find(|setting| setting.slot.0 as usize == position);
        }
        Subject::Unit(unit, instance) => {
            let settings = ledger.unit_layer(ledger.unit(unit), layer);
            match instance {
                None => &settings.unit,
                Some(wanted) => of_instance(&settings.instances, wanted),
            }
        }
    };
    list.iter().find(|setting| setting.slot == place.slot)
}

fn of_instance(
    instances: &[(InstanceId, cledger_core::source::Place, Vec<Setting>)],
    wanted: InstanceId,
) -> &[Setting] {
    instances.iter().find(|(id, ..)| *id == wanted).map_or(&[], |(.., settings)| settings)
}

fn default_shown(ledger: &Ledger, place: &Place) -> Option<String> {
    let declaration = ledger.field(place.subject, place.slot).1;
    let default = declaration.default.as_ref().filter(|_| place.target == Target::Default)?;
    default.place.map(|_| values::held(&default.value))
}

/// The text of a setting's value in its file.
fn source_text(ledger: &Ledger, setting: &Setting) -> String {
    let text = ledger.files.get(setting.place.file).map_or("", |file| file.text.as_str());
    text.get(setting.place.start as usize..setting.place.end as usize).unwrap_or_default().to_owned()
}

fn shown(said: &SettingValue) -> String {
    match said {
        SettingValue::Value(held) => values::held(held),
        SettingValue::Absent => "absent".to_owned(),
        SettingValue::From(source) => format!("from {}", values::escape(&source.0)),
    }
}

/// A setting as it is written: a plain value, or a table of the setting words.
fn setting_literal(said: &SettingValue, note: &Note, before: Option<&str>) -> String {
    let has_note = note.why.is_some() || note.until.is_some() || note.looked_up.is_some();
    let mut words = Vec::new();
    match said {
        SettingValue::Value(held) => {
            let value = held.expose();
            if !has_note && !is_like_a_setting(value) {
                return literal(value, before);
            }
            words.push(format!("value = {}", literal(value, None)));
        }
        SettingValue::Absent => words.push("absent = true".to_owned()),
        SettingValue::From(source) => {
            words.push(format!("from = {}", literal(&Value::text(&source.0), None)))
        }
    }
    if let Some(why) = &note.why {
        words.push(format!("why = {}", literal(&Value::text(why), None)));
    }
    if let Some(until) = note.until {
        words.push(format!("until = {until}"));
    }
    if let Some(looked_up) = &note.looked_up {
        words.push(format!("looked_up = {}", literal(&Value::text(looked_up), None)));
    }
    format!("{{ {} }}", words.join(", "))
}

/// Whether a map would be taken for a table of the setting words.
fn is_like_a_setting(value: &Value) -> bool {
    let words = ["value", "absent", "from", "looked_up", "why", "until"];
    matches!(value, Value::Map(map) if !map.is_empty() && map.keys().all(|key| words.contains(&key.as_str())))
}
