//! `cledger add variable`, `connection`, `endpoint`, `credential` and `table`.

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::name::Name;
use cledger_core::types::Type;
use cledger_work::Trouble;
use cledger_work::add::Added;
use cledger_work::add::entry::{NewEntry, NewKind, NewTable, NewVariable, entry};

use crate::app::App;
use crate::complete;
use crate::options::AtOnceOptions;

#[derive(Debug, Args)]
pub(crate) struct EntryArgs {
    /// The new entry, as UNIT/ENTRY or shared/ENTRY
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    #[command(flatten)]
    at_once: AtOnceOptions,
}

impl EntryArgs {
    fn add(&self, kind: NewKind, app: &App<'_>) -> Result<Added, Trouble> {
        let new = NewEntry { address: self.address.clone(), about: self.about.clone(), kind };
        entry(&app.change_at_once(&self.at_once)?, &new)
    }
}

#[derive(Debug, Args)]
pub(crate) struct VariableArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its type
    #[arg(long = "type", value_name = "TYPE", default_value = "text", value_parser = Type::names().collect::<Vec<_>>())]
    this_type: String,
    /// Its default
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    default: Option<String>,
    /// It need not have a value
    #[arg(long)]
    optional: bool,
    /// Where it may differ: never, may, or must, where each stage states its own
    #[arg(long, value_parser = ["never", "may", "must"])]
    vary: Option<String>,
    /// It is a secret
    #[arg(long)]
    secret: bool,
    /// The only values allowed
    #[arg(long, value_name = "VALUE", value_delimiter = ',')]
    one_of: Vec<String>,
    /// The least number, duration, size or day
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    min: Option<String>,
    /// The greatest
    #[arg(long, value_name = "VALUE", allow_hyphen_values = true)]
    max: Option<String>,
}

impl VariableArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let variable = NewVariable {
            this_type: Type::by_name(&self.this_type),
            default: self.default.clone(),
            optional: self.optional,
            vary: self.vary.clone(),
            secret: self.secret,
            one_of: self.one_of.clone(),
            min: self.min.clone(),
            max: self.max.clone(),
        };
        self.entry.add(NewKind::Variable(variable), app)
    }
}

#[derive(Debug, Args)]
pub(crate) struct ConnectionArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its protocol: postgresql, mysql, redis, amqp, sftp, ldap, smtp, kafka, tcp or another
    #[arg(long)]
    protocol: Name,
}

impl ConnectionArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        self.entry.add(NewKind::Connection(self.protocol.clone()), app)
    }
}

#[derive(Debug, Args)]
pub(crate) struct EndpointArgs {
    #[command(flatten)]
    entry: EntryArgs,
}

impl EndpointArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        self.entry.add(NewKind::Endpoint, app)
    }
}

#[derive(Debug, Args)]
pub(crate) struct CredentialArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its form
    #[arg(long, value_parser = ["password", "token", "key-pair", "certificate"])]
    form: String,
}

impl CredentialArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        self.entry.add(NewKind::Credential(self.form.clone()), app)
    }
}

#[derive(Debug, Args)]
pub(crate) struct TableArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its columns
    #[arg(long, value_name = "COLUMN", value_delimiter = ',', required = true)]
    columns: Vec<String>,
    /// The column that tells its rows apart; the first if not given
    #[arg(long, value_name = "COLUMN")]
    key: Option<String>,
    /// The CSV file of its rows, from the ledger's folder
    #[arg(long, value_name = "PATH")]
    rows: Option<String>,
}

impl TableArgs {
    pub(super) fn add(&self, app: &App<'_>) -> Result<Added, Trouble> {
        let table =
            NewTable { columns: self.columns.clone(), key: self.key.clone(), rows: self.rows.clone() };
        self.entry.add(NewKind::Table(table), app)
    }
}
