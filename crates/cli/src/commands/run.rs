//! `cledger run`: starts a program with a unit's values in its environment, and nothing on disk.

use std::ffi::OsString;
use std::process::Command;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::findings::Finding;
use cledger_core::model::Ledger;
use cledger_core::name::Name;
use cledger_work::meant::address;
use cledger_work::run::{Starting, ToRun, refuse_untrusted, run as make_ready};
use cledger_work::shown::counted;
use cledger_work::{Kind, Trouble};

use crate::app::App;
use crate::complete;
use crate::options::{AssumeOptions, HandOutOptions};
use crate::output::console::Console;
use crate::output::diagnostics;

#[derive(Debug, Args)]
pub(crate) struct RunArgs {
    /// Whose values: UNIT[+INSTANCE]@STAGE
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
    /// Start from an empty environment instead of this one
    #[arg(long)]
    empty_env: bool,
    /// Let the program have this variable of ours, which it would not get otherwise: one that leads to secrets
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pass: Vec<String>,
    #[command(flatten)]
    hand_out: HandOutOptions,
    #[command(flatten)]
    assume: AssumeOptions,
    /// The program and its arguments
    #[arg(last = true, required = true, value_name = "COMMAND")]
    command: Vec<OsString>,
}

/// Gives a status only where the program has run beside this one and not in its place.
pub(crate) fn run(args: &RunArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let address = address(&args.address, args.stage.as_ref())?;
    let (Some(owner), None) = (&address.owner, &address.entry) else {
        let message = format!("`{address}` names no unit, and a program gets the values of one");
        return Err(Trouble::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let opened = app.open_partly(&args.assume.scope([&address])?)?;
    let stage = opened.told_stage(address.stage.as_ref())?;
    refuse_untrusted(&opened)?;
    let subject = opened.subject_in(owner, stage)?;
    let assumptions = args.assume.read(&opened.ledger, stage)?;
    let asked = ToRun {
        subject,
        stage,
        command: args.command.clone(),
        empty_env: args.empty_env,
        pass: args.pass.clone(),
        countersign: args.hand_out.countersign.clone(),
    };
    match make_ready(&opened, &opened.assuming(&assumptions), &asked)? {
        Starting::Ready(command) => start(command),
        Starting::Lacks(ledger, gaps) => {
            let of = format!("{} in {}", ledger.owner(subject), ledger.stage(stage).name);
            Err(lacking(&ledger, &gaps, &of, app.console))
        }
    }
}

/// Why a program is not started whose values are missing or not as they may be.
fn lacking(ledger: &Ledger, gaps: &[Finding], of: &str, console: &Console) -> Trouble {
    let listed: Vec<String> = gaps
        .iter()
        .map(|gap| diagnostics::of_finding(&ledger.files, gap, &gap.address, &[], console.width()))
        .collect();
    let verb = if gaps.len() == 1 { "is" } else { "are" };
    let errors = counted(gaps.len(), "error");
    Trouble::new(Kind::Found, format!("nothing is started: {errors} {verb} in the way for {of}"))
        .pointed(listed.join("\n"))
        .help("mend them, or take values for this run with --assume ADDRESS=VALUE")
}

/// Puts the program in the place of this one, so that signals and its exit status are its own.
#[cfg(unix)]
fn start(mut command: Command) -> Result<u8, Trouble> {
    use std::os::unix::process::CommandExt as _;
    let error = command.exec();
    Err(not_started(&command, &error))
}

/// Runs the program and passes its exit status on.
#[cfg(not(unix))]
fn start(mut command: Command) -> Result<u8, Trouble> {
    let status = command.status().map_err(|error| not_started(&command, &error))?;
    let code = status.code().and_then(|code| u8::try_from(code).ok());
    Ok(code.unwrap_or(crate::exit::of(Kind::Outside)))
}

fn not_started(command: &Command, error: &std::io::Error) -> Trouble {
    let program = command.get_program().to_string_lossy();
    Trouble::outside(format!("`{program}` cannot be started: {error}"))
        .help("the program stands behind --, as one would type it in a shell")
}
