//! `cledger show`: what a unit gets in a stage.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner};
use cledger_core::cipher::KeyScope;
use cledger_core::model::{Kind, Ledger, Slot, StageId, Subject};
use cledger_core::name::{Name, nearest};
use cledger_core::resolve::{Effective, FieldId, Layer, Outcome, Resolver};
use cledger_store::Scope;
use zeroize::Zeroizing;

use super::compare::deliveries;
use super::deliver::plan::Planner;
use crate::app::{App, Chosen, scope_of, unit_of};
use crate::complete;
use crate::daybook;
use crate::error::{CliError, status};
use crate::options::{AssumeOptions, UnmaskOptions};
use crate::output::{json, style, text};

#[derive(Debug, Args)]
pub(crate) struct ShowArgs {
    /// The unit or a part of it, such as ticket-desk@test or ticket-desk+kiosk/events
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    unmask: UnmaskOptions,
    #[command(flatten)]
    assume: AssumeOptions,
}

pub(crate) fn run(args: &ShowArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = with_stage(Address::parse(&args.address)?, args.stage.as_ref())?;
    if address.delivery.is_some() {
        return delivery(&address, args, app);
    }
    let Some(owner) = &address.owner else {
        let message = format!("`{address}` names no unit");
        return Err(
            CliError::usage(message).help(format!("write UNIT{address}; `cledger list` shows the units"))
        );
    };
    let assumed = args.assume.addresses()?;
    let (root, ledger) = app.open(&scope_of(std::iter::once(&address).chain(&assumed)))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    let fields = fields(&ledger, subject, &address, chosen.stage)?;
    let unmask = args.unmask.granted(&ledger, chosen.stage)?;
    let assumptions = args.assume.read(&ledger, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &assumptions);
    let mut session = resolver.session(unit_of(subject));
    // By the stage's own key, else by that of the group which the secret is from.
    let scope = KeyScope::Stage(ledger.stage(chosen.stage).name.clone());
    let fingerprint = |effective: &Effective<'_>| {
        let secret = effective.expose().filter(|_| effective.secret)?;
        let of_group = match effective.origin.layer {
            Layer::Group(id) => Some(KeyScope::Group(ledger.group(id).name.clone())),
            _ => None,
        };
        let key = outside.keys.key(&scope).ok().or_else(|| outside.keys.key(&of_group?).ok())?;
        Some(key.key.fingerprint(&Zeroizing::new(secret.to_text())))
    };
    let console = &mut *app.console;
    if console.is_json() {
        let document =
            json::show::document(&mut session, (subject, chosen.stage), &fields, unmask, &fingerprint);
        console.document(&document);
        app.tell_unread(&outside);
        return Ok(status::CLEAN);
    }
    for line in heading(&ledger, subject, &chosen) {
        console.line(line);
    }
    if let [one] = fields[..]
        && let Kind::Table { columns, .. } = &ledger.field(subject, one.slot).0.kind
        && let Outcome::Value(effective) = session.outcome(one)
        && let Some(rows) = effective.expose().filter(|_| !effective.secret || unmask)
    {
        text::rows::print(console, &ledger, rows, &session.rows(one), columns);
        return Ok(status::CLEAN);
    }
    text::show::print(console, &mut session, &fields, unmask, &fingerprint);
    app.tell_unread(&outside);
    Ok(status::CLEAN)
}

/// The first lines: whose values, in which stage, and why in this one.
fn heading(ledger: &Ledger, subject: Subject, chosen: &Chosen) -> Vec<String> {
    let stage = ledger.stage(chosen.stage);
    let name = ledger.owner(subject).to_string();
    let mut lines =
        vec![format!("{} in {} (class {})", style::heading(&name), stage.name, stage.class.name())];
    if let Some(because) = &chosen.because {
        lines.push(format!("The stage comes from {because}."));
    }
    lines.push(String::new());
    lines
}

