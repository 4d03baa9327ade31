//! Rows in MariaDB.

use cledger_core::probe::Tls;
use jiff::Timestamp;
use mysql::consts::CapabilityFlags;
use mysql::prelude::Queryable as _;
use mysql::{Conn, Error, Opts, OptsBuilder, Params, Value};
use zeroize::Zeroizing;

use super::column::{Column, Holds};
use super::connection::{Connection, Row, as_digit};
use super::constraint::{Constraints, Reference, references, uniques};
use crate::database_url::without_mode;
use crate::failure::{Deadline, Failure, NotBrought};
use crate::mariadb::{connect, failure};
use crate::reach::RowsReach;

/// What addresses begin with.
const SCHEME: &str = "mariadb://";

/// The collation that tells all texts apart.
const BINARY: &str = "COLLATE utf8mb4_nopad_bin";

/// What the catalogue says of a column.
type Described = (String, String, String, Option<u64>, String, bool, String);

/// A connection to a server.
struct MariaDb(Conn);

/// Logs in to the database.
pub(super) fn open(reach: &RowsReach, deadline: Deadline) -> Result<impl Connection + use<>, Failure> {
    // What is wrong with it is not told: a password may stand in it.
    let wrong =
        || Failure::unexpected("its `url` is no address of MariaDB: mariadb://user@host:port/database");
    let (url, mode) = without_mode(reach.at.expose())?;
    let url = Zeroizing::new(format!("mysql://{}", url.strip_prefix(SCHEME).ok_or_else(wrong)?));
    let opts = Opts::from_url(&url).map_err(|_| wrong())?;
    let host = opts.get_ip_or_hostname().into_owned();
    let encrypted = Tls::of(mode.as_deref(), &host);
    let encrypted = encrypted.map_err(|error| Failure::unexpected(format!("its `url`: {error}")))?;
    let mut builder = OptsBuilder::from_opts(opts)
        // Rows that are found count, and not only those that change.
        .additional_capabilities(CapabilityFlags::CLIENT_FOUND_ROWS);
    if let Some(password) = &reach.password {
        builder = builder.pass(Some(password.expose()));
    }
    let mut connection = connect(builder, &reach.trust, encrypted, deadline)?;
    let left = deadline.left()?;
    for statement in [
        format!("SET SESSION max_statement_time = {:.3}", left.as_secs_f64()),
        format!("SET SESSION innodb_lock_wait_timeout = {}", left.as_secs().max(1)),
        // What does not fit is refused, and never cut off.
        "SET SESSION sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,ERROR_FOR_DIVISION_BY_ZERO'".to_owned(),
        "SET SESSION time_zone = '+00:00'".to_owned(),
    ] {
        connection.query_drop(statement).map_err(|error| failure(&error))?;
    }
    Ok(MariaDb(connection))
}

impl MariaDb {
    /// The foreign keys of the table on one of their sides, which the catalogue names with these columns.
    fn references(
        &mut self,
        [schema, name]: [&str; 2],
        table: (Value, &String),
    ) -> Result<Vec<Reference>, Failure> {
        let asked = format!(
            "SELECT CONSTRAINT_NAME, TABLE_SCHEMA, TABLE_NAME, COLUMN_NAME, REFERENCED_TABLE_SCHEMA, \
             REFERENCED_TABLE_NAME, REFERENCED_COLUMN_NAME FROM information_schema.KEY_COLUMN_USAGE \
             WHERE {schema} = COALESCE(?, DATABASE()) AND {name} = ? AND REFERENCED_TABLE_NAME IS NOT NULL \
             ORDER BY TABLE_SCHEMA, TABLE_NAME, CONSTRAINT_NAME, ORDINAL_POSITION"
        );
        let rows: Vec<[String; 7]> = self
            .0
            .exec_map(asked, table, |(name, schema, table, column, to_schema, to, other)| {
                [name, schema, table, column, to_schema, to, other]
            })
            .map_err(|error| failure(&error))?;
        Ok(references(rows.into_iter().map(|[name, schema, table, column, to_schema, to, other]| {
            Reference {
                name,
                from: vec![schema, table],
                columns: vec![column],
                to: vec![to_schema, to],
                others: vec![other],
            }
        })))
    }
}

