//! `cledger folio enter`: a folio taken into this ledger.

use std::path::PathBuf;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::folio::{Folio, SignedBy, ToEnter, enter};

use crate::app::App;
use crate::complete;
use crate::options::{ActOptions, ChangeOptions, EditOptions};

#[derive(Debug, Args)]
#[expect(clippy::struct_excessive_bools, reason = "each is an option that is given or not")]
pub(super) struct EnterArgs {
    /// The folio
    #[arg(value_name = "FILE")]
    file: PathBuf,
    /// The stages that its units come to
    #[arg(long, value_name = "STAGE", value_delimiter = ',', required = true, add = ArgValueCompleter::new(complete::stage))]
    to: Vec<Name>,
    /// Take it only where it is signed with this key, as in a `.pub` file: `ssh-ed25519 AAAA…` (may be given again)
    #[arg(long, value_name = "KEY")]
    signed_by: Vec<String>,
    /// Give a unit or shared entry another name here: UNIT=NEW or shared/ENTRY=NEW
    #[arg(long, value_name = "OLD=NEW", value_delimiter = ',')]
    rename: Vec<String>,
    /// Leave what clashes as it is here (patterns: `ticket-desk`, `shared/*`, `rule:*`, `bundle:*`, `templates/*`)
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    keep_ours: Vec<String>,
    /// Let what clashes here give way (patterns)
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    take_theirs: Vec<String>,
    /// Take values that the stages lack from this file, or write the form for it where there is none
    #[arg(long, value_name = "FILE")]
    answers: Option<PathBuf>,
    /// Take the values that the folio carries where nothing is said here
    #[arg(long)]
    with_values: bool,
    /// Take it in although the stages lack values, which are listed
    #[arg(long)]
    leave_open: bool,
    /// Let secrets stand in plain text where a stage has no key
    #[arg(long)]
    plain_secrets: bool,
    /// Deliver its units there, too: one command for the whole way
    #[arg(long, requires = "write")]
    deliver: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    edits: EditOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &EnterArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let folio = Folio::read(&args.file)?;
    if folio.signed_by.is_none() {
        app.at.telling.notice("The folio is not signed: nothing tells who has made it.");
    }
    let asked = ToEnter {
        ledger: None,
        stages: args.to.clone(),
        signed_by: args.signed_by.iter().map(|text| SignedBy::parse(text)).collect::<Result<_, _>>()?,
        rename: args.rename.clone(),
        keep_ours: args.keep_ours.clone(),
        take_theirs: args.take_theirs.clone(),
        answers: args.act.form(args.answers.as_ref()),
        with_values: args.with_values,
        leave_open: args.leave_open,
        plain_secrets: args.plain_secrets,
        deliver: args.deliver,
        edits: args.edits.edits(),
        consent: args.change.consent(),
        wait: args.change.wait.time(),
        write: args.act.writes(),
    };
    Ok(app.show(&enter(&app.at, &folio, &asked)?))
}
