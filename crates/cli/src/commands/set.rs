//! `cledger set` and `cledger unset`: settings of stages and groups, and defaults.

use std::cell::OnceCell;
use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::cells::{ToTakeIn, take_in};
use cledger_work::set::{self, ToSay, ToSet};

use crate::app::App;
use crate::complete;
use crate::options::{ChangeOptions, DryRunOptions, SecretOptions};

#[derive(Debug, Args)]
pub(crate) struct SetArgs {
    /// What to set, such as ticket-desk/seat_hold@test=45s; a group or @default may stand for the stage
    #[arg(required_unless_present = "from_csv", value_name = "ADDRESS[=VALUE]")]
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
    /// Where `outlet lookup` finds the value: `https://HOST/PATH#/JSON/POINTER` or `…#$.JSON.PATH`, or an outlet's name
    #[arg(long, value_name = "PLACE")]
    looked_up: Option<String>,
    /// Take what was changed in a table that `matrix --csv` has written, each cell as a setting of its stage
    #[arg(
        long,
        value_name = "FILE",
        conflicts_with_all = ["settings", "absent", "from", "stdin", "file", "generate", "until", "looked_up", "stage"]
    )]
    from_csv: Option<PathBuf>,
    /// Do what --from-csv shows
    #[arg(long, requires = "from_csv")]
    write: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

#[derive(Debug, Args)]
pub(crate) struct UnsetArgs {
    /// What to take out, such as ticket-desk/seat_hold@test
    #[arg(required = true, value_name = "ADDRESS", value_delimiter = ',')]
    settings: Vec<String>,
    /// The stage or group, where an address names none
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    dry_run: DryRunOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(crate) fn set(args: &SetArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    if let Some(file) = &args.from_csv {
        let asked = ToTakeIn {
            file: file.clone(),
            consent: args.change.consent(),
            write: args.write && !args.dry_run.is_given,
        };
        return Ok(app.show(&take_in(&app.change(&args.change.wait)?, &asked)?));
    }
    let once = OnceCell::new();
    let text = || args.secret.text_for_several(&once);
    let say = match &args.from {
        _ if args.absent => ToSay::Absent,
        Some(source) => ToSay::From(source.clone()),
        None if args.secret.is_given() => ToSay::Text(&text),
        None => ToSay::Asked,
    };
    let asked = ToSet {
        settings: args.settings.clone(),
        stage: args.stage.clone(),
        say,
        plain_secrets: args.plain_secrets,
        until: args.until.clone(),
        looked_up: args.looked_up.clone(),
        consent: args.change.consent(),
    };
    let changed = set::set(&app.change_partly(&args.change.wait)?.dry_run(args.dry_run.is_given), &asked)?;
    Ok(app.show(&changed))
}

pub(crate) fn unset(args: &UnsetArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let changing = app.change_partly(&args.change.wait)?.dry_run(args.dry_run.is_given);
    let changed = set::unset(&changing, &args.settings, args.stage.as_ref(), &args.change.consent())?;
    Ok(app.show(&changed))
}
