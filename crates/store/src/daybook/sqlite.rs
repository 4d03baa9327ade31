//! The embedded daybook, in one SQLite file.
//!
//! The file may come from anywhere, so it is looked at before it is used: it must be a regular file with our
//! two tables, just as we make them, and nothing beside. Whoever only reads opens it for reading alone: no file
//! is made, and what an interrupted program has left in a journal is told, not carried out.

use std::collections::BTreeMap;
use std::fs::{File, TryLockError};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use rusqlite::config::DbConfig;
use rusqlite::limits::Limit;
use rusqlite::{
    Connection, ErrorCode, OpenFlags, OptionalExtension as _, Transaction, TransactionBehavior, params,
};

use super::record::{Row, signed};
use super::{Daybook, DaybookError, Kind, Meta, Packed, Record, SCHEMA, Wanted, cipher_column, following};
use crate::folder::{Folder, Links};
use crate::mode::Mode;

/// How long one waits for others who write.
const WAIT: Duration = Duration::from_secs(30);

/// How long one question may take, and how many steps of it go by between two looks at the clock.
const LIMIT: Duration = Duration::from_secs(30);
const STEPS: i32 = 10_000;

/// The largest text or record in it, in bytes.
const LARGEST: i32 = 256 << 20;

/// Where the file's head says how it is written (`https://sqlite.org/fileformat2.html`, 1.3).
const LOG_MODE: std::ops::Range<usize> = 18..20;

const RECORDS: &str = "CREATE TABLE records (
        place INTEGER PRIMARY KEY,
        unit TEXT NOT NULL,
        stage TEXT NOT NULL,
        number INTEGER NOT NULL,
        chore INTEGER NOT NULL,
        text TEXT NOT NULL,
        hash TEXT NOT NULL,
        open BLOB NOT NULL,
        cipher_text TEXT,
        UNIQUE (unit, stage, chore, number)
    )";

const OPENED: &str = "CREATE TABLE opened (
        unit TEXT NOT NULL,
        stage TEXT NOT NULL,
        text TEXT NOT NULL,
        open BLOB NOT NULL,
        cipher_text TEXT,
        PRIMARY KEY (unit, stage)
    )";

/// Brings tables of the first version to the second.
const FORWARD: &str = "ALTER TABLE records RENAME COLUMN sealed TO cipher_text;
    ALTER TABLE opened RENAME COLUMN sealed TO cipher_text;";

/// Puts the version of the tables down (`https://sqlite.org/pragma.html#pragma_user_version`).
const NUMBERED: &str = "PRAGMA user_version = 2";

/// A daybook in a file of its own.
pub struct SqliteDaybook {
    connection: Connection,
    /// Where the locks are of what is being delivered; none where it is only read.
    folder: Option<Folder>,
    held: BTreeMap<(String, String), File>,
    clock: Clock,
    /// What the column of cipher texts is called in it.
    cipher_column: &'static str,
}

/// When the question that is asked now must be answered, in milliseconds from the start.
struct Clock {
    start: Instant,
    until: Arc<AtomicU64>,
}

impl Clock {
    fn begin(&self) {
        let until = (self.start.elapsed() + LIMIT).as_millis();
        self.until.store(u64::try_from(until).unwrap_or(u64::MAX), Ordering::Relaxed);
    }
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
        Some(ErrorCode::OperationInterrupted) => {
            DaybookError::Failed(format!("it did not answer within {} s", LIMIT.as_secs()))
        }
        Some(ErrorCode::ReadOnly) => DaybookError::Unfinished,
        _ => DaybookError::Failed(error.to_string()),
    }
}

/// The version of the tables; 0 where none was put down.
fn version(connection: &Connection) -> Result<u32, DaybookError> {
    connection.query_row("PRAGMA user_version", [], |row| row.get(0)).map_err(failed)
}

/// The words of a statement, blanks folded.
fn folded(statement: &str) -> String {
    statement.split_whitespace().collect::<Vec<_>>().join(" ")
}

impl SqliteDaybook {
    /// Opens a daybook, and makes it if it is not there.
    pub fn open(path: &Path) -> Result<Self, DaybookError> {
        let io = |error: std::io::Error| DaybookError::Failed(error.to_string());
        let parent = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        let parent = parent.unwrap_or(Path::new("."));
        if !parent.is_dir() {
            let folder = Folder::make(parent).map_err(io)?;
            folder.write(Path::new(".gitignore"), b"*\n", Mode::Usual).map_err(io)?;
        }
        let folder = Folder::open(parent).map_err(io)?;
        let is_there = look(&folder, path)?;
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE;
        let mut book = Self::connect(path, flags)?;
        book.folder = Some(folder);
        if !is_there || book.is_empty()? {
            // Two who make it at the same time wait for each other; the second finds it made.
            let transaction = book.writing()?;
            if version(&transaction)? == 0 {
                transaction.execute_batch(&format!("{RECORDS}; {OPENED}; {NUMBERED}")).map_err(failed)?;
            }
            transaction.commit().map_err(failed)?;
        }
        book.check()?;
        book.bring_forward()?;
        Ok(book)
    }

