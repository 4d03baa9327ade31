//! Rows in a file of SQLite.

use std::path::Path;

use cledger_core::probe::Answer;
use jiff::Timestamp;
use rusqlite::{Error, ErrorCode, OpenFlags, params_from_iter};
use zeroize::Zeroizing;

use super::column::{Column, Holds};
use super::connection::{Access, Connection, Row, as_digit};
use super::constraint::{Constraints, Reference, Unique, references, uniques};
use crate::failure::{Deadline, Failure, NotBrought};
use crate::reach::RowsReach;

/// An open file.
struct Sqlite(rusqlite::Connection);

/// Opens the file, which must be there unless it is to be made.
pub(super) fn open(
    reach: &RowsReach,
    access: Access,
    deadline: Deadline,
) -> Result<impl Connection + use<>, Failure> {
    let path = Path::new(reach.at.expose());
    let flags = match access {
        Access::Read => OpenFlags::SQLITE_OPEN_READ_ONLY,
        Access::Write => OpenFlags::SQLITE_OPEN_READ_WRITE,
        Access::Make => OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE,
    };
    if access != Access::Make && !path.exists() {
        return Err(Failure::unexpected("there is no such file"));
    }
    let opened = rusqlite::Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX);
    let connection = opened.map_err(|error| failure(&error))?;
    connection.busy_timeout(deadline.left()?).map_err(|error| failure(&error))?;
    // The tables' own conditions count for us, too.
    connection.pragma_update(None, "foreign_keys", true).map_err(|error| failure(&error))?;
    Ok(Sqlite(connection))
}

impl Sqlite {
    /// What a question about the catalogue gives.
    fn texts<T>(
        &self,
        asked: &str,
        values: [&str; 2],
        of: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, Failure> {
        let mut statement = self.0.prepare(asked).map_err(|error| failure(&error))?;
        let rows = statement.query_map(values, of);
        rows.and_then(Iterator::collect).map_err(|error| failure(&error))
    }

    /// The columns of a table's key.
    fn key(&self, [schema, name]: [&str; 2]) -> Result<Vec<String>, Failure> {
        let asked = "SELECT name FROM pragma_table_info(?1, ?2) WHERE pk > 0 ORDER BY pk";
        self.texts(asked, [name, schema], |row| row.get(0))
    }

    /// The foreign keys that this condition is about.
    fn references(&self, of: &str, [name, schema]: [&str; 2]) -> Result<Vec<Reference>, Failure> {
        let asked = format!(
            "SELECT m.name, f.id, f.\"from\", f.\"table\", f.\"to\", f.seq FROM {}.sqlite_schema AS m, \
             pragma_foreign_key_list(m.name, ?2) AS f WHERE m.type = 'table' AND {of} ORDER BY m.name, f.id, f.seq",
            self.quoted(schema)
        );
        let found = self.texts(&asked, [name, schema], |row| {
            let (table, number): (String, i64) = (row.get(0)?, row.get(1)?);
            let (from, to, other): (String, String, Option<String>) = (row.get(2)?, row.get(3)?, row.get(4)?);
            Ok((table, number, from, to, other, row.get::<_, u32>(5)?))
        })?;
        let mut of_columns = Vec::new();
        for (table, number, column, to, other, at) in found {
            // Where no columns are named, the key is meant.
            let other = match other {
                Some(other) => Some(other),
                None => self.key([schema, &to])?.into_iter().nth(at as usize),
            };
            let Some(other) = other else { continue };
            of_columns.push(Reference {
                name: format!("foreign key {number} of {table}"),
                from: vec![schema.to_owned(), table],
                columns: vec![column],
                to: vec![schema.to_owned(), to],
                others: vec![other],
            });
        }
        Ok(references(of_columns))
    }
}

/// A table's schema and its name.
fn named(table: &[String]) -> Option<[&str; 2]> {
    match table {
        [schema, name] => Some([schema, name]),
        [name] => Some(["main", name]),
        _ => None,
    }
}

impl Connection for Sqlite {
    fn columns(&mut self, table: &[String]) -> Result<Vec<Column>, Failure> {
        let Some([schema, name]) = named(table) else { return Ok(Vec::new()) };
        let asked = "SELECT name, type, \"notnull\", dflt_value IS NOT NULL, pk, hidden \
                     FROM pragma_table_xinfo(?1, ?2) WHERE hidden <> 1";
        let mut statement = self.0.prepare(asked).map_err(|error| failure(&error))?;
        let rows = statement.query_map([name, schema], |row| {
            let declared: String = row.get(1)?;
            let (never_empty, filled): (bool, bool) = (row.get(2)?, row.get(3)?);
            let (key, hidden): (i64, i64) = (row.get(4)?, row.get(5)?);
            // The one that SQLite numbers by itself.
            let is_numbered = key > 0 && declared.eq_ignore_ascii_case("integer");
            Ok(Column {
                name: row.get(0)?,
                holds: holds(&declared),
                longest: None,
                is_needed: never_empty && !filled && !is_numbered,
                is_generated: hidden > 1,
                declared,
            })
        });
        rows.and_then(Iterator::collect).map_err(|error| failure(&error))
    }

