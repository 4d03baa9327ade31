//! `cledger promote`: what was delivered to one stage, moved up to the next.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::promote::{ToPromote, promote};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(crate) struct PromoteArgs {
    /// From where: @STAGE, UNIT@STAGE, or a delivery as UNIT@STAGE:NUMBER
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "FROM")]
    from: String,
    /// To which stage: @STAGE
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "@TO")]
    to: String,
    /// Only these units, where FROM is a whole stage
    #[arg(value_name = "UNIT", value_delimiter = ',')]
    units: Vec<Name>,
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
    let asked = ToPromote {
        from: Address::parse(&args.from)?,
        to: Address::parse(&args.to)?,
        units: args.units.clone(),
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
