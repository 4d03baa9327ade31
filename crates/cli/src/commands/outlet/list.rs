//! `cledger outlet list`: the outlets by stage, and whether each answers.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_store::Scope;
use cledger_work::Trouble;
use cledger_work::outlet::list::list;

use crate::app::App;

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// The stages, as @PATTERN; all if not given
    #[arg(value_name = "@STAGE", value_delimiter = ',')]
    stages: Vec<String>,
}

pub(super) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let patterns: Vec<Pattern> =
        args.stages.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let listed = list(&app.open_partly(&Scope::Whole)?, &patterns)?;
    Ok(app.show(&listed))
}