    /// Opens a daybook to be read, and changes nothing about it; `None` if there is none.
    pub fn read(path: &Path) -> Result<Option<Self>, DaybookError> {
        let Some(parent) = path.parent().filter(|parent| parent.is_dir()) else { return Ok(None) };
        let folder = Folder::open(parent).map_err(|error| DaybookError::Failed(error.to_string()))?;
        if !look(&folder, path)? {
            return Ok(None);
        }
        let mut book = Self::connect(path, OpenFlags::SQLITE_OPEN_READ_ONLY)?;
        if book.is_empty()? {
            return Ok(None);
        }
        book.check()?;
        Ok(Some(book))
    }

    /// Brings tables of the first version to the present one. Whoever does so at the same time waits, and finds it
    /// done.
    fn bring_forward(&mut self) -> Result<(), DaybookError> {
        if self.cipher_column == cipher_column(SCHEMA)? {
            return Ok(());
        }
        let transaction = self.writing()?;
        if version(&transaction)? == 0 {
            transaction.execute_batch(FORWARD).map_err(failed)?;
            transaction.execute_batch(NUMBERED).map_err(failed)?;
        }
        transaction.commit().map_err(failed)?;
        self.check()
    }

    /// A daybook of nothing, which is kept nowhere.
    pub fn nothing() -> Result<Self, DaybookError> {
        let connection = Connection::open_in_memory().map_err(failed)?;
        connection.execute_batch(&format!("{RECORDS}; {OPENED}")).map_err(failed)?;
        Self::of(connection)
    }

    fn connect(path: &Path, flags: OpenFlags) -> Result<Self, DaybookError> {
        let flags = flags | OpenFlags::SQLITE_OPEN_NO_MUTEX | OpenFlags::SQLITE_OPEN_NOFOLLOW;
        // Links above its folder are the user's.
        let parent = path.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let parent = parent.canonicalize().map_err(|error| DaybookError::Failed(error.to_string()))?;
        let path = parent.join(path.file_name().unwrap_or_default());
        Self::of(Connection::open_with_flags(path, flags).map_err(failed)?)
    }

    fn of(mut connection: Connection) -> Result<Self, DaybookError> {
        connection.busy_timeout(WAIT).map_err(failed)?;
        for (config, on) in [
            (DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false),
            (DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true),
            (DbConfig::SQLITE_DBCONFIG_ENABLE_TRIGGER, false),
            (DbConfig::SQLITE_DBCONFIG_ENABLE_VIEW, false),
        ] {
            connection.set_db_config(config, on).map_err(failed)?;
        }
        connection.set_limit(Limit::SQLITE_LIMIT_LENGTH, LARGEST).map_err(failed)?;
        let clock = Clock { start: Instant::now(), until: Arc::default() };
        clock.begin();
        let (start, until) = (clock.start, clock.until.clone());
        let is_over = move || start.elapsed().as_millis() > u128::from(until.load(Ordering::Relaxed));
        connection.progress_handler(STEPS, Some(is_over)).map_err(failed)?;
        let cipher_column = cipher_column(SCHEMA)?;
        Ok(Self { connection, folder: None, held: BTreeMap::new(), clock, cipher_column })
    }

    fn is_empty(&mut self) -> Result<bool, DaybookError> {
        self.clock.begin();
        let count = "SELECT count(*) FROM sqlite_schema";
        self.connection
            .query_row(count, [], |row| row.get::<_, i64>(0))
            .map(|count| count == 0)
            .map_err(failed)
    }

    /// Refuses a file that holds anything but our two tables, or these in another form.
    fn check(&mut self) -> Result<(), DaybookError> {
        self.clock.begin();
        // The first version had no number.
        self.cipher_column = cipher_column(version(&self.connection)?.max(1))?;
        let query = "SELECT type, name, coalesce(sql, '') FROM sqlite_schema ORDER BY name";
        let mut statement = self.connection.prepare(query).map_err(failed)?;
        let rows = statement.query_map([], |row| {
            Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?))
        });
        let mut missing = [("records", RECORDS), ("opened", OPENED)]
            .map(|(name, text)| (name, folded(text).replace("cipher_text", self.cipher_column)))
            .to_vec();
        for row in rows.map_err(failed)? {
            let (kind, name, sql) = row.map_err(failed)?;
            // What SQLite makes for itself has no text.
            if kind == "index" && sql.is_empty() && name.starts_with("sqlite_autoindex_") {
                continue;
            }
            let ours =
                |(ours, text): &(&str, String)| kind == "table" && *ours == name && *text == folded(&sql);
            let Some(at) = missing.iter().position(ours) else {
                let reason = format!("it holds the {kind} `{name}`, which is not of a daybook");
                return Err(DaybookError::Damaged(reason));
            };
            missing.remove(at);
        }
        match missing.first() {
            None => Ok(()),
            Some((name, _)) => Err(DaybookError::Damaged(format!("it has no table `{name}`"))),
        }
    }

    /// A transaction that nobody else writes in.
    fn writing(&mut self) -> Result<Transaction<'_>, DaybookError> {
        self.clock.begin();
        self.connection.transaction_with_behavior(TransactionBehavior::Immediate).map_err(failed)
    }

    /// A connection with the clock set anew.
    fn asking(&self) -> &Connection {
        self.clock.begin();
        &self.connection
    }
}

