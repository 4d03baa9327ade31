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
    Connection, OpenFlags, OptionalExtension as _, StatementStatus, ToSql, Transaction, TransactionBehavior,
    params, params_from_iter,
};

use super::record::{Entry, Open, Row, entries_of, hash_of, signed, unsigned};
use super::schema;
use super::sqlite_error::{LIMIT, failed};
use super::{
    Daybook, DaybookError, Meta, Packed, Reading, Record, Resealed, SCHEMA, Wanted, WrappedKey, columns,
    following, new_token,
};
use crate::folder::{Folder, Links};
use crate::mode::Mode;

/// How long one waits for others who write.
const WAIT: Duration = Duration::from_secs(30);

/// How many steps of a question go by between two looks at the clock.
const STEPS: i32 = 10_000;

/// The largest text or record in it, in bytes.
const LARGEST: i32 = 256 << 20;

/// Where the file's head says how it is written (`https://sqlite.org/fileformat2.html`, 1.3).
const LOG_MODE: std::ops::Range<usize> = 18..20;

/// A daybook in a file of its own.
pub struct SqliteDaybook {
    connection: Connection,
    /// Where the locks are of what is being delivered; none where it is only read.
    folder: Option<Folder>,
    held: BTreeMap<(String, String), Vec<File>>,
    clock: Clock,
    /// The version of its tables.
    version: u32,
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
        look(&folder, path)?;
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE;
        let mut book = Self::connect(path, flags)?;
        if book.is_empty()? || book.check().is_ok_and(|()| book.version < SCHEMA) {
            // Two who make it or bring it forward at the same time wait for each other; the second finds it done.
            let alone = folder.lockable(Path::new("daybook.lock"));
            let alone = alone.map_err(|error| DaybookError::Failed(error.to_string()))?;
            alone.lock().map_err(io)?;
            if !book.is_empty()? {
                book.check()?;
            }
            book.clock.begin();
            schema::bring_forward(&mut book.connection)?;
        }
        book.check()?;
        book.folder = Some(folder);
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

    /// A daybook of nothing, which is kept nowhere.
    pub fn nothing() -> Result<Self, DaybookError> {
        let mut connection = Connection::open_in_memory().map_err(failed)?;
        schema::bring_forward(&mut connection)?;
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

    fn of(connection: Connection) -> Result<Self, DaybookError> {
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
        Ok(Self { connection, folder: None, held: BTreeMap::new(), clock, version: SCHEMA })
    }

    fn is_empty(&mut self) -> Result<bool, DaybookError> {
        self.clock.begin();
        let count = "SELECT count(*) FROM sqlite_schema";
        self.connection
            .query_row(count, [], |row| row.get::<_, i64>(0))
            .map(|count| count == 0)
            .map_err(failed)
    }

    /// Refuses a file that holds anything but our tables, or these in another form.
    fn check(&mut self) -> Result<(), DaybookError> {
        self.clock.begin();
        self.version = schema::check(&self.connection)?;
        Ok(())
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

    /// The rows that are wanted, with as much of each as is read.
    fn rows(&mut self, wanted: &Wanted, reading: Reading) -> Result<Vec<Row>, DaybookError> {
        let [cipher_text, digests, ..] = columns(self.version);
        let (open, cipher_text) =
            if reading == Reading::Content { ("open", cipher_text) } else { ("x''", "NULL") };
        let digests = if reading == Reading::Meta { "NULL" } else { digests };
        let number = wanted.number.map(signed);
        let only: [(&str, Option<&dyn ToSql>); 4] = [
            ("unit", wanted.unit.as_ref().map(|it| it as _)),
            ("stage", wanted.stage.as_ref().map(|it| it as _)),
            ("number", number.as_ref().map(|it| it as _)),
            ("chore", wanted.beside.as_ref().map(|it| it as _)),
        ];
        // Only what is asked for stands in the question: its index is used then.
        let (mut values, mut conditions) = (Vec::new(), vec!["TRUE".to_owned()]);
        for (column, value) in only {
            if let Some(value) = value {
                values.push(value);
                conditions.push(format!("{column} = ?{}", values.len()));
            }
        }
        if wanted.last {
            conditions.push(
                "number > 0 AND number = (SELECT max(number) FROM records
                 WHERE unit = r.unit AND stage = r.stage AND chore = r.chore)"
                    .to_owned(),
            );
        }
        let query = format!(
            "SELECT place, unit, stage, number, chore, text, hash, {open}, {cipher_text}, {digests} FROM records r
             WHERE {} ORDER BY place",
            conditions.join(" AND ")
        );
        let mut statement = self.asking().prepare(&query).map_err(failed)?;
        let rows = statement.query_map(values.as_slice(), |row| {
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
                digests: row.get(9)?,
            })
        });
        let rows = rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed);
        let passed_over = statement.get_status(StatementStatus::FullscanStep);
        debug_assert!(wanted.unit.is_none() || passed_over == 0, "records of others are read through");
        rows
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

