//! The embedded daybook, in one SQLite file.

use std::collections::BTreeMap;
use std::fs::{self, File, TryLockError};
use std::path::{Path, PathBuf};
use std::time::Duration;

use rusqlite::{Connection, ErrorCode, OptionalExtension as _, Transaction, TransactionBehavior, params};

use super::record::{Row, signed};
use super::{Daybook, DaybookError, Kind, Meta, Packed, Record, Wanted, following};

/// How long one waits for others who write.
const WAIT: Duration = Duration::from_secs(30);

const TABLES: &str = "
    CREATE TABLE IF NOT EXISTS records (
        place INTEGER PRIMARY KEY,
        unit TEXT NOT NULL,
        stage TEXT NOT NULL,
        number INTEGER NOT NULL,
        chore INTEGER NOT NULL,
        text TEXT NOT NULL,
        hash TEXT NOT NULL,
        open BLOB NOT NULL,
        sealed TEXT,
        UNIQUE (unit, stage, chore, number)
    );
    CREATE TABLE IF NOT EXISTS opened (
        unit TEXT NOT NULL,
        stage TEXT NOT NULL,
        text TEXT NOT NULL,
        open BLOB NOT NULL,
        sealed TEXT,
        PRIMARY KEY (unit, stage)
    );";

/// A daybook in a file of its own.
pub struct SqliteDaybook {
    connection: Connection,
    /// Where the locks are of what is being delivered.
    folder: PathBuf,
    held: BTreeMap<(String, String), File>,
}

fn failed(error: rusqlite::Error) -> DaybookError {
    match error.sqlite_error_code() {
        Some(ErrorCode::DatabaseCorrupt | ErrorCode::NotADatabase) => {
            DaybookError::Damaged(error.to_string())
        }
        Some(ErrorCode::DiskFull) => DaybookError::Failed("the disk is full".to_owned()),
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => {
            DaybookError::Failed("others were writing for too long".to_owned())
        }
        _ => DaybookError::Failed(error.to_string()),
    }
}

impl SqliteDaybook {
    /// Opens a daybook, and makes it if it is not there.
    pub fn open(path: &Path) -> Result<Self, DaybookError> {
        let folder = path.parent().unwrap_or(Path::new(".")).to_owned();
        let io = |error: std::io::Error| DaybookError::Failed(error.to_string());
        if !folder.is_dir() {
            fs::create_dir_all(&folder).map_err(io)?;
            fs::write(folder.join(".gitignore"), "*\n").map_err(io)?;
        }
        let connection = Connection::open(path).map_err(failed)?;
        connection.busy_timeout(WAIT).map_err(failed)?;
        connection.execute_batch(TABLES).map_err(failed)?;
        Ok(Self { connection, folder: folder.join("delivering"), held: BTreeMap::new() })
    }

    /// A transaction that nobody else writes in.
    fn writing(&mut self) -> Result<Transaction<'_>, DaybookError> {
        self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)
    }
}

fn insert(transaction: &Transaction<'_>, row: &Row) -> Result<(), DaybookError> {
    let values = params![
        row.place, row.unit, row.stage, row.number, row.chore, row.text, row.hash, row.open, row.sealed
    ];
    let statement = "INSERT INTO records VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    transaction.execute(statement, values).map_err(failed)?;
    Ok(())
}

