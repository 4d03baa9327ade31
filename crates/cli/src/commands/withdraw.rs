//! `cledger withdraw`: what was delivered, taken off the outlets again.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::model::{LayerId, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_store::daybook::{Content, Kind, Meta, Packed};
use cledger_store::{Scope, Target, What, setting};
use jiff::Timestamp;

use super::deliver::plan::{Planner, places_of};
use super::{whole_unit, with_stage, without_delivery};
use crate::app::App;
use crate::change::{CHANGES, ChangeOptions, Changing, countersigned};
use crate::complete;
use crate::conditions::day;
use crate::daybook;
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::bring::{Bringer, Bringing, Brought, masking};
use crate::reality::{Around, Seeing, look};

#[derive(Debug, Args)]
pub(crate) struct WithdrawArgs {
    /// What to withdraw: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE")]
    address: String,
    /// The stage, where the address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Take the unit's settings for the stage out of the ledger, too
    #[arg(long)]
    settings: bool,
    /// Do it; without it is only shown
    #[arg(long)]
    write: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &WithdrawArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    let owner = whole_unit(&address)?;
    let (root, ledger) = app.open(&Scope::Whole)?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    let stage = ledger.stage(chosen.stage);
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    let (outside, keys) = (app.outside(&root), app.keys(&root));
    let resolver = Resolver::new(&ledger, &outside, &[]);
    let planner = Planner { resolver: &resolver, keys: &keys };
    let mut book = if args.write {
        daybook::open(app, &ledger, &root)?
    } else {
        daybook::planning(app, &ledger, &root)?
    };
    let (name, owner) = (stage.name.as_str(), owner.to_string());
    let last = planner.last(&mut *book, &owner, chosen.stage)?;
    let Some((record, content)) = last.filter(|(record, _)| record.meta.kind == Kind::Delivered) else {
        return Err(CliError::usage(format!(
            "`{owner}@{name}` has nothing delivered that could be withdrawn"
        ))
        .help(format!("`cledger history {owner}@{name}` shows what there was")));
    };
    let around = Around::of(app, &root, &outside);
    if !args.write {
        let names: Vec<&str> =
            content.files.keys().chain(content.documents.keys()).map(String::as_str).collect();
        if app.console.is_json() {
            app.console.document(&json::outlet::brought(&[], &[], &ledger, &[]));
        } else {
            app.console
                .line(format!("{owner}@{name}  would lose what delivery {} brought:", record.meta.number));
            for name in &names {
                app.console.line(format!("  {name}"));
            }
            for outlet in content.rows.keys() {
                app.console.line(format!("  its rows in {outlet}"));
            }
            app.console.line("Nothing is withdrawn yet. To do it, add --write.");
        }
        return Ok(status::CLEAN);
    }
    countersigned(&[stage], &args.change.countersign, CHANGES)?;
    let why = args
        .change
        .why
        .as_deref()
        .ok_or_else(|| CliError::usage("a withdrawal has a reason").help("add --why TEXT"))?;
    let who = daybook::somebody();
    let mut meta =
        Meta::new(&owner, name, Kind::Withdrawn, who, daybook::reason(why)?, Timestamp::now().to_string());
    meta.host = daybook::host();
    book.hold(&owner, name)?;
    daybook::refuse_left_open(&mut *book, Some(&owner), name)?;
    let packed = Packed::default();
    book.open(&meta, &packed)?;
    let places = places_of(&ledger, &around, subject, chosen.stage)?;
    let looked = look(places, &resolver, day(None)?, Seeing::Live(app.console))?;
    let masking = masking(&resolver, subject, chosen.stage, &[&content]);
    let bringer = Bringer { ledger: &ledger, ledger_folder: &root, trust: around.trust.clone(), masking };
    let nothing = Content::default();
    let bringing = Bringing { content: &nothing, before: Some(&content), is_of_ledger: false };
    let brought = bringer.bring(looked, subject, &bringing)?;
    meta.outlets = brought.iter().map(Brought::answer).collect();
    if brought.iter().all(Brought::is_without_effect) {
        book.close(&owner, name)?;
    } else {
        book.record(meta, &packed)?;
    }
    book.let_go(&owner, name)?;
    if app.console.is_json() {
        app.console.document(&json::outlet::brought(&brought, &[], &ledger, &[]));
    } else {
        text::outlet::brought(app.console, &brought, &[]);
        let settings = if args.settings { "are taken out" } else { "stay as they are" };
        app.console.line(format!("The settings {settings}."));
    }
    if args.settings && brought.iter().all(Brought::is_well) {
        take_out(args, subject, chosen.stage, app)?;
    }
    Ok(if brought.iter().all(Brought::is_well) { status::CLEAN } else { status::OUTSIDE })
}

/// Takes all settings of a unit or instance for a stage out of the ledger.
fn take_out(
    args: &WithdrawArgs,
    subject: Subject,
    stage: StageId,
    app: &mut App<'_>,
) -> Result<(), CliError> {
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let layer = LayerId::Stage(stage);
    let slots = ledger.slots(subject).all();
    let set = slots.filter(|&slot| ledger.setting_at(layer, subject, slot).is_some());
    let remove = |slot| setting(ledger, Target::Layer(layer), subject, slot, What::Remove);
    let edits: Vec<_> = set.map(remove).collect();
    let planned = changing.plan(&edits)?;
    changing.guard(&[layer], &planned, &args.change)?;
    changing.write(&planned)
}