/// A table's schema, which is the database's own where none is named, and its name.
fn named(table: &[String]) -> Option<(Value, &String)> {
    match table {
        [schema, name] => Some((Value::from(schema), name)),
        [name] => Some((Value::NULL, name)),
        _ => None,
    }
}

impl Connection for MariaDb {
    fn columns(&mut self, table: &[String]) -> Result<Vec<Column>, Failure> {
        let Some((schema, name)) = named(table) else { return Ok(Vec::new()) };
        let asked = "SELECT COLUMN_NAME, DATA_TYPE, COLUMN_TYPE, CHARACTER_MAXIMUM_LENGTH, IS_NULLABLE, \
                     COLUMN_DEFAULT IS NOT NULL, EXTRA FROM information_schema.COLUMNS \
                     WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ? ORDER BY ORDINAL_POSITION";
        let rows: Vec<Described> = self.0.exec(asked, (schema, name)).map_err(|error| failure(&error))?;
        let column = |(name, data_type, declared, longest, nullable, filled, extra): Described| {
            let extra = extra.to_ascii_lowercase();
            let is_numbered = extra.contains("auto_increment");
            let is_generated = extra.contains("generated");
            Column {
                holds: holds(&data_type, &declared),
                longest: longest
                    .and_then(|most| most.try_into().ok())
                    .filter(|_| data_type.ends_with("char")),
                is_needed: nullable == "NO" && !filled && !is_numbered && !is_generated,
                is_generated,
                name,
                declared,
            }
        };
        Ok(rows.into_iter().map(column).collect())
    }

    fn constraints(&mut self, table: &[String]) -> Result<Constraints, Failure> {
        let Some((schema, name)) = named(table) else { return Ok(Constraints::default()) };
        let full: Option<(String, String)> = self
            .0
            .exec_first(
                "SELECT TABLE_SCHEMA, TABLE_NAME FROM information_schema.TABLES \
                 WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ?",
                (&schema, name),
            )
            .map_err(|error| failure(&error))?;
        // An index of parts of columns, or of what is computed, says nothing of whole ones.
        let unique: Vec<(String, String)> = self
            .0
            .exec(
                "SELECT INDEX_NAME, COLUMN_NAME FROM information_schema.STATISTICS \
                 WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ? AND NON_UNIQUE = 0 \
                 AND INDEX_NAME NOT IN (SELECT INDEX_NAME FROM information_schema.STATISTICS \
                 WHERE TABLE_SCHEMA = COALESCE(?, DATABASE()) AND TABLE_NAME = ? \
                 AND (SUB_PART IS NOT NULL OR COLUMN_NAME IS NULL)) ORDER BY INDEX_NAME, SEQ_IN_INDEX",
                (&schema, name, &schema, name),
            )
            .map_err(|error| failure(&error))?;
        Ok(Constraints {
            table: full.map(|(schema, name)| vec![schema, name]).unwrap_or_default(),
            unique: uniques(unique),
            references: self.references(["TABLE_SCHEMA", "TABLE_NAME"], (schema, name))?,
        })
    }

    fn referring(&mut self, table: &[String]) -> Result<Vec<Reference>, Failure> {
        let Some(table) = named(table) else { return Ok(Vec::new()) };
        self.references(["REFERENCED_TABLE_SCHEMA", "REFERENCED_TABLE_NAME"], table)
    }

    fn quoted(&self, name: &str) -> String {
        format!("`{name}`")
    }

    fn as_text(&self, column: &Column) -> String {
        format!("CAST({} AS CHAR CHARACTER SET utf8mb4)", self.quoted(&column.name))
    }

    fn mark(&self, _: &Column, _: usize) -> String {
        "?".to_owned()
    }

    fn is(&self, column: &Column, _: usize) -> String {
        match column.holds {
            Holds::Text | Holds::OneOf(_) | Holds::Json | Holds::Other => {
                format!("{} = ? {BINARY}", self.as_text(column))
            }
            _ => format!("{} = ?", self.quoted(&column.name)),
        }
    }

    fn is_alike(&self, column: &Column, _: usize) -> String {
        format!("{} = ?", self.quoted(&column.name))
    }

    fn ends_with(&self, column: &Column, _: usize) -> String {
        format!("{} LIKE CONCAT('%', ?) {BINARY}", self.as_text(column))
    }

