//! `cledger add unit` and `cledger add instance`.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_core::name::Name;
use cledger_store::vocabulary::{INSTANCE, Key, UNIT};
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::new_unit::{Like, NewUnit};
use cledger_work::add::unit::{instance, unit};

use crate::app::App;
use crate::complete;
use crate::declared::{Declarable, Keys};
use crate::options::{AtOnceOptions, ChangeOptions, DryRunOptions};

#[derive(Debug)]
struct Unit;

impl Declarable for Unit {
    const KEYS: &'static [Key] = &UNIT;
    const OWN: &'static [&'static str] = &["formerly"];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug)]
struct Instance;

impl Declarable for Instance {
    const KEYS: &'static [Key] = &INSTANCE;
    const OWN: &'static [&'static str] = &[];
    const NEEDED: &'static [&'static str] = &[];
}

#[derive(Debug, Args)]
pub(crate) struct UnitArgs {
    /// The new unit's name
    name: Name,
    #[command(flatten)]
    keys: Keys<Unit>,
    /// A unit that it is made like: with its contract, its settings and its instances
    #[arg(add = ArgValueCompleter::new(complete::address), long, value_name = "UNIT", conflicts_with_all = ["key-about", "key-owner", "key-version", "key-uses", "key-stages"])]
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
            said: self.keys.0.clone(),
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
    #[command(flatten)]
    keys: Keys<Instance>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl InstanceArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        instance(&app.change_at_once(&self.at_once)?, &Address::parse(&self.address)?, &self.keys.0)
    }
}
