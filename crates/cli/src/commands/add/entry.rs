//! `cledger add variable`, `connection`, `endpoint` and `credential`.

use std::fmt::Write as _;

use clap::Args;
use clap_complete::ArgValueCompleter;
use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::types::Type;
use cledger_core::value::Value;
use cledger_store::{Changed, literal, parse_value, shared_file};

use super::{appended, finish, start};
use crate::app::App;
use crate::complete;
use crate::error::CliError;

#[derive(Debug, Args)]
pub(crate) struct EntryArgs {
    /// The new entry, as UNIT/ENTRY or shared/ENTRY
    #[arg(add = ArgValueCompleter::new(complete::address))]
    address: String,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    /// Wait so many seconds at most for somebody else who is changing the ledger
    #[arg(long, value_name = "SECONDS", default_value_t = 10)]
    wait: u64,
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

#[derive(Debug, Args)]
pub(crate) struct ConnectionArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its protocol: postgresql, mysql, redis, amqp, sftp, ldap, smtp, kafka, tcp or another
    #[arg(long)]
    protocol: Name,
}

#[derive(Debug, Args)]
pub(crate) struct EndpointArgs {
    #[command(flatten)]
    entry: EntryArgs,
}

#[derive(Debug, Args)]
pub(crate) struct CredentialArgs {
    #[command(flatten)]
    entry: EntryArgs,
    /// Its form
    #[arg(long, value_parser = ["password", "token", "key-pair", "certificate"])]
    form: String,
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

pub(crate) fn table(args: &TableArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let key = args.key.as_ref().or(args.columns.first()).map_or("", String::as_str);
    let mut lines = format!("columns = {:?}\nkey = {}\n", args.columns, literal(&Value::text(key), None));
    if let Some(rows) = &args.rows {
        let _ = writeln!(lines, "rows = {}", literal(&Value::text(rows), None));
    }
    entry(&args.entry, "tables", &lines, app)
}

pub(crate) fn variable(args: &VariableArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    let this = Type::by_name(&args.this_type).unwrap_or(Type::Text);
    let value = |text: &str| {
        let value = match this {
            Type::List | Type::Map => parse_value(text),
            _ if cledger_core::reference::is_in(text) => Some(Value::text(text)),
            _ => this.read(text),
        };
        let wanted = || {
            CliError::usage(format!("`{text}` is not {}", this.describe()))
                .help("its --type says what it can be")
        };
        value.map(|value| literal(&value, None)).ok_or_else(wanted)
    };
    let mut lines = String::new();
    if this != Type::Text {
        let _ = writeln!(lines, "type = \"{}\"", this.name());
    }
    for (word, said) in [("default", &args.default), ("min", &args.min), ("max", &args.max)] {
        if let Some(said) = said {
            let _ = writeln!(lines, "{word} = {}", value(said)?);
        }
    }
    if args.optional {
        lines.push_str("required = false\n");
    }
    if let Some(vary) = &args.vary {
        let _ = writeln!(lines, "vary = \"{vary}\"");
    }
    if args.secret {
        lines.push_str("secret = true\n");
    }
    if !args.one_of.is_empty() {
        let values: Vec<String> = args.one_of.iter().map(|text| value(text)).collect::<Result<_, _>>()?;
        let _ = writeln!(lines, "one_of = [{}]", values.join(", "));
    }
    entry(&args.entry, "variables", &lines, app)
}

pub(crate) fn connection(args: &ConnectionArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    entry(&args.entry, "connections", &format!("protocol = \"{}\"\n", args.protocol), app)
}

pub(crate) fn endpoint(args: &EndpointArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    entry(&args.entry, "endpoints", "", app)
}

pub(crate) fn credential(args: &CredentialArgs, app: &mut App<'_>) -> Result<u8, CliError> {
    entry(&args.entry, "credentials", &format!("form = \"{}\"\n", args.form), app)
}

fn entry(args: &EntryArgs, table: &str, lines: &str, app: &mut App<'_>) -> Result<u8, CliError> {
    let changing = start(app, args.wait)?;
    let address = Address::parse(&args.address)?;
    let (Some(owner), Some(name), None, None) =
        (&address.owner, &address.entry, &address.field, &address.stage)
    else {
        return Err(
            CliError::usage(format!("`{address}` names no entry")).help("write UNIT/ENTRY or shared/ENTRY")
        );
    };
    let path = match owner {
        Owner::Unit(_, Some(_)) => {
            let message = format!("`{address}` names an instance, and its unit declares its entries");
            return Err(CliError::usage(message).help("leave out what begins with `+`"));
        }
        Owner::Unit(unit, None) => {
            app.unit(&changing.ledger, unit, None)?;
            format!("units/{unit}.toml")
        }
        Owner::Shared => shared_file(&changing.ledger),
    };
    must_be_free(&changing.ledger, owner, name)?;
    let mut block = format!("[{table}.{name}]\n{lines}");
    if let Some(about) = &args.about {
        let _ = writeln!(block, "about = {}", literal(&Value::text(about), None));
    }
    let changed = Changed::from([appended(&changing, &path, &block)?]);
    finish(&changing, changed, &address.to_string(), app)
}

fn must_be_free(ledger: &Ledger, owner: &Owner, name: &Name) -> Result<(), CliError> {
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(unit, _) => match ledger.unit_id(unit.as_str()) {
            Some(id) => Subject::Unit(id, None),
            None => return Ok(()),
        },
    };
    if ledger.entry_names(subject).any(|known| known == name.as_str()) {
        let message = format!("`{owner}` has an entry `{name}` already");
        return Err(CliError::usage(message).help(format!("cledger show {owner}/{name} shows it")));
    }
    Ok(())
}
