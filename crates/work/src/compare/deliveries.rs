//! `compare` where a side is a delivery: `UNIT@STAGE:NUMBER` or `UNIT@STAGE:last`.

use cledger_core::address::{Address, Delivery};
use cledger_core::compare::{Difference, Named, NamedCompared, named};
use cledger_core::resolve::{FieldId, Resolver};
use cledger_core::value::Value;
use cledger_store::Scope;
use cledger_store::daybook::{Content, Daybook, Record, Wanted};

use super::CompareArgs;
use crate::app::{App, unit_of};
use crate::commands::deliver::plan::Planner;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::made::field_name;

pub(super) fn run(args: &CompareArgs, sides: (&str, &str), app: &mut App<'_>) -> Result<u8, CliError> {
    let (left, right) = (Address::parse(sides.0)?, Address::parse(sides.1)?);
    let (root, ledger) = app.open(&Scope::Whole)?;
    let mut book = daybook::required(app, &ledger, &root)?;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let planner = Planner { resolver: &resolver, keys: &keys };
    let mut side = |address: &Address| match address.delivery {
        Some(_) => Ok(of_content(&planner.content(&record(&mut *book, address)?)?)),
        None => of_ledger(address, &resolver, app),
    };
    let compared = named(side(&left)?, side(&right)?, false);
    if app.console.is_json() {
        app.console.document(&json::compare::files(&compared, sides));
    } else {
        text::compare::files(app.console, &compared, sides, args.all);
    }
    app.tell_unreadable(&keys);
    let differs = |one: &NamedCompared| !matches!(one.difference, Difference::Same | Difference::Unknown);
    Ok(if compared.iter().any(differs) { status::FOUND } else { status::CLEAN })
}

/// The record that an address names.
pub(crate) fn record(book: &mut dyn Daybook, address: &Address) -> Result<Record, CliError> {
    let (Some(owner), Some(stage), None) = (&address.owner, &address.stage, &address.entry) else {
        let message = format!("`{address}` names no delivery of a unit");
        return Err(CliError::usage(message).help("write UNIT@STAGE:NUMBER, or UNIT@STAGE:last"));
    };
    let (owner, stage) = (owner.to_string(), stage.as_str());
    let wanted = match address.delivery {
        Some(Delivery::Number(number)) => Wanted::numbered(&owner, stage, number.into()),
        _ => Wanted::last_of(&owner, stage),
    };
    book.records(&wanted)?.pop().ok_or_else(|| {
        CliError::usage(format!("there is no delivery `{address}`"))
            .help(format!("`cledger history {owner}@{stage}` lists those that there are"))
    })
}

fn of_content(content: &Content) -> Vec<Named> {
    let value = |text: &str| serde_json::from_str(text).ok().and_then(Value::from_json);
    let named = content.values.iter().map(|(name, stored)| Named {
        name: vec![name.clone()],
        value: stored.text.as_ref().and_then(|text| value(text)),
        is_bare: false,
        secret: stored.secret,
    });
    named.collect()
}

/// What the ledger says now.
fn of_ledger(address: &Address, resolver: &Resolver<'_>, app: &App<'_>) -> Result<Vec<Named>, CliError> {
    let ledger = resolver.ledger();
    let Some(owner) = address.owner.as_ref().filter(|_| address.entry.is_none()) else {
        let message = format!("`{address}` names no unit, and a delivery is of one");
        return Err(CliError::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let stage = App::stage(ledger, address.stage.as_ref())?.stage;
    let subject = app.subject_in(ledger, owner, stage)?;
    let mut session = resolver.session(unit_of(subject));
    let mut all = Vec::new();
    for slot in ledger.slots(subject).all() {
        let (entry, field) = ledger.field(subject, slot);
        let outcome = session.outcome(FieldId { subject, stage, slot });
        if let Some(effective) = outcome.value() {
            all.push(Named {
                name: vec![field_name(&entry.name, field)],
                // Days are texts in what was delivered.
                value: effective.expose().map(cledger_core::render::as_written),
                is_bare: false,
                secret: effective.is_secret(),
            });
        }
    }
    Ok(all)
}
