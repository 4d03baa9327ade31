//! `cledger remove`: something goes, with the settings that are made for it.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::cipher::KeyScope;
use cledger_core::findings::{Code, Finding};
use cledger_core::model::{Ledger, Stage};
use cledger_store::{Disk, Named, move_key, remove};

use super::rename::{files, what};
use super::replace::differing;
use crate::app::App;
use crate::change::{ChangeOptions, Changing};
use crate::complete;
use crate::error::{CliError, status};
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct RemoveArgs {
    /// What goes: units, UNIT+INSTANCE, UNIT/ENTRY, UNIT/ENTRY.FIELD, shared/ENTRY, @STAGE or @GROUP
    #[arg(required = true, value_name = "ADDRESS", add = ArgValueCompleter::new(complete::address))]
    addresses: Vec<String>,
    /// Do it; without, it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

/// Refuses a group that stages list: with its file gone it would be there all the same, and empty.
fn must_not_be_listed(ledger: &Ledger, things: &[Named], thing: &Named) -> Result<(), CliError> {
    let Named::Group(name) = thing else { return Ok(()) };
    let Some(group) = ledger.group_id(name.as_str()) else { return Ok(()) };
    let stays = |stage: &&Stage| !things.contains(&Named::Stage(stage.name.clone()));
    let listing = ledger.stages.iter().filter(stays).filter(|stage| stage.groups.contains(&group));
    let listing: Vec<&str> = listing.map(|stage| stage.name.as_str()).collect();
    if listing.is_empty() {
        return Ok(());
    }
    let message = format!("@{name} cannot go: it is among the groups of {}", listing.join(", "));
    Err(CliError::refused(message).help("take it out of their `groups` in ledger.toml first"))
}

pub(crate) fn run(args: &RemoveArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let things: Vec<Named> = args
        .addresses
        .iter()
        .map(|text| what(app, ledger, &Address::parse(text)?))
        .collect::<Result<_, CliError>>()?;
    things.iter().try_for_each(|thing| must_not_be_listed(ledger, &things, thing))?;
    let disk = Disk::new(changing.root().to_owned());
    let mut changed = remove(&disk, ledger, &things).map_err(|error| CliError::usage(error.to_string()))?;
    for thing in &things {
        let scope = match thing {
            Named::Stage(name) => KeyScope::Stage(name.clone()),
            Named::Group(name) => KeyScope::Group(name.clone()),
            _ => continue,
        };
        let more = move_key(&changing.keys(&changed), &scope, None)?;
        changed.extend(more);
    }
    let planned = changing.plan_texts(changed)?;
    let (caused, _) = differing(ledger, &planned.after);
    // What a removed thing no longer clashes or agrees with is no reason to keep it.
    let depends = |finding: &&Finding| {
        matches!(
            finding.code,
            Code::ReferenceUnknown
                | Code::MissingValue
                | Code::UnknownName
                | Code::UnusedSetting
                | Code::WrongType
        )
    };
    let dependents: Vec<&Finding> = caused.iter().filter(depends).collect();
    let names = args.addresses.join(", ");
    if !dependents.is_empty() {
        let listed: Vec<String> = dependents
            .iter()
            .map(|finding| format!("{}[{}] {}", finding.severity.name(), finding.code, finding.address))
            .collect();
        return Err(CliError::Plain {
            status: status::REFUSED,
            message: format!("{names} cannot go: something depends on it"),
            pointed: Some(listed.join("\n")),
            help: Some("change these first, or let them go too: name them in the same command".to_owned()),
        });
    }
    changing
        .guard(&[], &planned, &args.change)
        .or_else(|error| if args.write { Err(error) } else { Ok(()) })?;
    if args.write {
        changing.write(&planned)?;
    }
    let files = files(ledger, &planned.changed);
    if app.console.is_json() {
        app.console.document(&json::remove::document(&args.addresses, &files, &planned.effects, args.write));
    } else {
        text::remove::print(app.console, &names, &files, &planned.effects, args.write);
    }
    Ok(status::CLEAN)
}
