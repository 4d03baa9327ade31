//! The tables of the embedded daybook, by version, and the steps from one to the next.

use rusqlite::Connection;
use rusqlite_migration::{Error, M, MigrationDefinitionError, Migrations};

use super::sqlite_error::failed;
use super::{DaybookError, SCHEMA};

/// The tables of the first version, which put no number down.
const FIRST: [(&str, &str); 2] = [
    (
        "records",
        "CREATE TABLE records (
            place INTEGER PRIMARY KEY, unit TEXT NOT NULL, stage TEXT NOT NULL, number INTEGER NOT NULL,
            chore INTEGER NOT NULL, text TEXT NOT NULL, hash TEXT NOT NULL, open BLOB NOT NULL, sealed TEXT,
            UNIQUE (unit, stage, chore, number)
        )",
    ),
    (
        "opened",
        "CREATE TABLE opened (
            unit TEXT NOT NULL, stage TEXT NOT NULL, text TEXT NOT NULL, open BLOB NOT NULL, sealed TEXT,
            PRIMARY KEY (unit, stage)
        )",
    ),
];

/// The tables of the present version.
const PRESENT: [(&str, &str); 4] = [
    (
        "records",
        "CREATE TABLE records (
            place INTEGER PRIMARY KEY, unit TEXT NOT NULL, stage TEXT NOT NULL, number INTEGER NOT NULL,
            chore INTEGER NOT NULL, text TEXT NOT NULL, hash TEXT NOT NULL, open BLOB NOT NULL, cipher_text TEXT,
            digests TEXT
        )",
    ),
    ("records_of", "CREATE INDEX records_of ON records (unit, stage, chore, number)"),
    (
        "opened",
        "CREATE TABLE opened (
            unit TEXT NOT NULL, stage TEXT NOT NULL, text TEXT NOT NULL, open BLOB NOT NULL, cipher_text TEXT,
            token TEXT NOT NULL, hash TEXT, PRIMARY KEY (unit, stage)
        )",
    ),
    (
        "wrapped_keys",
        "CREATE TABLE wrapped_keys (
            id TEXT PRIMARY KEY, stage TEXT NOT NULL, generation INTEGER NOT NULL, text TEXT NOT NULL
        )",
    ),
];

/// What the second version calls otherwise.
const RENAMED: &str = "ALTER TABLE records RENAME COLUMN sealed TO cipher_text;
    ALTER TABLE opened RENAME COLUMN sealed TO cipher_text;";

/// The words of a statement, blanks folded.
fn folded(statement: &str) -> String {
    let words = statement.split_whitespace().collect::<Vec<_>>().join(" ");
    words.replace("( ", "(").replace(" )", ")")
}

fn joined(statements: &[(&str, &str)]) -> String {
    statements.iter().flat_map(|(_, statement)| [*statement, ";\n"]).collect()
}

/// Tables, indices and their texts in a version.
fn tables(version: u32) -> Result<Vec<(&'static str, String)>, DaybookError> {
    let of = |statements: &[(&'static str, &str)]| {
        statements.iter().map(|&(name, text)| (name, folded(text))).collect::<Vec<_>>()
    };
    match version {
        1 => Ok(of(&FIRST)),
        2 => Ok(of(&FIRST)
            .into_iter()
            .map(|(name, text)| (name, text.replace("sealed", "cipher_text")))
            .collect()),
        SCHEMA => Ok(of(&PRESENT)),
        other => Err(DaybookError::Version(other)),
    }
}

/// Makes the tables, or brings them to the present version, each step once. Nobody else may do so meanwhile.
pub(super) fn bring_forward(connection: &mut Connection) -> Result<(), DaybookError> {
    let count = "SELECT count(*) FROM sqlite_schema";
    let count: i64 = connection.query_row(count, [], |row| row.get(0)).map_err(failed)?;
    if count > 0 && version(connection)? == 0 {
        connection.pragma_update(None, "user_version", 1).map_err(failed)?;
    }
    let first = joined(&FIRST);
    // What is left open in a table of the second version has no token: nobody has it in hand any more.
    let third = format!(
        "ALTER TABLE records RENAME TO old_records; ALTER TABLE opened RENAME TO old_opened; {}
         INSERT INTO records SELECT *, NULL FROM old_records;
         INSERT INTO opened SELECT *, '', NULL FROM old_opened;
         DROP TABLE old_records; DROP TABLE old_opened;",
        joined(&PRESENT)
    );
    let steps = Migrations::new(vec![M::up(&first), M::up(RENAMED), M::up(&third)]);
    steps.to_latest(connection).map_err(|error| match error {
        Error::RusqliteError { err, .. } => failed(err),
        Error::MigrationDefinition(MigrationDefinitionError::DatabaseTooFarAhead) => {
            DaybookError::Version(version(connection).unwrap_or_default())
        }
        other => DaybookError::Failed(other.to_string()),
    })
}

/// The version of the tables; 0 where none was put down.
fn version(connection: &Connection) -> Result<u32, DaybookError> {
    connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)
}

/// Refuses a file that holds anything but our tables, or these in another form; gives their version.
pub(super) fn check(connection: &Connection) -> Result<u32, DaybookError> {
    let version = version(connection)?.max(1);
    let query = "SELECT type, name, coalesce(sql, '') FROM sqlite_schema ORDER BY name";
    let mut statement = connection.prepare(query).map_err(failed)?;
    let rows = statement.query_map([], |row| {
        Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?))
    });
    let mut missing = tables(version)?;
    for row in rows.map_err(failed)? {
        let (kind, name, sql) = row.map_err(failed)?;
        // What SQLite makes for itself has no text.
        if kind == "index" && sql.is_empty() && name.starts_with("sqlite_autoindex_") {
            continue;
        }
        let ours = |(ours, text): &(&str, String)| {
            ["table", "index"].contains(&kind.as_str()) && *ours == name && *text == folded(&sql)
        };
        let Some(at) = missing.iter().position(ours) else {
            let reason = format!("it holds the {kind} `{name}`, which is not of a daybook");
            return Err(DaybookError::Damaged(reason));
        };
        missing.remove(at);
    }
    match missing.first() {
        None => Ok(version),
        Some((name, _)) => Err(DaybookError::Damaged(format!("it has no table `{name}`"))),
    }
}