/// A file below that is locked this way; `None` if somebody else has it.
fn locked(
    folder: &Folder,
    name: &str,
    lock: impl Fn(&File) -> Result<(), TryLockError>,
) -> Result<Option<File>, DaybookError> {
    let path = Path::new("delivering").join(name);
    let file = folder.lockable(&path).map_err(|error| DaybookError::Failed(error.to_string()))?;
    match lock(&file) {
        Ok(()) => Ok(Some(file)),
        Err(TryLockError::WouldBlock) => Ok(None),
        Err(TryLockError::Error(error)) => Err(DaybookError::Failed(error.to_string())),
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
        row.cipher_text,
        row.digests
    ];
    let statement = "INSERT INTO records VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10)";
    transaction.execute(statement, values).map_err(failed)?;
    Ok(())
}

impl Daybook for SqliteDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // One that is only read, or kept nowhere, is nobody else's to hold.
        let Some(folder) = &self.folder else { return Ok(()) };
        let of_stage = locked(folder, &format!("@{stage}"), File::try_lock_shared)?
            .ok_or_else(|| DaybookError::StageBusy(stage.to_owned()))?;
        let of_unit = locked(folder, &format!("{unit}@{stage}"), File::try_lock)?
            .ok_or_else(|| DaybookError::Busy(unit.to_owned(), stage.to_owned()))?;
        self.held.insert((unit.to_owned(), stage.to_owned()), vec![of_stage, of_unit]);
        Ok(())
    }

    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError> {
        let Some(folder) = &self.folder else { return Ok(()) };
        let of_stage = locked(folder, &format!("@{stage}"), File::try_lock)?
            .ok_or_else(|| DaybookError::StageBusy(stage.to_owned()))?;
        self.held.insert((String::new(), stage.to_owned()), vec![of_stage]);
        Ok(())
    }

    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.let_go("", stage)
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // Closing the file gives the lock back.
        self.held.remove(&(unit.to_owned(), stage.to_owned()));
        Ok(())
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError> {
        let (token, text) = (new_token()?, meta.to_text());
        let hash = hash_of(&text);
        let values = params![meta.unit, meta.stage, text, packed.open, packed.cipher_text, token, hash];
        let statement = "INSERT INTO opened VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT DO NOTHING";
        match self.asking().execute(statement, values).map_err(failed)? {
            0 => Err(DaybookError::LeftOpen(meta.unit.clone(), meta.stage.clone())),
            _ => Ok(token),
        }
    }

    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
        let [cipher_text, _, token, hash] = columns(self.version);
        let only = if of.is_some() { "WHERE unit = ?1 AND stage = ?2" } else { "" };
        let query = format!(
            "SELECT text, open, {cipher_text}, {token}, {hash} FROM opened {only} ORDER BY unit, stage"
        );
        let values: Vec<&str> = of.into_iter().flat_map(|(unit, stage)| [unit, stage]).collect();
        let mut statement = self.asking().prepare(&query).map_err(failed)?;
        let rows = statement.query_map(params_from_iter(values), |row| {
            let packed = Packed { open: row.get(1)?, cipher_text: row.get(2)?, digests: None };
            Ok((row.get(0)?, packed, row.get(3)?, row.get(4)?))
        });
        let rows: Vec<_> = rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)?;
        rows.into_iter().map(Open::of_row).collect()
    }

    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError> {
        let token = new_token()?;
        let statement = "UPDATE opened SET token = ?1 WHERE unit = ?2 AND stage = ?3 AND token = ?4";
        let Meta { unit, stage, .. } = &open.meta;
        match self.asking().execute(statement, params![token, unit, stage, open.token]).map_err(failed)? {
            0 => Err(DaybookError::Lost(unit.clone(), stage.clone())),
            _ => Ok(token),
        }
    }

    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        close(&transaction, (unit, stage), token)?;
        transaction.commit().map_err(failed)
    }

    fn record(&mut self, meta: Meta, packed: &Packed, open: Option<&str>) -> Result<Record, DaybookError> {
        let transaction = self.writing()?;
        let last = "SELECT place, hash FROM records ORDER BY place DESC LIMIT 1";
        let last = transaction.query_row(last, [], |row| Ok((row.get(0)?, row.get(1)?))).optional();
        let number =
            "SELECT coalesce(max(number), 0) FROM records WHERE unit = ?1 AND stage = ?2 AND chore = ?3";
        let chore = meta.kind.is_beside();
        let number = transaction.query_row(number, params![meta.unit, meta.stage, chore], |row| row.get(0));
        let row = following(last.map_err(failed)?, number.map_err(failed)?, meta, packed);
        insert(&transaction, &row)?;
        if let Some(token) = open {
            close(&transaction, (&row.unit, &row.stage), token)?;
        }
        transaction.commit().map_err(failed)?;
        row.into_record()
    }

    fn as_they_are(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        self.rows(wanted, Reading::Content)?.into_iter().map(Row::into_record).collect()
    }

    fn entries(&mut self, wanted: &Wanted, digests: bool) -> Result<Vec<Entry>, DaybookError> {
        let reading = if digests { Reading::Digests } else { Reading::Meta };
        entries_of(self.rows(wanted, reading)?)
    }

    fn take_over(&mut self, records: &[Record], keys: &[WrappedKey]) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        let count: i64 =
            transaction.query_row("SELECT count(*) FROM records", [], |row| row.get(0)).map_err(failed)?;
        if count > 0 {
            return Err(DaybookError::Failed(format!("it has {count} records already")));
        }
        for record in records {
            insert(&transaction, &Row::of(record))?;
        }
        for key in keys {
            keep_key(&transaction, key)?;
        }
        transaction.commit().map_err(failed)
    }

    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError> {
        let transaction = self.writing()?;
        for Resealed { place, cipher_text, digests } in resealed {
            let statement = "UPDATE records SET cipher_text = ?2, digests = ?3 WHERE place = ?1";
            transaction.execute(statement, params![signed(*place), cipher_text, digests]).map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }

    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError> {
        keep_key(self.asking(), key)
    }

    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError> {
        let forget = "DELETE FROM wrapped_keys WHERE id = ?1";
        self.asking().execute(forget, params![id]).map_err(failed)?;
        Ok(())
    }

    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
        let query =
            "SELECT place, hash FROM records WHERE ?1 IS NULL OR place = ?1 ORDER BY place DESC LIMIT 1";
        let row = self
            .asking()
            .query_row(query, params![place.map(signed)], |row| Ok((unsigned(row.get(0)?), row.get(1)?)));
        row.optional().map_err(failed)
    }

    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
        if self.version < 3 {
            return Ok(Vec::new());
        }
        let query = "SELECT id, stage, generation, text FROM wrapped_keys ORDER BY id";
        let mut statement = self.asking().prepare(query).map_err(failed)?;
        let rows = statement.query_map([], |row| {
            let generation = unsigned(row.get(2)?);
            Ok(WrappedKey { id: row.get(0)?, stage: row.get(1)?, generation, text: row.get(3)? })
        });
        rows.map_err(failed)?.collect::<Result<_, _>>().map_err(failed)
    }
}

fn close(connection: &Connection, (unit, stage): (&str, &str), token: &str) -> Result<(), DaybookError> {
    let statement = "DELETE FROM opened WHERE unit = ?1 AND stage = ?2 AND token = ?3";
    match connection.execute(statement, params![unit, stage, token]).map_err(failed)? {
        0 => Err(DaybookError::Lost(unit.to_owned(), stage.to_owned())),
        _ => Ok(()),
    }
}

fn keep_key(connection: &Connection, key: &WrappedKey) -> Result<(), DaybookError> {
    let WrappedKey { id, stage, generation, text } = key;
    let statement = "INSERT INTO wrapped_keys VALUES (?1, ?2, ?3, ?4)
        ON CONFLICT (id) DO UPDATE SET stage = ?2, generation = ?3, text = ?4 WHERE wrapped_keys.generation < ?3";
    connection.execute(statement, params![id, stage, signed(*generation), text]).map_err(failed)?;
    Ok(())
}
