//! `cledger outlet put`: one unit brought to the outlets of a stage by hand.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_core::render::rendering;
use cledger_core::resolve::Resolver;
use cledger_store::Scope;

use crate::app::{App, Chosen, unit_of};
use crate::change::{CHANGES, ChangeOptions, countersigned};
use crate::commands::deliver::plan::places_of;
use crate::commands::{whole_unit, with_stage, without_delivery};
use crate::complete;
use crate::conditions::day;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::bring::{Bringer, Bringing, Brought, masking};
use crate::reality::made::made;
use crate::reality::{Around, Seeing, look};
use crate::rendered::not_readable;

#[derive(Debug, Args)]
pub(crate) struct PutArgs {
    /// What to bring: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Bring it; without it is only shown what differs there
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &PutArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    let owner = whole_unit(&address)?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let rendering = rendering(&mut resolver.session(unit_of(subject)), subject, chosen.stage);
    if !rendering.unreadable.is_empty() {
        return Err(not_readable(&[owner.to_string()], &outside, ""));
    }
    let gaps = &rendering.gaps;
    if !gaps.is_empty() {
        if app.console.is_json() {
            app.console.document(&json::outlet::brought(&[], &[], &ledger, gaps));
        } else {
            text::render::gaps(app.console, &ledger, gaps);
            app.console.line("Nothing is brought.");
        }
        return Ok(status::FOUND);
    }
    let around = Around::of(app, &root, &outside);
    let places = places_of(&ledger, &around, subject, chosen.stage)?;
    let today = day(None)?;
    let looked = look(places, &resolver, today, Seeing::Live(app.console))?;
    if !args.write {
        let units: Vec<_> = looked.into_iter().flat_map(|looked| looked.units).collect();
        if app.console.is_json() {
            app.console.document(&json::drift::document(&units));
        } else {
            text::drift::print(app.console, &units);
            app.console.line("Nothing is brought yet. To do it, add --write.");
        }
        return Ok(status::CLEAN);
    }
    guard(&ledger, &chosen, &args.change)?;
    let content = made(&resolver, &rendering, subject, chosen.stage)?;
    let masking = masking(&resolver, subject, chosen.stage, &[]);
    let bringer = Bringer { ledger: &ledger, ledger_folder: &root, trust: around.trust.clone(), masking };
    let bringing = Bringing { content: &content, before: None, is_of_ledger: true };
    let brought = bringer.bring(looked, subject, &bringing)?;
    let again = look(
        places_of(&ledger, &around, subject, chosen.stage)?,
        &resolver,
        today,
        Seeing::Live(app.console),
    )?;
    let after: Vec<_> = again.into_iter().flat_map(|looked| looked.units).collect();
    if app.console.is_json() {
        app.console.document(&json::outlet::brought(&brought, &after, &ledger, &[]));
    } else {
        text::outlet::brought(app.console, &brought, &after);
    }
    Ok(if brought.iter().all(Brought::is_well) { status::CLEAN } else { status::OUTSIDE })
}

/// Refuses what a change of the stage's settings would be refused for.
fn guard(ledger: &Ledger, chosen: &Chosen, options: &ChangeOptions) -> Result<(), CliError> {
    let stage = ledger.stage(chosen.stage);
    if stage.locked && options.why.is_none() {
        let message = format!("`{}` is locked: what is there changes with a reason only", stage.name);
        return Err(CliError::refused(message).help("add --why TEXT"));
    }
    countersigned(&[stage], &options.countersign, CHANGES)
}
