//! `cledger set` and `cledger unset`: settings of stages and groups, and defaults.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::model::{LayerId, Ledger, LookUp, Note, Setting, SettingValue};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::types::Type;
use cledger_store::{Edit, Keys, Target, What, literal, setting};

use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text, values};
use crate::place::{Place, place};
use crate::secrets::{SecretOptions, typed_twice};
use crate::setting::{Setter, TextFrom, Written, may_be_set, shown, there, write};

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
    /// Where `outlet lookup` finds the value: `https://HOST/PATH#/JSON/POINTER`, or an outlet's name
    #[arg(long, value_name = "PLACE")]
    looked_up: Option<String>,
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
        let (edit, this) = match place.target {
            Target::Layer(layer) => write(ledger, &place, layer, &said, &note),
            Target::Default => {
                write_default(ledger, &place, said, args.until.is_some() || args.looked_up.is_some())?
            }
        };
        written.push(this);
        edits.extend(edit);
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

/// What makes a default of a value.
fn write_default(
    ledger: &Ledger,
    place: &Place,
    said: SettingValue,
    has_note: bool,
) -> Result<(Option<Edit>, Written), CliError> {
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
        after: Some(values::held(&held)),
    };
    Ok((Some(edit), written))
}

fn no_default() -> CliError {
    CliError::usage("a default is a plain value, without --absent, --from, --until and --looked-up")
}

pub(super) fn finish(
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
    let looked_up = args.looked_up.as_deref().map(LookUp::parse).transpose().map_err(|error| {
        CliError::usage(error.to_string()).help("write https://HOST/PATH#/NAME, OUTLET or OUTLET#/NAME")
    })?;
    Ok(Note { why: args.change.why.clone(), until, looked_up, ..Note::default() })
}

fn layer_of(place: &Place) -> Option<LayerId> {
    match place.target {
        Target::Layer(layer) => Some(layer),
        Target::Default => None,
    }
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
    let from = if value.is_some() { TextFrom::Argument } else { TextFrom::Hand };
    Setter { ledger, keys, plain_secrets: args.plain_secrets }.said(place, &typed, from, before)
}

fn default_shown(ledger: &Ledger, place: &Place) -> Option<String> {
    let declaration = ledger.field(place.subject, place.slot).1;
    let default = declaration.default.as_ref().filter(|_| place.target == Target::Default)?;
    default.place.map(|_| values::held(&default.value))
}
