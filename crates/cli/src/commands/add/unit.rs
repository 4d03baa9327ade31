//! `cledger add unit` and `cledger add instance`.

use clap::Args;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::unit::{NewUnit, instance, unit};

use crate::app::App;
use crate::options::WaitOptions;

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
    #[command(flatten)]
    wait: WaitOptions,
}

impl UnitArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let new = NewUnit {
            name: self.name.clone(),
            about: self.about.clone(),
            owner: self.owner.clone(),
            uses: self.uses.clone(),
            stages: self.stages.clone(),
        };
        unit(&app.change(&self.wait)?, &new)
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
    wait: WaitOptions,
}

impl InstanceArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        instance(&app.change(&self.wait)?, &Address::parse(&self.address)?, &self.stages)
    }
}
