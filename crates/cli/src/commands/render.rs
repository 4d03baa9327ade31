//! `cledger render`: the files of a unit, or of a whole stage.

use std::path::{Path, PathBuf};

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::kept::Kept;
use cledger_core::name::Name;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::render::{ToRender, render};
use cledger_work::whole_units::WholeUnits;

use crate::app::App;
use crate::complete;
use crate::exit;
use crate::options::{AssumeOptions, DryRunOptions, HandOutOptions};

#[derive(Debug, Args)]
pub(crate) struct RenderArgs {
    /// What to render: UNIT[+INSTANCE]@STAGE, patterns of units, bundle:NAME@STAGE, or @STAGE for all that belongs there
    #[arg(add = ArgValueCompleter::new(complete::address), value_name = "UNIT@STAGE", value_delimiter = ',', required = true)]
    what: Vec<String>,
    /// The stage, where none is named with the units
    #[arg(long, value_name = "STAGE")]
    stage: Option<Name>,
    /// The folder to write to, or `-` for one file to standard output [default: rendered/STAGE below the current
    /// folder]
    #[arg(long, value_name = "DIR")]
    out: Option<PathBuf>,
    /// Only these of the unit's files, by their paths
    #[arg(long, value_name = "PATH", value_delimiter = ',')]
    file: Vec<String>,
    /// Render even if errors are in the way, and list them
    #[arg(long)]
    partial: bool,
    /// Leave secrets out
    #[arg(long)]
    without_secrets: bool,
    /// Say above each value where it came from, or in FILE.origins where a format has no comments
    #[arg(long)]
    annotate: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
    #[command(flatten)]
    hand_out: HandOutOptions,
    #[command(flatten)]
    assume: AssumeOptions,
}

pub(crate) fn run(args: &RenderArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let what = WholeUnits::parse(&args.what, args.stage.as_ref(), "rendered")?.without_delivery()?;
    // Whether a value may be handed out shows only beside those of other stages and units.
    let opened = app.open_partly(&Scope::Whole)?;
    let ledger = &opened.ledger;
    let stage = opened.told_stage(what.stage.as_ref())?;
    let subjects = opened.whole_units(&what, stage)?;
    let assumptions = args.assume.read(ledger, stage)?;
    let to_stdout = args.out.as_deref() == Some(Path::new("-"));
    if to_stdout && app.console.is_json() {
        return Err(
            Trouble::usage("--json prints one document, and `--out -` a file").help("leave one of them out")
        );
    }
    let usual = || Path::new("rendered").join(ledger.stage(stage).name.as_str());
    let asked = ToRender {
        subjects,
        stage,
        out: if to_stdout { None } else { Some(args.out.clone().unwrap_or_else(usual)) },
        paths: args.file.clone(),
        partial: args.partial,
        without_secrets: args.without_secrets,
        annotate: args.annotate,
        countersign: args.hand_out.countersign.clone(),
        dry_run: args.dry_run.is_given,
    };
    let rendered = render(&opened, &opened.assuming(&assumptions), &asked)?;
    if let Some(text) = rendered.text.as_ref().and_then(Kept::expose) {
        app.console.verbatim(text);
        return Ok(exit::of_result(rendered.kind()));
    }
    Ok(app.show(&rendered))
}
