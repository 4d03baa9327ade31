//! `cledger get`: one bare value.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::findings;
use cledger_core::name::Name;
use cledger_core::resolve::{Outcome, Resolver};
use cledger_core::value::Value;
use zeroize::Zeroizing;

use super::show::{fields, with_stage, without_delivery};
use crate::app::{App, scope_of, unit_of};
use crate::complete;
use crate::error::{CliError, status};
use crate::options::{AssumeOptions, UnmaskOptions};
use crate::output::json;
use crate::rendered::not_readable;

#[derive(Debug, Args)]
pub(crate) struct GetArgs {
    /// The field, such as ticket-desk/bookings-db.host@test or shared/mail.port
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// The stage, where the address names none
    #[arg(add = ArgValueCompleter::new(complete::stage), long, value_name = "STAGE")]
    stage: Option<Name>,
    #[command(flatten)]
    unmask: UnmaskOptions,
    #[command(flatten)]
    assume: AssumeOptions,
}

pub(crate) fn run(args: &GetArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let address = without_delivery(with_stage(Address::parse(&args.address)?, args.stage.as_ref())?)?;
    let (Some(owner), Some(entry)) = (&address.owner, &address.entry) else {
        return Err(
            CliError::usage(format!("`{address}` names no field")).help("write UNIT/ENTRY.FIELD@STAGE")
        );
    };
    let assumed = args.assume.addresses()?;
    let (root, ledger) = app.open(&scope_of(std::iter::once(&address).chain(&assumed)))?;
    let chosen = App::stage(&ledger, address.stage.as_ref())?;
    if let Some(because) = &chosen.because {
        let stage = &ledger.stage(chosen.stage).name;
        app.console.notice(&format!("stage {stage}, from {because}"));
    }
    let subject = app.subject_in(&ledger, owner, chosen.stage)?;
    let fields = fields(&ledger, subject, &address, chosen.stage)?;
    let (one, declaration) = if let [one] = fields[..] {
        (one, ledger.field(subject, one.slot).1)
    } else {
        let names = fields.iter().filter_map(|field| ledger.field(subject, field.slot).1.name.as_ref());
        let names: Vec<&str> = names.map(Name::as_str).collect();
        let message = format!("`{owner}/{entry}` has several fields");
        return Err(CliError::usage(message).help(format!("name one of {}", names.join(", "))));
    };
    if address.field.is_none() && declaration.name.is_some() {
        let message = format!("`{owner}/{entry}` is no variable");
        return Err(CliError::usage(message).help(format!("write {}", ledger.address(one))));
    }
    let unmask = args.unmask.granted(&ledger, chosen.stage)?;
    let assumptions = args.assume.read(&ledger, chosen.stage)?;
    let outside = app.outside(&root);
    let resolver = Resolver::new(&ledger, &outside, &assumptions);
    let mut session = resolver.session(unit_of(subject));
    let lacking = |message: String, help: String| CliError::Plain {
        status: status::FOUND,
        message,
        pointed: None,
        help: Some(help),
    };
    match session.outcome(one) {
        Outcome::Value(effective) => {
            if effective.secret && !unmask {
                let message = format!("`{}` is a secret, and is not shown", ledger.address(one));
                return Err(CliError::refused(message).help("add --unmask, or --unmask=always in a pipe"));
            }
            if effective.unread().is_some() {
                return Err(not_readable(&[ledger.owner(subject).to_string()], &outside, ""));
            }
            if app.console.is_json() {
                app.console.document(&json::show::one(&ledger, one, &effective, unmask));
            } else {
                let text = Zeroizing::new(effective.expose().map(Value::to_text).unwrap_or_default());
                app.console.exact(&text);
            }
            Ok(status::CLEAN)
        }
        Outcome::Absent(_) => {
            let message = format!("`{}` has no value: it is absent on purpose", ledger.address(one));
            Err(lacking(message, "set it in the stage to give it one".to_owned()))
        }
        Outcome::Unset => {
            let message = format!("`{}` has no value, and needs none", ledger.address(one));
            Err(lacking(message, "set it in the stage to give it one".to_owned()))
        }
        Outcome::Missing(..) | Outcome::Broken(_) => {
            let found = findings::of_field(&mut session, one);
            let first = found.into_iter().next();
            let (message, help) = first.map(|finding| (finding.message, finding.help)).unwrap_or_default();
            Err(lacking(message, help))
        }
    }
}
