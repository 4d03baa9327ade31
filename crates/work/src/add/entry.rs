//! New variables, connections, endpoints, credentials and tables.

use std::fmt::Write as _;

use cledger_core::address::{Address, Owner};
use cledger_core::model::{Ledger, Subject};
use cledger_core::name::Name;
use cledger_core::reference;
use cledger_core::types::Type;
use cledger_core::value::Value;
use cledger_store::{Changed, literal, parse_value, shared_file};

use crate::add::added::{Added, appended, written};
use crate::change::Changing;
use crate::meant::outputs_of;
use crate::trouble::Trouble;

/// An entry that is new.
#[derive(Debug, Clone)]
pub struct NewEntry {
    /// Its address, as UNIT/ENTRY or shared/ENTRY.
    pub address: String,
    /// What it is for.
    pub about: Option<String>,
    /// What it is.
    pub kind: NewKind,
}

/// What a new entry is.
#[derive(Debug, Clone)]
pub enum NewKind {
    /// A variable.
    Variable(NewVariable),
    /// A connection by this protocol.
    Connection(Name),
    /// An endpoint.
    Endpoint,
    /// A credential of this form.
    Credential(String),
    /// A lookup table.
    Table(NewTable),
}

/// What is declared of a new variable; values are texts of its type.
#[derive(Debug, Clone, Default)]
pub struct NewVariable {
    /// Its type; text if not given.
    pub this_type: Option<Type>,
    /// Its default.
    pub default: Option<String>,
    /// Whether it need not have a value.
    pub optional: bool,
    /// Where it may differ: never, may or must.
    pub vary: Option<String>,
    /// Whether it is a secret.
    pub secret: bool,
    /// The only values allowed.
    pub one_of: Vec<String>,
    /// The least.
    pub min: Option<String>,
    /// The greatest.
    pub max: Option<String>,
}

/// What is declared of a new lookup table.
#[derive(Debug, Clone, Default)]
pub struct NewTable {
    /// Its columns.
    pub columns: Vec<String>,
    /// The column that tells its rows apart; the first if not given.
    pub key: Option<String>,
    /// The CSV file of its rows, from the ledger's folder.
    pub rows: Option<String>,
}

impl NewKind {
    /// The table of a contract that it stands in, and its lines there.
    fn declared(&self) -> Result<(&'static str, String), Trouble> {
        Ok(match self {
            NewKind::Variable(variable) => ("variables", variable.lines()?),
            NewKind::Connection(protocol) => ("connections", format!("protocol = \"{protocol}\"\n")),
            NewKind::Endpoint => ("endpoints", String::new()),
            NewKind::Credential(form) => ("credentials", format!("form = \"{form}\"\n")),
            NewKind::Table(table) => ("tables", table.lines()),
        })
    }
}

impl NewTable {
    fn lines(&self) -> String {
        let key = self.key.as_ref().or(self.columns.first()).map_or("", String::as_str);
        let mut lines = format!("columns = {:?}\nkey = {}\n", self.columns, literal(&Value::text(key), None));
        if let Some(rows) = &self.rows {
            let _ = writeln!(lines, "rows = {}", literal(&Value::text(rows), None));
        }
        lines
    }
}

impl NewVariable {
    fn lines(&self) -> Result<String, Trouble> {
        let this = self.this_type.unwrap_or(Type::Text);
        let value = |text: &str| {
            let value = match this {
                Type::List | Type::Map if reference::lone(text).is_none() => parse_value(text),
                _ if reference::is_in(text) => Some(Value::text(text)),
                _ => this.read(text),
            };
            let wanted = || {
                Trouble::usage(format!("`{text}` is not {}", this.describe()))
                    .help("its --type says what it can be")
            };
            value.map(|value| literal(&value, None)).ok_or_else(wanted)
        };
        let mut lines = String::new();
        if this != Type::Text {
            let _ = writeln!(lines, "type = \"{}\"", this.name());
        }
        for (word, said) in [("default", &self.default), ("min", &self.min), ("max", &self.max)] {
            if let Some(said) = said {
                let _ = writeln!(lines, "{word} = {}", value(said)?);
            }
        }
        if self.optional {
            lines.push_str("required = false\n");
        }
        if let Some(vary) = &self.vary {
            let _ = writeln!(lines, "vary = \"{vary}\"");
        }
        if self.secret {
            lines.push_str("secret = true\n");
        }
        if !self.one_of.is_empty() {
            let values: Vec<String> = self.one_of.iter().map(|text| value(text)).collect::<Result<_, _>>()?;
            let _ = writeln!(lines, "one_of = [{}]", values.join(", "));
        }
        Ok(lines)
    }
}

/// Adds an entry to a unit's contract, or a shared one.
pub fn entry(changing: &Changing, new: &NewEntry) -> Result<Added, Trouble> {
    let address = Address::parse(&new.address)?;
    let (Some(owner), Some(name), None, None) =
        (&address.owner, &address.entry, &address.field, &address.stage)
    else {
        return Err(
            Trouble::usage(format!("`{address}` names no entry")).help("write UNIT/ENTRY or shared/ENTRY")
        );
    };
    let path = match owner {
        Owner::Unit(_, Some(_)) => {
            let message = format!("`{address}` names an instance, and its unit declares its entries");
            return Err(Trouble::usage(message).help("leave out what begins with `+`"));
        }
        Owner::Unit(unit, None) => {
            changing.opened.unit(unit, None)?;
            format!("units/{unit}.toml")
        }
        Owner::Shared => shared_file(changing.ledger()),
    };
    must_be_free(changing.ledger(), owner, name)?;
    let (table, lines) = new.kind.declared()?;
    let mut block = format!("[{table}.{name}]\n{lines}");
    if let Some(about) = &new.about {
        let _ = writeln!(block, "about = {}", literal(&Value::text(about), None));
    }
    let changed = Changed::from([appended(changing, &path, &block)?]);
    let (added, after) = written(changing, changed, address.to_string())?;
    let Owner::Unit(unit, _) = owner else { return Ok(added) };
    Ok(Added { outputs: outputs_of(&after, unit, name), ..added })
}

fn must_be_free(ledger: &Ledger, owner: &Owner, name: &Name) -> Result<(), Trouble> {
    let subject = match owner {
        Owner::Shared => Subject::Shared,
        Owner::Unit(unit, _) => match ledger.unit_id(unit.as_str()) {
            Some(id) => Subject::Unit(id, None),
            None => return Ok(()),
        },
    };
    if ledger.entry_names(subject).any(|known| known == name.as_str()) {
        let message = format!("`{owner}` has an entry `{name}` already");
        return Err(Trouble::usage(message).help(format!("cledger show {owner}/{name} shows it")));
    }
    Ok(())
}
