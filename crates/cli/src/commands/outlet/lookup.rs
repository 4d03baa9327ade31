//! `cledger outlet lookup`: values that the other side assigns, fetched and written into the ledger.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_work::Trouble;
use cledger_work::outlet::lookup::look_up;

use crate::app::App;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct LookupArgs {
    /// Whose settings, as patterns of addresses: @STAGE, UNIT@STAGE, UNIT/ENTRY.FIELD@STAGE
    #[arg(required = true, value_name = "PATTERN", value_delimiter = ',')]
    patterns: Vec<String>,
    #[command(flatten)]
    act: ActOptions,
    /// Let secrets stand in plain text where the stage or group has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &LookupArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let patterns: Vec<Pattern> =
        args.patterns.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let changing = app.change(&args.change.wait)?;
    let consent = args.change.consent();
    let looked_up = look_up(&changing, &patterns, args.plain_secrets, &consent, args.act.writes())?;
    Ok(app.show(&looked_up))
}