impl Daybook for SqliteDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let io = |error: std::io::Error| DaybookError::Failed(error.to_string());
        fs::create_dir_all(&self.folder).map_err(io)?;
        let path = self.folder.join(format!("{unit}@{stage}"));
        let file = File::options().create(true).truncate(false).write(true).open(path).map_err(io)?;
        match file.try_lock() {
            Ok(()) => {
                self.held.insert((unit.to_owned(), stage.to_owned()), file);
                Ok(())
            }
            Err(TryLockError::WouldBlock) => Err(DaybookError::Busy(unit.to_owned(), stage.to_owned())),
            Err(TryLockError::Error(error)) => Err(io(error)),
        }
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // Closing the file gives the lock back.
        self.held.remove(&(unit.to_owned(), stage.to_owned()));
        Ok(())
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<(), DaybookError> {
        let values = params![meta.unit, meta.stage, meta.to_text(), packed.open, packed.sealed];
        let statement = "INSERT OR REPLACE INTO opened VALUES (?1, ?2, ?3, ?4, ?5)";
        self.connection.execute(statement, values).map_err(failed)?;
        Ok(())
    }

    fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError> {
        let query = "SELECT text, open, sealed FROM opened ORDER BY unit, stage";
        let mut statement = self.connection.prepare(query).map_err(failed)?;
        let rows = statement.query_map([], |row| {
            let packed = Packed { open: row.get(1)?, sealed: row.get(2)? };
            Ok((row.get::<_, String>(0)?, packed))
        });
        let rows: Vec<(String, Packed)> = rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
        rows.into_iter().map(|(text, packed)| Ok((Meta::parse(&text)?, packed))).collect()
    }

    fn close(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let statement = "DELETE FROM opened WHERE unit = ?1 AND stage = ?2";
        self.connection.execute(statement, params![unit, stage]).map_err(failed)?;
        Ok(())
    }

    fn record(&mut self, meta: Meta, packed: &Packed) -> Result<Record, DaybookError> {
        let transaction = self.writing()?;
        let last = "SELECT place, hash FROM records ORDER BY place DESC LIMIT 1";
        let last = transaction.query_row(last, [], |row| Ok((row.get(0)?, row.get(1)?))).optional();
        let number =
            "SELECT coalesce(max(number), 0) FROM records WHERE unit = ?1 AND stage = ?2 AND chore = ?3";
        let chore = meta.kind == Kind::ChoreDone;
        let number = transaction.query_row(number, params![meta.unit, meta.stage, chore], |row| row.get(0));
        let row = following(last.map_err(failed)?, number.map_err(failed)?, meta, packed);
        insert(&transaction, &row)?;
        let close = "DELETE FROM opened WHERE unit = ?1 AND stage = ?2";
        transaction.execute(close, params![row.unit, row.stage]).map_err(failed)?;
        transaction.commit().map_err(failed)?;
        row.into_record()
    }

    fn records(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        let query = "SELECT place, unit, stage, number, chore, text, hash, open, sealed FROM records r
             WHERE (?1 IS NULL OR unit = ?1) AND (?2 IS NULL OR stage = ?2) AND (?3 IS NULL OR number = ?3)
             AND (NOT ?4 OR number = (SELECT max(number) FROM records
                                      WHERE unit = r.unit AND stage = r.stage AND chore = r.chore))
             AND (?5 IS NULL OR chore = ?5)
             ORDER BY place";
        let mut statement = self.connection.prepare(query).map_err(failed)?;
        let values =
            params![wanted.unit, wanted.stage, wanted.number.map(signed), wanted.last, wanted.chores];
        let rows = statement.query_map(values, |row| {
            Ok(Row {
                place: row.get(0)?,
                unit: row.get(1)?,
                stage: row.get(2)?,
                number: row.get(3)?,
                chore: row.get(4)?,
                text: row.get(5)?,
                hash: row.get(6)?,
                open: row.get(7)?,
                sealed: row.get(8)?,
            })
        });
        let rows: Vec<Row> = rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
        rows.into_iter().map(Row::into_record).collect()
    }

    fn take_over(&mut self, records: &[Record]) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        let count: i64 =
            transaction.query_row("SELECT count(*) FROM records", [], |row| row.get(0)).map_err(failed)?;
        if count > 0 {
            return Err(DaybookError::Failed(format!("it has {count} records already")));
        }
        for record in records {
            insert(&transaction, &Row::of(record))?;
        }
        transaction.commit().map_err(failed)
    }

    fn reseal(&mut self, sealed: &[(u64, String)]) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        for (place, text) in sealed {
            let statement = "UPDATE records SET sealed = ?2 WHERE place = ?1";
            transaction.execute(statement, params![signed(*place), text]).map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }
}
