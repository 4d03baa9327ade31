//! `cledger promote`: what was delivered to one stage, moved up to the next.

use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::folio::{Entered, ToEnter, carry_over};
use cledger_work::promote::{ToPromote, promote};
use cledger_work::whole_units::WholeUnits;

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct PromoteArgs {
    /// From where: @STAGE, UNIT@STAGE, bundle:NAME@STAGE, or a delivery of one, as UNIT@STAGE:NUMBER
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "FROM")]
    from: String,
    /// To which stage: @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@TO")]
    to: String,
    /// Only these units, where FROM is a whole stage; patterns will do
    #[arg(value_name = "UNIT", value_delimiter = ',')]
    units: Vec<String>,
    /// Carry these settings, as patterns of fields without a stage; a secret is named in full
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    carry: Vec<String>,
    /// Carry all that changed since the last promotion, and may be carried
    #[arg(long)]
    carry_changed: bool,
    /// Show all that differs, not only what changed since the last promotion
    #[arg(long)]
    all: bool,
    /// Make the reason of what is carried: fields by name, without values
    #[arg(long, conflicts_with = "why")]
    draft_why: bool,
    /// Take values that the stage still needs from this file, or write the form for it where there is none
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
    #[command(flatten)]
    act: ActOptions,
    /// Take the values from the outlets of FROM, where they were edited on purpose
    #[arg(long)]
    live: bool,
    /// Move to a stage of the ledger in this folder, as by a folio: contracts and what belongs to them, and no value
    #[arg(long, value_name = "DIR", conflicts_with_all = ["carry", "carry_changed", "live", "all", "skip_stages"])]
    to_ledger: Option<PathBuf>,
    /// Deliver the units there, too: one command for the whole move
    #[arg(long, requires = "write")]
    deliver: bool,
    /// Move although other stages come between; needs a reason
    #[arg(long)]
    skip_stages: bool,
    /// Let secrets stand in plain text where the stage has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn run(args: &PromoteArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if let Some(folder) = &args.to_ledger {
        return Ok(app.show(&to_ledger(args, folder, app)?));
    }
    let asked = ToPromote {
        from: from(args)?,
        to: Address::parse(&args.to)?,
        carry: args.carry.clone(),
        carry_changed: args.carry_changed,
        draft_why: args.draft_why,
        edits: args.edits.edits(),
        all: args.all,
        answers: args.act.form(args.answers.as_ref()),
        live: args.live,
        deliver: args.deliver,
        skip_stages: args.skip_stages,
        plain_secrets: args.plain_secrets,
        consent: args.change.consent(),
        wait: args.change.wait.time(),
        write: args.act.writes(),
    };
    Ok(app.show(&promote(&app.at, &asked)?))
}

/// The units that move, and from where.
fn from(args: &PromoteArgs) -> Result<WholeUnits, Trouble> {
    let from = WholeUnits::parse(std::slice::from_ref(&args.from), None, "moved")?;
    if args.units.is_empty() {
        return Ok(from);
    }
    if !from.is_all() {
        return Err(Trouble::usage(format!("`{}` names its units already", args.from))
            .help("write @STAGE @TO UNIT…, or leave the units out"));
    }
    WholeUnits::parse(&args.units, from.stage.as_ref(), "moved")?.without_delivery()
}

/// What moving units to another ledger comes to.
fn to_ledger(args: &PromoteArgs, folder: &Path, app: &App<'_>) -> Result<Entered, Trouble> {
    let to = Address::parse(&args.to)?;
    let stage = to.stage.clone().filter(|_| to.owner.is_none());
    let stage = stage.ok_or_else(|| {
        Trouble::usage(format!("`{}` names no stage of the other ledger", args.to)).help("write @STAGE")
    })?;
    let asked = ToEnter {
        answers: args.act.form(args.answers.as_ref()),
        plain_secrets: args.plain_secrets,
        deliver: args.deliver,
        edits: args.edits.edits(),
        consent: args.change.consent(),
        wait: args.change.wait.time(),
        write: args.act.writes(),
        ..ToEnter::shown(Some(folder.to_owned()), stage)
    };
    carry_over(&app.open(&Scope::Whole)?, &from(args)?.without_delivery()?, &asked)
}
