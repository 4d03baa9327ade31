//! `cledger add unit` and `cledger add instance`.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::new_unit::{Like, NewUnit};
use cledger_work::add::unit::{instance, unit};

use crate::app::App;
use crate::complete;
use crate::options::{AtOnceOptions, ChangeOptions, DryRunOptions};

#[derive(Debug, Args)]
pub(crate) struct UnitArgs {
    /// The new unit's name
    name: Name,
    /// What it is
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    /// Who looks after it
    #[arg(long, value_name = "NAME")]
    owner: Option<String>,
    /// The shared entries that it uses
    #[arg(long, value_name = "ENTRY", value_delimiter = ',')]
    uses: Vec<Name>,
    /// The stages where it belongs, as patterns; all if not given
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    stages: Vec<String>,
    /// A unit that it is made like: with its contract, its settings and its instances
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "UNIT", conflicts_with_all = ["about", "owner", "uses", "stages"])]
    like: Option<Name>,
    /// Texts in values that become others
    #[arg(long, num_args = 2, value_names = ["OLD", "NEW"], requires = "like")]
    swap: Vec<String>,
    /// Take over secrets, too, which are left out otherwise
    #[arg(long, requires = "like")]
    with_secrets: bool,
    #[command(flatten)]
    dry_run: DryRunOptions,
    #[command(flatten)]
    change: ChangeOptions,
}

impl UnitArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let new = NewUnit {
            name: self.name.clone(),
            about: self.about.clone(),
            owner: self.owner.clone(),
            uses: self.uses.clone(),
            stages: self.stages.clone(),
            like: Like {
                unit: self.like.clone(),
                swap: self.swap.clone(),
                with_secrets: self.with_secrets,
                consent: self.change.consent(),
            },
        };
        unit(&app.change(&self.change.wait)?.dry_run(self.dry_run.is_given), &new)
    }
}

#[derive(Debug, Args)]
pub(crate) struct InstanceArgs {
    /// The new instance, as UNIT+INSTANCE
    address: String,
    /// The stages where it exists, as patterns; all of the unit's if not given
    #[arg(long, value_name = "PATTERN", value_delimiter = ',')]
    stages: Vec<String>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl InstanceArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        instance(&app.change_at_once(&self.at_once)?, &Address::parse(&self.address)?, &self.stages)
    }
}
