//! `cledger outlet lookup`: values that the other side assigns, fetched and written into the ledger.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_core::model::{LayerId, Note};

use crate::app::App;
use crate::change::{ChangeOptions, Changing, NO_CHANGE};
use crate::error::{CliError, status};
use crate::output::{json, text};
use crate::reality::{Around, lookups};
use crate::setting::{Setter, TextFrom, write};

#[derive(Debug, Args)]
pub(crate) struct LookupArgs {
    /// Whose settings, as patterns of addresses: @STAGE, UNIT@STAGE, UNIT/ENTRY.FIELD@STAGE
    #[arg(required = true, value_name = "PATTERN")]
    patterns: Vec<String>,
    /// Write what is found; without it is only shown
    #[arg(long)]
    write: bool,
    /// Let secrets stand in plain text where the stage or group has no key
    #[arg(long)]
    plain_secrets: bool,
    #[command(flatten)]
    change: ChangeOptions,
}

pub(super) fn run(args: &LookupArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let patterns: Vec<Pattern> =
        args.patterns.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let changing = Changing::start(app, &args.change)?;
    let ledger = &changing.ledger;
    let outside = app.outside(changing.root());
    let around = Around::of(app, changing.root(), &outside);
    let lookups = lookups::look_up(&patterns, ledger, &outside, &around, app.console)?;
    if lookups.is_empty() {
        let message = format!("no setting of {} says where it is looked up", args.patterns.join(", "));
        return Err(CliError::usage(message).help("say so: cledger set ADDRESS --absent --looked-up PLACE"));
    }
    let keys = changing.keys(&NO_CHANGE);
    let setter = Setter { ledger, keys: &keys, plain_secrets: args.plain_secrets };
    let (mut edits, mut layers): (Vec<_>, Vec<LayerId>) = (Vec::new(), Vec::new());
    for lookup in lookups.iter().filter(|lookup| lookup.is_same() == Ok(false)) {
        let Ok(found) = &lookup.found else { continue };
        let before = ledger.setting_at(lookup.layer, lookup.field.subject, lookup.field.slot);
        let text = zeroize::Zeroizing::new(found.to_text());
        let said = setter.said(&lookup.field, &text, TextFrom::System, before)?;
        let note = Note { why: args.change.why.clone(), ..Note::default() };
        let (edit, _) = write(ledger, &lookup.field, lookup.layer, &said, &note);
        edits.extend(edit);
        layers.push(lookup.layer);
    }
    if args.write && !edits.is_empty() {
        let planned = changing.plan(&edits)?;
        changing.guard(&layers, &planned, &args.change)?;
        changing.write(&planned)?;
    }
    if app.console.is_json() {
        app.console.document(&json::outlet::looked_up(&lookups, args.write));
    } else {
        text::outlet::looked_up(app.console, &lookups, args.write);
    }
    let all_known = lookups.iter().all(|lookup| lookup.is_same().is_ok());
    Ok(if all_known { status::CLEAN } else { status::OUTSIDE })
}
