//! `cledger run`: starts a program with a unit's values in its environment, and nothing on disk.

use std::ffi::OsString;
use std::process::Command;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::environment::{Environment, environment, is_acted_on};
use cledger_core::model::{Ledger, StageId, Subject};
use cledger_core::name::Name;
use cledger_core::resolve::Resolver;
use cledger_core::trust;
use cledger_outlets::effect::OWN_VARIABLES;
use zeroize::Zeroizing;

use super::show::{with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::granted::not_trusted;
use crate::options::{AssumeOptions, HandOutOptions};
use crate::output::diagnostics;
use crate::rendered::not_readable;

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
pub(crate) fn run(args: &RunArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    let (Some(owner), None) = (&address.owner, &address.entry) else {
        let message = format!("`{address}` names no unit, and a program gets the values of one");
        return Err(CliError::usage(message).help("write UNIT[+INSTANCE]@STAGE"));
    };
    let assumed = args.assume.addresses()?;
    let (root, ledger) = app.open(&scope_of(std::iter::once(&address).chain(&assumed)))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    if let Some(because) = &chosen.because {
        app.console.notice(&format!("stage {}, from {because}", ledger.stage(chosen.stage).name));
    }
    if app.granted().is_unsaid() {
        return Err(not_trusted("nothing is started"));
    }
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    if subject == Subject::Shared {
        return Err(CliError::usage("`shared` is no unit").help("write UNIT[+INSTANCE]@STAGE"));
    }
    let assumptions = args.assume.read(&ledger, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &assumptions);
    let made = environment(&mut resolver.session(unit_of(subject)), subject, chosen.stage);
    refuse_gaps(&ledger, (subject, chosen.stage), &made, app)?;
    if made.variables.values().any(|(_, effective)| effective.unread().is_some()) {
        return Err(not_readable(&[ledger.owner(subject).to_string()], &outside, ""));
    }
    let Some((program, arguments)) = args.command.split_first() else {
        return Err(CliError::usage("there is no program to run"));
    };
    let mut command = Command::new(program);
    command.args(arguments);
    if args.empty_env {
        command.env_clear();
    }
    for name in without(&ledger, &args.pass) {
        command.env_remove(name);
    }
    for (name, (field, effective)) in &made.variables {
        let Some(value) = effective.expose() else { continue };
        let text = Zeroizing::new(value.to_text().to_string());
        let address = ledger.address(*field);
        if name.is_empty() || name.contains(['=', '\0']) {
            let message =
                format!("`{address}` cannot be an environment variable: it would be called `{name}`");
            return Err(CliError::usage(message).help("give it another name with `as`"));
        }
        if is_acted_on(name) {
            let message = format!(
                "`{address}` would be called `{name}`, on which a loader, a shell or an interpreter acts"
            );
            return Err(CliError::refused(message).help("give it another name with `as`"));
        }
        if text.contains('\0') {
            let message = format!("`{address}` cannot be an environment variable: it holds a NUL character");
            return Err(CliError::usage(message).help("hand it out in a rendered file"));
        }
        command.env(name, text.as_str());
    }
    let holds_secrets = made.variables.values().any(|(_, effective)| effective.secret);
    args.hand_out.grant(ledger.stage(chosen.stage), holds_secrets)?;
    start(command, &program.to_string_lossy())
}

/// Variables that lead to secrets, and that no program gets unless it is passed them by name: our own, and those
/// that secrets of outlets come from.
fn without<'n>(ledger: &Ledger, pass: &'n [String]) -> impl Iterator<Item = String> + use<'n> {
    let own = OWN_VARIABLES.into_iter().map(str::to_owned);
    own.chain(trust::variables(ledger)).filter(|name| !pass.contains(name))
}

/// Refuses to start a program that would lack values, or get one under the name of another.
fn refuse_gaps(
    ledger: &Ledger,
    (subject, stage): (Subject, StageId),
    made: &Environment<'_>,
    app: &App<'_>,
) -> Result<(), CliError> {
    if let Some((name, field)) = made.clashes.first() {
        let message = format!("`{}` and another field would both be called {name}", ledger.address(*field));
        return Err(CliError::usage(message).help("give one of them another name with `as`"));
    }
    if made.gaps.is_empty() {
        return Ok(());
    }
    let listed: Vec<String> = made
        .gaps
        .iter()
        .map(|gap| diagnostics::of_finding(&ledger.files, gap, &gap.address, &[], app.console.width()))
        .collect();
    let values = if made.gaps.len() == 1 {
        "1 value is".to_owned()
    } else {
        format!("{} values are", made.gaps.len())
    };
    let (owner, stage) = (ledger.owner(subject), &ledger.stage(stage).name);
    Err(CliError::Plain {
        status: status::FOUND,
        message: format!("nothing is started: {values} missing or wrong for {owner} in {stage}"),
        pointed: Some(listed.join("\n")),
        help: Some("set them, or take values for this run with --assume ADDRESS=VALUE".to_owned()),
    })
}

/// Puts the program in the place of this one, so that signals and its exit status are its own.
#[cfg(unix)]
fn start(mut command: Command, program: &str) -> Result<u8, CliError> {
    use std::os::unix::process::CommandExt as _;
    Err(not_started(program, &command.exec()))
}

/// Runs the program and passes its exit status on.
#[cfg(not(unix))]
fn start(mut command: Command, program: &str) -> Result<u8, CliError> {
    let status = command.status().map_err(|error| not_started(program, &error))?;
    Ok(status.code().and_then(|code| u8::try_from(code).ok()).unwrap_or(status::OUTSIDE))
}

fn not_started(program: &str, error: &std::io::Error) -> CliError {
    CliError::outside(format!("`{program}` cannot be started: {error}"))
        .help("the program stands behind --, as one would type it in a shell")
}
