//! `cledger set` and `cledger unset`: settings of stages and groups, and defaults.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::cipher::Cipher;
use cledger_core::model::{Declaration, LayerId, Ledger, Note, Setting, SettingValue, Vary, Verdict};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::resolve::Opened;
use cledger_core::types::Type;
use cledger_core::value::{Held, Value};
use cledger_store::{Edit, Keys, Target, What, literal, parse_value, setting};
use zeroize::Zeroizing;

use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text, values};
use crate::place::{DEFAULT, Place, place};
use crate::secrets::{SecretOptions, typed_twice};

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
    #[arg(long, conflicts_with_all = ["stdin", "file", "generate", "from"])]
    absent: bool,
    /// Let the value come from outside when it is used: `env:NAME` or `file:PATH`
    #[arg(long, value_name = "SOURCE", conflicts_with_all = ["stdin", "file", "generate"])]
    from: Option<String>,
    #[command(flatten)]
    secret: SecretOptions,
    /// Let secrets stand in plain text where the stage or group has no key
    #[arg(long)]
    plain_secrets: bool,
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
    let keys = changing.keys(&NO_CHANGE);
    for text in &args.settings {
        let (address, value) = match text.split_once('=') {
            Some((address, value)) => (address, Some(value)),
            None => (text.as_str(), None),
        };
        let place = place(app, ledger, address, args.stage.as_ref())?;
        may_be_set(&place, ledger.field(place.subject, place.slot).1)?;
        let before = there(ledger, &place);
        let said = said(args, (ledger, &keys), &place, value, before)?;
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
    let until = args.until.as_deref().map(|text| day(Some(text))).transpose()?;
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
    (ledger, keys): (&Ledger, &Keys<'_>),
    place: &Place,
    value: Option<&str>,
    before: Option<&Setting>,
) -> Result<SettingValue, CliError> {
    let (address, declaration) = (&place.address, ledger.field(place.subject, place.slot).1);
    let given = [value.is_some(), args.absent, args.secret.is_given(), args.from.is_some()];
    let given = given.iter().filter(|given| **given).count();
    if given > 1 || given == 0 && !declaration.secret {
        let message = format!("`{address}` needs exactly one value");
        return Err(CliError::usage(message)
            .help(format!("write {address}=VALUE, or one of --absent, --stdin, --file and --from")));
    }
    if (args.secret.stdin || args.secret.file.is_some()) && args.settings.len() > 1 {
        return Err(CliError::usage("--stdin and --file give the value of one setting only"));
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
            CliError::refused(message).help(format!("cledger set {address}, which asks for it, or --stdin"))
        );
    }
    let typed = match (value, args.secret.read()?) {
        (Some(value), _) => value.to_owned().into(),
        (None, Some(text)) => text,
        (None, None) => typed_twice(&address.to_string())?,
    };
    if declaration.secret
        && value.is_none()
        && let Target::Layer(layer) = place.target
        && let Some(cipher) = encrypted((ledger, keys), place, layer, &typed, before, args.plain_secrets)?
    {
        return Ok(SettingValue::Cipher(cipher));
    }
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

/// The cipher text of a secret; `None` where it is to stand in plain text. The one that is there stays,
/// if it opens to the same.
fn encrypted(
    (ledger, keys): (&Ledger, &Keys<'_>),
    place: &Place,
    layer: LayerId,
    secret: &str,
    before: Option<&Setting>,
    plain: bool,
) -> Result<Option<Cipher>, CliError> {
    let (address, scope) = (&place.address, ledger.key_scope(layer));
    if !keys.has_key(&scope) {
        if plain {
            return Ok(None);
        }
        let message = format!("`{}` has no key: `{address}` would stand there in plain text", scope.name());
        let make = format!("make one: cledger key make @{}; or add --plain-secrets", scope.name());
        return Err(CliError::refused(message).help(make));
    }
    let declaration = ledger.field(place.subject, place.slot).1;
    let Some(held) = secret_value(secret, declaration) else {
        let message = format!("the value for `{address}` is not {}", declaration.this_type.describe());
        return Err(CliError::usage(message));
    };
    if let Some(rejection) = declaration.rejection(held.expose()) {
        let message = format!("the value for `{address}` is not allowed: it must be {}", rejection.asks);
        return Err(CliError::usage(message).help("the declaration says what is allowed"));
    }
    let text = Zeroizing::new(held.expose().to_text());
    if let Some(SettingValue::Cipher(cipher)) = before.map(|setting| &setting.value)
        && let Opened::Text(known) = keys.open(&scope, cipher)
        && known.as_str() == text.as_str()
    {
        return Ok(Some(cipher.clone()));
    }
    let address = Address { stage: None, ..address.clone() }.to_string();
    let text = keys.seal(&scope, &address, &text)?.into();
    Ok(Some(Cipher { text, layer, address }))
}

/// A secret as its field's type has it; `None` if it is not of that type.
fn secret_value(secret: &str, declaration: &Declaration) -> Option<Held> {
    let value = match declaration.this_type {
        Type::List | Type::Map => parse_value(secret),
        this => this.read(secret),
    };
    value.map(|value| Held::new(value, true)).filter(|held| declaration.this_type.fits(held.expose()))
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
        SettingValue::Cipher(_) => values::MASK.to_owned(),
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
        SettingValue::Cipher(cipher) => {
            let text = Value::text(&cipher.text);
            if !has_note {
                return literal(&text, before);
            }
            words.push(format!("value = {}", literal(&text, None)));
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