    fn constraints(&mut self, table: &[String]) -> Result<Constraints, Failure> {
        let Some([schema, name]) = named(table) else { return Ok(Constraints::default()) };
        // An index of what is computed has no column there, and one of some rows alone is `partial`.
        let mut unique = uniques(self.texts(
            "SELECT l.name, i.name FROM pragma_index_list(?1, ?2) AS l, pragma_index_info(l.name, ?2) AS i \
             WHERE l.\"unique\" AND NOT l.partial AND NOT EXISTS (SELECT 1 FROM pragma_index_info(l.name, ?2) \
             AS other WHERE other.name IS NULL) ORDER BY l.seq, i.seqno",
            [name, schema],
            |row| Ok((row.get(0)?, row.get(1)?)),
        )?);
        // A key that is the number of the row itself has no index.
        let key = self.key([schema, name])?;
        if let [_] = key.as_slice() {
            unique.push(Unique { name: "PRIMARY KEY".to_owned(), columns: key });
        }
        let references = self.references("m.name = ?1 COLLATE NOCASE", [name, schema])?;
        Ok(Constraints { table: vec![schema.to_owned(), name.to_owned()], unique, references })
    }

    fn referring(&mut self, table: &[String]) -> Result<Vec<Reference>, Failure> {
        let Some([schema, name]) = named(table) else { return Ok(Vec::new()) };
        self.references("f.\"table\" = ?1 COLLATE NOCASE", [name, schema])
    }

    fn quoted(&self, name: &str) -> String {
        format!("\"{name}\"")
    }

    fn as_text(&self, column: &Column) -> String {
        format!("CAST({} AS TEXT)", self.quoted(&column.name))
    }

    fn mark(&self, _: &Column, number: usize) -> String {
        format!("?{number}")
    }

    fn is(&self, column: &Column, number: usize) -> String {
        format!("{} = ?{number} COLLATE BINARY", self.quoted(&column.name))
    }

    fn is_alike(&self, column: &Column, number: usize) -> String {
        format!("{} = ?{number}", self.quoted(&column.name))
    }

    fn ends_with(&self, column: &Column, number: usize) -> String {
        format!("substr({}, -length(?{number})) = ?{number} COLLATE BINARY", self.as_text(column))
    }

    fn for_update(&self) -> &'static str {
        ""
    }

    fn given(&self, column: &Column, text: &str) -> Zeroizing<String> {
        as_digit(column, text)
    }

    fn time(&self, column: &Column, time: Timestamp) -> String {
        if column.holds == Holds::Integer { time.as_second().to_string() } else { time.to_string() }
    }

    fn text_types(&self) -> [&'static str; 2] {
        ["TEXT", "TEXT"]
    }

    fn query(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<Vec<Row>, Failure> {
        let mut statement = self.0.prepare(statement).map_err(|error| failure(&error))?;
        let count = statement.column_count();
        let rows = statement.query_map(params_from_iter(values.iter().map(|value| value.as_str())), |row| {
            (0..count).map(|at| Ok(row.get::<_, Option<String>>(at)?.map(Zeroizing::new))).collect()
        });
        rows.and_then(Iterator::collect).map_err(|error| failure(&error))
    }

    fn execute(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<u64, Failure> {
        let values = params_from_iter(values.iter().map(|value| value.as_str()));
        let changed = self.0.execute(statement, values).map_err(|error| failure(&error))?;
        Ok(changed.try_into().unwrap_or(u64::MAX))
    }

    fn begin(&mut self, _: &str) -> Result<(), Failure> {
        // Nobody else writes from here on: there is one writer at a time.
        self.0.execute_batch("BEGIN IMMEDIATE").map_err(|error| failure(&error))
    }

    fn commit(&mut self) -> Result<(), NotBrought> {
        self.0.execute_batch("COMMIT").map_err(|error| failure(&error).into())
    }
}

/// What a declared type holds (the words of SQLite's own rules, <https://www.sqlite.org/datatype3.html>).
fn holds(declared: &str) -> Holds {
    let declared = declared.to_ascii_uppercase();
    let has = |words: &[&str]| words.iter().any(|word| declared.contains(word));
    if has(&["BOOL"]) {
        Holds::Boolean
    } else if has(&["JSON"]) {
        Holds::Json
    } else if has(&["INT"]) {
        Holds::Integer
    } else if has(&["CHAR", "CLOB", "TEXT"]) {
        Holds::Text
    } else if has(&["DATE", "TIME"]) {
        Holds::Time
    } else if has(&["REAL", "FLOA", "DOUB", "NUM", "DEC"]) {
        Holds::Number
    } else {
        Holds::Other
    }
}

/// What an error says: SQLite names tables and columns, and never values.
fn failure(error: &Error) -> Failure {
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            Failure::new(Answer::NoAnswer, "somebody else is changing it")
        }
        Some(ErrorCode::NotADatabase) => Failure::unexpected("the file is no database of SQLite"),
        Some(ErrorCode::ReadOnly | ErrorCode::CannotOpen | ErrorCode::PermissionDenied) => {
            Failure::new(Answer::AccessDenied, "the file cannot be written or opened")
        }
        _ => match error {
            // A trigger says what it likes.
            Error::SqliteFailure(code, _)
                if code.extended_code == rusqlite::ffi::SQLITE_CONSTRAINT_TRIGGER =>
            {
                Failure::unexpected("a trigger of the table refuses it")
            }
            Error::SqliteFailure(_, Some(message)) => Failure::unexpected(message.clone()),
            _ => Failure::unexpected(error.to_string()),
        },
    }
}
