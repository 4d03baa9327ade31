//! `cledger add variable`, `connection`, `endpoint`, `credential`, `table` and `field`.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::Address;
use cledger_store::vocabulary::{CONNECTION, CREDENTIAL, ENDPOINT, FIELD, Key, TABLE};
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::entry::{NewEntry, entry};
use cledger_work::declare::add::add;
use cledger_work::declare::{Declared, Said, Thing};

use crate::app::App;
use crate::complete;
use crate::declared::{Declarable, Keys};
use crate::options::{AddOptions, AtOnceOptions};

/// What has a table of its own in a contract.
pub(crate) trait Entry: Declarable {
    const TABLE: &'static str;
}

#[derive(Debug, Args)]
pub(crate) struct EntryArgs<E: Entry + Send + Sync + 'static> {
    /// The new entry, as UNIT/ENTRY or shared/ENTRY
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    #[command(flatten)]
    keys: Keys<E>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl<E: Entry + Send + Sync + 'static> EntryArgs<E> {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        self.with(self.keys.0.clone(), app)
    }

    fn with(&self, said: Vec<Said>, app: &App<'_>) -> Result<Added, Trouble> {
        let new = NewEntry { address: self.address.clone(), table: E::TABLE, said };
        entry(&app.change_at_once(&self.at_once)?, &new)
    }
}

#[derive(Debug)]
pub(crate) struct Variable;

impl Declarable for Variable {
    const KEYS: &'static [Key] = &FIELD;
    const OWN: &'static [&'static str] = &[];
    const NEEDED: &'static [&'static str] = &[];
}

impl Entry for Variable {
    const TABLE: &'static str = "variables";
}

#[derive(Debug, Args)]
pub(crate) struct VariableArgs {
    #[command(flatten)]
    entry: EntryArgs<Variable>,
    /// It need not have a value
    #[arg(long, conflicts_with = "key-required")]
    optional: bool,
}

impl VariableArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        self.entry.with(with_optional(&self.entry.keys.0, self.optional), app)
    }
}

/// What is said, with `--optional` as what it is short for.
pub(crate) fn with_optional(said: &[Said], optional: bool) -> Vec<Said> {
    let short = Said { option: "required".to_owned(), values: vec!["false".to_owned()] };
    said.iter().cloned().chain(optional.then_some(short)).collect()
}

/// The types of what has keys in a table of its own.
macro_rules! entries {
    ($($name:ident in $table:literal has $keys:ident needs $needed:expr;)*) => {$(
        #[derive(Debug)]
        pub(crate) struct $name;

        impl Declarable for $name {
            const KEYS: &'static [Key] = &$keys;
            const OWN: &'static [&'static str] = &[];
            const NEEDED: &'static [&'static str] = &$needed;
        }

        impl Entry for $name {
            const TABLE: &'static str = $table;
        }
    )*};
}

entries! {
    Connection in "connections" has CONNECTION needs ["protocol"];
    Endpoint in "endpoints" has ENDPOINT needs [];
    Credential in "credentials" has CREDENTIAL needs ["form"];
    Table in "tables" has TABLE needs ["columns"];
}

#[derive(Debug, Args)]
pub(crate) struct FieldArgs {
    /// The new field, as UNIT/ENTRY.FIELD or shared/ENTRY.FIELD
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    #[command(flatten)]
    keys: Keys<Variable>,
    /// It need not have a value
    #[arg(long, conflicts_with = "key-required")]
    optional: bool,
    #[command(flatten)]
    options: AddOptions,
}

impl FieldArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Declared, Trouble> {
        let changing = app.change(&self.options.change.wait)?.dry_run(self.options.dry_run.is_given);
        let thing = Thing::new_field(&changing.opened, &Address::parse(&self.address)?)?;
        let said = with_optional(&self.keys.0, self.optional);
        add(&changing, &thing, &said, &self.options.change.consent(), self.options.write)
    }
}
