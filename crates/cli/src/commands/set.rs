//! `cledger set` and `cledger unset`: settings of stages and groups, and defaults.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::model::{Declaration, LayerId, Ledger, Note, Setting, SettingValue, Vary, Verdict};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::types::{Type, parse_date};
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Target, What, literal, parse_value, setting};

use crate::app::App;
use crate::change::{ChangeOptions, Changing};
use crate::complete;
use crate::error::{CliError, status};
use crate::options::standard_input;
use crate::output::{json, text, values};
use crate::place::{DEFAULT, Place, place};

#[derive(Debug, Args)]
pub(crate) struct SetArgs {
    /// What to set, such as ticket-desk/seat_hold@test=45s; a group or @default may stand for the stage
    #[arg(required = true, value_name = "ADDRESS[=VALUE]")]
    #[arg(add = ArgValueCompleter::new(complete::address))]
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
    /// Let the value come from outside when it is used: `env:NAME` or `file:PATH`
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
                    rows: Vec::new(),
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
    changing.refuse_bad_rows(&planned)?;
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
    Ok(Note { why: args.change.why.clone(), until, ..Note::default() })
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
        if matches!(declaration.this_type, Type::List | Type::Map | Type::Table) {
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
    if declaration.this_type == Type::Table {
        // Its rows are read once the change is planned.
        return Ok(SettingValue::Value(Held::new(Value::text(&typed), false)));
    }
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

pub(crate) fn typed_value(text: &str, declaration: &Declaration) -> Option<Value> {
    match declaration.this_type {
        Type::List | Type::Map => parse_value(text),
        _ if reference::is_in(text) => Some(Value::text(text)),
        this => this.read(text),
    }
}

/// The setting that stands there already.
fn there<'l>(ledger: &'l Ledger, place: &Place) -> Option<&'l Setting> {
    let Target::Layer(layer) = place.target else { return None };
    ledger.setting_at(layer, place.subject, place.slot)
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
pub(crate) fn setting_literal(said: &SettingValue, note: &Note, before: Option<&str>) -> String {
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
            words.push(format!("from = {}", literal(&Value::text(&source.0), None)));
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
