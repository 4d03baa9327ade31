//! `cledger replace`: the same search, and other values or names in place of what it finds.

use clap::{Args, ValueEnum};
use cledger_core::name::Name;
use cledger_store::MANIFEST;
use cledger_work::Trouble;
use cledger_work::replace::changes::{ChangeTexts, Names};
use cledger_work::replace::{ToReplace, keep, replace};
use cledger_work::routine::Routine;

use crate::app::App;
use crate::conditions::ConditionOptions;
use crate::exit;
use crate::options::{ActOptions, ChangeOptions};

#[derive(Debug, Args)]
pub(crate) struct ReplaceArgs {
    #[command(flatten)]
    conditions: ConditionOptions,
    #[command(flatten)]
    changes: ChangesOptions,
    /// Keep search and changes under this name in ledger.toml; {NAME} in a text is left open
    #[arg(long, value_name = "NAME", conflicts_with_all = ["routine", "write"])]
    save: Option<Name>,
    /// Use the search and changes that were kept under this name
    #[arg(long, value_name = "NAME")]
    routine: Option<Name>,
    /// What a routine leaves open
    #[arg(long, value_name = "NAME=VALUE", requires = "routine")]
    with: Vec<String>,
    /// With --names entries: let their names in rendered files change with them
    #[arg(long)]
    outputs: bool,
    #[command(flatten)]
    act: ActOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

/// The changes that are asked for.
#[derive(Debug, Clone, Default, Args)]
struct ChangesOptions {
    /// A whole new value
    #[arg(long, value_name = "VALUE", conflicts_with_all = ["swap", "lead", "regex"])]
    to: Option<String>,
    /// One text for another, wherever it stands in a value
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    swap: Vec<String>,
    /// One leading part of a value for another
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    lead: Vec<String>,
    /// What matches in a value for another text, in which $1 is the first group
    #[arg(long, num_args = 2, value_names = ["REGEX", "NEW"])]
    regex: Vec<String>,
    /// Change also what stands inside of references, `${…}`
    #[arg(long)]
    in_references: bool,
    /// Which names to change, too
    #[arg(long, value_name = "WHICH", value_delimiter = ',', value_enum)]
    names: Vec<Which>,
    /// One text for another, wherever it stands in one of these names
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    name_swap: Vec<String>,
    /// One leading part of these names for another
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"])]
    name_lead: Vec<String>,
    /// What matches in these names for another text
    #[arg(long, num_args = 2, value_names = ["REGEX", "NEW"])]
    name_regex: Vec<String>,
}

/// Names that can be replaced.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum Which {
    /// Of units
    Units,
    /// Of entries
    Entries,
    /// Of fields in rendered files
    Outputs,
}

impl ChangesOptions {
    fn texts(&self) -> ChangeTexts {
        let name = |which: &Which| match which {
            Which::Units => Names::Units,
            Which::Entries => Names::Entries,
            Which::Outputs => Names::Outputs,
        };
        let names = self.names.iter().map(name).collect();
        let Self { to, swap, lead, regex, in_references, name_swap, name_lead, name_regex, .. } =
            self.clone();
        ChangeTexts { to, swap, lead, regex, in_references, names, name_swap, name_lead, name_regex }
    }
}

pub(crate) fn run(args: &ReplaceArgs, app: &mut App<'_>) -> Result<u8, Trouble> {
    let texts = Routine { search: args.conditions.texts(), replace: args.changes.texts() };
    let changing = app.change(&args.change.wait)?;
    if let Some(name) = &args.save {
        let dry_run = args.act.is_dry_run();
        keep(&changing.dry_run(dry_run), name, &texts)?;
        let done = if dry_run { "Would be kept" } else { "Kept" };
        app.console.line(format!("{done} in {MANIFEST}: cledger replace --routine {name}"));
        return Ok(exit::CLEAN);
    }
    let asked = ToReplace {
        texts,
        routine: args.routine.clone(),
        with: args.with.clone(),
        outputs: args.outputs,
        consent: args.change.consent(),
        write: args.act.writes(),
    };
    Ok(app.show(&replace(&changing, &asked)?))
}