/// Whether there is such a file, which must be a regular one that is written as we write.
fn look(folder: &Folder, path: &Path) -> Result<bool, DaybookError> {
    let Some(name) = path.file_name() else { return Ok(false) };
    match folder.head(Path::new(name), 100, Links::Refused) {
        Ok(head) => match head.get(LOG_MODE) {
            None | Some([1, 1]) => Ok(true),
            Some(_) if !head.starts_with(b"SQLite format 3\0") => {
                Err(DaybookError::Damaged("it is no SQLite file".to_owned()))
            }
            Some(_) => Err(DaybookError::Damaged("it is in another log mode than this program's".to_owned())),
        },
        Err(error) if error.is_not_there() => Ok(false),
        Err(error) => Err(DaybookError::Damaged(error.to_string())),
    }
}

fn insert(transaction: &Transaction<'_>, row: &Row) -> Result<(), DaybookError> {
    let values = params![
        row.place,
        row.unit,
        row.stage,
        row.number,
        row.chore,
        row.text,
        row.hash,
        row.open,
        row.cipher_text
    ];
    let statement = "INSERT INTO records VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)";
    transaction.execute(statement, values).map_err(failed)?;
    Ok(())
}

impl Daybook for SqliteDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // One that is only read, or kept nowhere, is nobody else's to hold.
        let Some(folder) = &self.folder else { return Ok(()) };
        let path = Path::new("delivering").join(format!("{unit}@{stage}"));
        let file = folder.lockable(&path).map_err(|error| DaybookError::Failed(error.to_string()))?;
        match file.try_lock() {
            Ok(()) => {
                self.held.insert((unit.to_owned(), stage.to_owned()), file);
                Ok(())
            }
            Err(TryLockError::WouldBlock) => Err(DaybookError::Busy(unit.to_owned(), stage.to_owned())),
            Err(TryLockError::Error(error)) => Err(DaybookError::Failed(error.to_string())),
        }
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // Closing the file gives the lock back.
        self.held.remove(&(unit.to_owned(), stage.to_owned()));
        Ok(())
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<(), DaybookError> {
        let values = params![meta.unit, meta.stage, meta.to_text(), packed.open, packed.cipher_text];
        let statement = "INSERT OR REPLACE INTO opened VALUES (?1, ?2, ?3, ?4, ?5)";
        self.asking().execute(statement, values).map_err(failed)?;
        Ok(())
    }

    fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError> {
        let query = format!("SELECT text, open, {} FROM opened ORDER BY unit, stage", self.cipher_column);
        let mut statement = self.asking().prepare(&query).map_err(failed)?;
        let rows = statement.query_map([], |row| {
            let packed = Packed { open: row.get(1)?, cipher_text: row.get(2)? };
            Ok((row.get::<_, String>(0)?, packed))
        });
        let rows: Vec<(String, Packed)> = rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
        rows.into_iter().map(|(text, packed)| Ok((Meta::parse(&text)?, packed))).collect()
    }

    fn close(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let statement = "DELETE FROM opened WHERE unit = ?1 AND stage = ?2";
        self.asking().execute(statement, params![unit, stage]).map_err(failed)?;
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
        let query = format!(
            "SELECT place, unit, stage, number, chore, text, hash, open, {} FROM records r
             WHERE (?1 IS NULL OR unit = ?1) AND (?2 IS NULL OR stage = ?2) AND (?3 IS NULL OR number = ?3)
             AND (NOT ?4 OR number = (SELECT max(number) FROM records
                                      WHERE unit = r.unit AND stage = r.stage AND chore = r.chore))
             AND (?5 IS NULL OR chore = ?5)
             ORDER BY place",
            self.cipher_column
        );
        let mut statement = self.asking().prepare(&query).map_err(failed)?;
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
                cipher_text: row.get(8)?,
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

    fn reseal(&mut self, cipher_texts: &[(u64, String)]) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        for (place, text) in cipher_texts {
            let statement = "UPDATE records SET cipher_text = ?2 WHERE place = ?1";
            transaction.execute(statement, params![signed(*place), text]).map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }
}
