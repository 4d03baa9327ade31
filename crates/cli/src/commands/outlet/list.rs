//! `cledger outlet list`: the outlets by stage, and whether each answers.

use clap::Args;
use cledger_core::address::Pattern;
use cledger_store::Scope;
use cledger_work::outlet::list::{Listed, list};
use cledger_work::{Kind, Trouble};
use serde::Serialize;

use crate::app::App;
use crate::output::console::Console;
use crate::output::shown::Shown;
use crate::output::{json, text};

#[derive(Debug, Args)]
pub(crate) struct ListArgs {
    /// The stages, as @PATTERN; all if not given
    #[arg(value_name = "@STAGE")]
    stages: Vec<String>,
}

pub(super) fn run(args: &ListArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let patterns: Vec<Pattern> =
        args.stages.iter().map(|text| Pattern::parse(text)).collect::<Result<_, _>>()?;
    let listed = list(&app.open(&Scope::Whole)?, &patterns)?;
    Ok(app.show(&listed))
}

impl Shown for Vec<Listed> {
    fn print(&self, console: &mut Console) {
        text::outlet::print(console, self);
    }

    fn document(&self) -> impl Serialize {
        json::outlet::document(self)
    }

    fn kind(&self) -> Option<Kind> {
        self.iter().any(|outlet| outlet.trouble.is_some()).then_some(Kind::Outside)
    }
}