/// Puts the stage of `--stage` into an address that names none.
pub(crate) fn with_stage(mut address: Address, stage: Option<&Name>) -> Result<Address, CliError> {
    match (&address.stage, stage) {
        (Some(named), Some(other)) if named != other => {
            Err(CliError::usage(format!("the address names stage `{named}`, and --stage `{other}`")))
        }
        (None, Some(stage)) => {
            address.stage = Some(stage.clone());
            Ok(address)
        }
        _ => Ok(address),
    }
}

/// Refuses an address of a delivery.
pub(crate) fn without_delivery(address: Address) -> Result<Address, CliError> {
    if address.delivery.is_some() {
        let message = format!("`{address}` names a delivery, which means nothing here");
        return Err(CliError::usage(message).help("leave out what begins with `:`"));
    }
    Ok(address)
}

/// The unit or instance that an address names as a whole.
pub(crate) fn whole_unit(address: &Address) -> Result<&Owner, CliError> {
    address.owner.as_ref().filter(|_| address.entry.is_none()).ok_or_else(|| {
        CliError::usage(format!("`{address}` is no unit of a stage"))
            .help("write UNIT@STAGE, or UNIT+INSTANCE@STAGE")
    })
}

/// A delivery as it was recorded.
fn delivery(address: &Address, args: &ShowArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let (root, ledger) = app.open(&Scope::Whole)?;
    let mut book = daybook::required(app, &ledger, &root)?;
    let record = deliveries::record(&mut *book, address)?;
    let stage = App::stage(&ledger, address.stage.as_ref())?;
    let unmask = args.unmask.granted(&ledger, stage.stage)?;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let content = Planner { resolver: &resolver, keys: &keys }.content(&record)?;
    if app.console.is_json() {
        app.console.document(&json::show::delivery(&record, &content, unmask));
    } else {
        text::show::delivery(app.console, &record, &content, unmask);
    }
    app.tell_unreadable(&keys);
    Ok(status::CLEAN)
}

/// The fields that an address names, in a stage.
pub(super) fn fields(
    ledger: &Ledger,
    subject: Subject,
    address: &Address,
    stage: StageId,
) -> Result<Vec<FieldId>, CliError> {
    let slots = fields_of(ledger, subject, address)?;
    Ok(slots.into_iter().map(|slot| FieldId { subject, stage, slot }).collect())
}

/// The fields that an address names: one, those of an entry, or all. Built-in order, entries by name.
pub(crate) fn fields_of(ledger: &Ledger, subject: Subject, address: &Address) -> Result<Vec<Slot>, CliError> {
    let all = ledger.slots(subject).all();
    let Some(entry) = &address.entry else { return Ok(all.collect()) };
    let of_entry: Vec<Slot> = all.filter(|&slot| ledger.field(subject, slot).0.name == *entry).collect();
    let owner = ledger.owner(subject);
    if of_entry.is_empty() {
        let help = match nearest(entry.as_str(), ledger.entry_names(subject)) {
            Some(near) => format!("did you mean `{owner}/{near}`?"),
            None => format!("`cledger show {owner}` lists its entries"),
        };
        return Err(CliError::usage(format!("`{owner}` has no entry `{entry}`")).help(help));
    }
    let Some(name) = &address.field else { return Ok(of_entry) };
    let name_of = |slot: Slot| ledger.field(subject, slot).1.name.as_ref();
    if let Some(&one) = of_entry.iter().find(|&&slot| name_of(slot) == Some(name)) {
        return Ok(vec![one]);
    }
    let known: Vec<&str> = of_entry.iter().filter_map(|&slot| name_of(slot)).map(Name::as_str).collect();
    let help = match nearest(name.as_str(), known.iter().copied()) {
        Some(near) => format!("did you mean `{owner}/{entry}.{near}`?"),
        None if known.is_empty() => format!("it has no fields: write `{owner}/{entry}`"),
        None => format!("its fields are {}", known.join(", ")),
    };
    Err(CliError::usage(format!("`{entry}` of `{owner}` has no field `{name}`")).help(help))
}