    fn for_update(&self) -> &'static str {
        " FOR UPDATE"
    }

    fn given(&self, column: &Column, text: &str) -> Zeroizing<String> {
        let time = (column.holds == Holds::Time).then(|| text.parse::<Timestamp>().ok()).flatten();
        time.map_or_else(|| as_digit(column, text), |time| Zeroizing::new(local(time)))
    }

    fn time(&self, column: &Column, time: Timestamp) -> String {
        if column.holds == Holds::Integer { time.as_second().to_string() } else { local(time) }
    }

    fn text_types(&self) -> [&'static str; 2] {
        [
            "longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin",
            "varchar(255) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin",
        ]
    }

    fn query(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<Vec<Row>, Failure> {
        let rows: Vec<mysql::Row> =
            self.0.exec(statement, parameters(values)).map_err(|error| failure(&error))?;
        let text = |value: Value| match value {
            Value::NULL => Ok(None),
            Value::Bytes(bytes) => String::from_utf8(bytes)
                .map(|text| Some(Zeroizing::new(text)))
                .map_err(|_| Failure::unexpected("what is there is not UTF-8")),
            _ => Err(Failure::unexpected("what is there is no text")),
        };
        rows.into_iter().map(|row| row.unwrap().into_iter().map(text).collect()).collect()
    }

    fn execute(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<u64, Failure> {
        self.0.exec_drop(statement, parameters(values)).map_err(|error| failure(&error))?;
        Ok(self.0.affected_rows())
    }

    fn begin(&mut self, held: &str) -> Result<(), Failure> {
        // Rows that are not there yet cannot be locked: two of us wait for each other here. Names of locks are short.
        let taken: Option<Option<i64>> = self
            .0
            .exec_first("SELECT GET_LOCK(SHA2(?, 256), 3600)", (held,))
            .map_err(|error| failure(&error))?;
        if taken.flatten() != Some(1) {
            return Err(Failure::unexpected("somebody else is changing it"));
        }
        self.0.query_drop("START TRANSACTION").map_err(|error| failure(&error))
    }

    fn commit(&mut self) -> Result<(), NotBrought> {
        // Where the connection breaks just now, nobody knows on which side of it the server stands.
        self.0.query_drop("COMMIT").map_err(|error| match error {
            Error::MySqlError(_) => failure(&error).into(),
            error => NotBrought::NotKnown(failure(&error).to_string()),
        })
    }
}

fn parameters(values: &[Zeroizing<String>]) -> Params {
    if values.is_empty() {
        return Params::Empty;
    }
    Params::Positional(values.iter().map(|value| Value::Bytes(value.as_bytes().to_vec())).collect())
}

/// A time without a zone, as columns of this database take it: UTC, as the session is.
fn local(time: Timestamp) -> String {
    time.strftime("%Y-%m-%d %H:%M:%S").to_string()
}

/// What a type of the catalogue holds.
fn holds(data_type: &str, declared: &str) -> Holds {
    match data_type {
        "tinyint" if declared.starts_with("tinyint(1)") => Holds::Boolean,
        "tinyint" | "smallint" | "mediumint" | "int" | "bigint" | "year" => Holds::Integer,
        "decimal" | "float" | "double" => Holds::Number,
        "date" | "datetime" | "timestamp" | "time" => Holds::Time,
        "json" => Holds::Json,
        "enum" => Holds::OneOf(words(declared)),
        "char" | "varchar" | "tinytext" | "text" | "mediumtext" | "longtext" => Holds::Text,
        _ => Holds::Other,
    }
}

/// The words of `enum('a','b')`, in which a quote is written twice.
fn words(declared: &str) -> Vec<String> {
    let inside = declared.strip_prefix("enum('").and_then(|rest| rest.strip_suffix("')"));
    inside.map(|inside| inside.split("','").map(|word| word.replace("''", "'")).collect()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_an_enumeration_are_read() {
        assert_eq!(words("enum('quay','ferry''s','a,b')"), ["quay", "ferry's", "a,b"]);
        assert_eq!(holds("tinyint", "tinyint(1)"), Holds::Boolean);
        assert_eq!(holds("tinyint", "tinyint(4) unsigned"), Holds::Integer);
    }
}
