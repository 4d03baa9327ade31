//! The daybook of a team, in PostgreSQL.

use postgres::error::SqlState;
use postgres::{Client, GenericClient, Transaction};

use super::record::{Row, signed};
use super::{Daybook, DaybookError, Kind, Meta, Packed, Record, SCHEMA, Wanted, cipher_column, following};

/// The tables.
const TABLES: &str = "
    CREATE TABLE cledger_records (
        place bigint PRIMARY KEY,
        unit text NOT NULL,
        stage text NOT NULL,
        number bigint NOT NULL,
        chore boolean NOT NULL,
        text text NOT NULL,
        hash text NOT NULL,
        open bytea NOT NULL,
        cipher_text text,
        UNIQUE (unit, stage, chore, number)
    );
    CREATE TABLE cledger_opened (
        unit text NOT NULL,
        stage text NOT NULL,
        text text NOT NULL,
        open bytea NOT NULL,
        cipher_text text,
        PRIMARY KEY (unit, stage)
    );
    CREATE TABLE cledger_schema (version integer NOT NULL);
    INSERT INTO cledger_schema VALUES (2);";

/// Brings tables of the first version to the second.
const FORWARD: &str = "
    ALTER TABLE cledger_records RENAME COLUMN sealed TO cipher_text;
    ALTER TABLE cledger_opened RENAME COLUMN sealed TO cipher_text;
    CREATE TABLE cledger_schema (version integer NOT NULL);
    INSERT INTO cledger_schema VALUES (2);";

/// Makes whoever makes or changes the tables at the same time wait. It stands before the transaction, since one
/// that has begun does not see which tables others have made.
const ALONE: &str = "SELECT pg_advisory_lock(hashtextextended('cledger daybook', 0))";

/// Lets them go on.
const NOT_ALONE: &str = "SELECT pg_advisory_unlock(hashtextextended('cledger daybook', 0))";

/// Whether they are there.
const THERE: &str =
    "SELECT to_regclass('cledger_records') IS NOT NULL AND to_regclass('cledger_opened') IS NOT NULL";

/// A daybook in two tables of a database.
pub struct PostgresDaybook {
    client: Client,
    /// What the column of cipher texts is called in them.
    cipher_column: &'static str,
}

fn failed(error: postgres::Error) -> DaybookError {
    match error.as_db_error() {
        Some(said) if *said.code() == SqlState::DISK_FULL => {
            DaybookError::Failed("the disk of the database is full".to_owned())
        }
        Some(said) if *said.code() == SqlState::INSUFFICIENT_PRIVILEGE => {
            DaybookError::Failed(format!("the database refuses: {}", said.message()))
        }
        Some(said) => DaybookError::Failed(format!("{} (SQLSTATE {})", said.message(), said.code().code())),
        None if error.is_closed() => {
            DaybookError::Failed("the connection to the database is gone".to_owned())
        }
        None => DaybookError::Failed(error.to_string()),
    }
}

impl PostgresDaybook {
    /// Uses the tables of the database that a client is logged in to, and makes them if they are not there.
    pub fn open(mut client: Client) -> Result<Self, DaybookError> {
        let mut there = version(&mut client)?;
        if there != Some(SCHEMA) {
            client.batch_execute(ALONE).map_err(failed)?;
            let mut transaction = client.transaction().map_err(failed)?;
            there = version(&mut transaction)?;
            let step = match there {
                None => TABLES,
                Some(1) => FORWARD,
                Some(_) => "",
            };
            transaction.batch_execute(step).map_err(failed)?;
            transaction.commit().map_err(failed)?;
            client.batch_execute(NOT_ALONE).map_err(failed)?;
            there = there.map(|version| version.max(SCHEMA));
        }
        Ok(Self { client, cipher_column: cipher_column(there.unwrap_or(SCHEMA))? })
    }

    /// Uses them to read alone, and makes nothing; `None` if they are not there.
    pub fn read(mut client: Client) -> Result<Option<Self>, DaybookError> {
        client.batch_execute("SET default_transaction_read_only = on").map_err(failed)?;
        let there = version(&mut client)?.map(cipher_column).transpose()?;
        Ok(there.map(|cipher_column| Self { client, cipher_column }))
    }

    /// A transaction in which nobody else writes records. Whoever reads is not held up.
    fn writing(&mut self) -> Result<Transaction<'_>, DaybookError> {
        let mut transaction = self.client.transaction().map_err(failed)?;
        transaction.batch_execute("LOCK TABLE cledger_records IN EXCLUSIVE MODE").map_err(failed)?;
        Ok(transaction)
    }

    fn hold_key(unit: &str, stage: &str) -> String {
        format!("cledger delivering {unit}@{stage}")
    }
}

/// The version of the tables; `None` if they are not there.
fn version(client: &mut impl GenericClient) -> Result<Option<u32>, DaybookError> {
    if !client.query_one(THERE, &[]).map_err(failed)?.get::<_, bool>(0) {
        return Ok(None);
    }
    // The first version had no number.
    let numbered = "SELECT to_regclass('cledger_schema') IS NOT NULL";
    if !client.query_one(numbered, &[]).map_err(failed)?.get::<_, bool>(0) {
        return Ok(Some(1));
    }
    let version = client.query_one("SELECT max(version) FROM cledger_schema", &[]).map_err(failed)?;
    let version: Option<i32> = version.get(0);
    Ok(Some(version.and_then(|version| u32::try_from(version).ok()).unwrap_or_default()))
}

fn insert(transaction: &mut Transaction<'_>, row: &Row) -> Result<(), DaybookError> {
    let statement = "INSERT INTO cledger_records VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)";
    let values: [&(dyn postgres::types::ToSql + Sync); 9] = [
        &row.place,
        &row.unit,
        &row.stage,
        &row.number,
        &row.chore,
        &row.text,
        &row.hash,
        &row.open,
        &row.cipher_text,
    ];
    transaction.execute(statement, &values).map_err(failed)?;
    Ok(())
}

impl Daybook for PostgresDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // The server gives it back when the connection ends, however that happens.
        let query = "SELECT pg_try_advisory_lock(hashtextextended($1, 0))";
        let held: bool =
            self.client.query_one(query, &[&Self::hold_key(unit, stage)]).map_err(failed)?.get(0);
        if held { Ok(()) } else { Err(DaybookError::Busy(unit.to_owned(), stage.to_owned())) }
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let query = "SELECT pg_advisory_unlock(hashtextextended($1, 0))";
        self.client.execute(query, &[&Self::hold_key(unit, stage)]).map_err(failed)?;
        Ok(())
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<(), DaybookError> {
        let statement = "INSERT INTO cledger_opened VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (unit, stage) DO UPDATE SET text = $3, open = $4, cipher_text = $5";
        let values: [&(dyn postgres::types::ToSql + Sync); 5] =
            [&meta.unit, &meta.stage, &meta.to_text(), &packed.open, &packed.cipher_text];
        self.client.execute(statement, &values).map_err(failed)?;
        Ok(())
    }

    fn opened(&mut self) -> Result<Vec<(Meta, Packed)>, DaybookError> {
        let query =
            format!("SELECT text, open, {} FROM cledger_opened ORDER BY unit, stage", self.cipher_column);
        let rows = self.client.query(&query, &[]).map_err(failed)?;
        let opened = rows.into_iter().map(|row| {
            let packed = Packed { open: row.get(1), cipher_text: row.get(2) };
            Ok((Meta::parse(row.get(0))?, packed))
        });
        opened.collect()
    }

    fn close(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        let statement = "DELETE FROM cledger_opened WHERE unit = $1 AND stage = $2";
        self.client.execute(statement, &[&unit, &stage]).map_err(failed)?;
        Ok(())
    }

    fn record(&mut self, meta: Meta, packed: &Packed) -> Result<Record, DaybookError> {
        let mut transaction = self.writing()?;
        let last = "SELECT place, hash FROM cledger_records ORDER BY place DESC LIMIT 1";
        let last = transaction.query_opt(last, &[]).map_err(failed)?;
        let last = last.map(|row| (row.get(0), row.get(1)));
        let number = "SELECT coalesce(max(number), 0) FROM cledger_records
             WHERE unit = $1 AND stage = $2 AND chore = $3";
        let chore = meta.kind == Kind::ChoreDone;
        let number = transaction.query_one(number, &[&meta.unit, &meta.stage, &chore]).map_err(failed)?;
        let row = following(last, number.get(0), meta, packed);
        insert(&mut transaction, &row)?;
        let close = "DELETE FROM cledger_opened WHERE unit = $1 AND stage = $2";
        transaction.execute(close, &[&row.unit, &row.stage]).map_err(failed)?;
        transaction.commit().map_err(failed)?;
        row.into_record()
    }

    fn records(&mut self, wanted: &Wanted) -> Result<Vec<Record>, DaybookError> {
        let query = format!(
            "SELECT place, unit, stage, number, chore, text, hash, open, {} FROM cledger_records r
             WHERE ($1::text IS NULL OR unit = $1) AND ($2::text IS NULL OR stage = $2)
             AND ($3::bigint IS NULL OR number = $3)
             AND (NOT $4 OR number = (SELECT max(number) FROM cledger_records
                                      WHERE unit = r.unit AND stage = r.stage AND chore = r.chore))
             AND ($5::boolean IS NULL OR chore = $5)
             ORDER BY place",
            self.cipher_column
        );
        let number = wanted.number.map(signed);
        let rows =
            self.client.query(&query, &[&wanted.unit, &wanted.stage, &number, &wanted.last, &wanted.chores]);
        let record = |row: postgres::Row| {
            let row = Row {
                place: row.get(0),
                unit: row.get(1),
                stage: row.get(2),
                number: row.get(3),
                chore: row.get(4),
                text: row.get(5),
                hash: row.get(6),
                open: row.get(7),
                cipher_text: row.get(8),
            };
            row.into_record()
        };
        rows.map_err(failed)?.into_iter().map(record).collect()
    }

    fn take_over(&mut self, records: &[Record]) -> Result<(), DaybookError> {
        let mut transaction = self.writing()?;
        let count = transaction.query_one("SELECT count(*) FROM cledger_records", &[]).map_err(failed)?;
        let count: i64 = count.get(0);
        if count > 0 {
            return Err(DaybookError::Failed(format!("it has {count} records already")));
        }
        for record in records {
            insert(&mut transaction, &Row::of(record))?;
        }
        transaction.commit().map_err(failed)
    }

    fn reseal(&mut self, cipher_texts: &[(u64, String)]) -> Result<(), DaybookError> {
        let mut transaction = self.writing()?;
        for (place, text) in cipher_texts {
            let statement = "UPDATE cledger_records SET cipher_text = $2 WHERE place = $1";
            transaction.execute(statement, &[&signed(*place), text]).map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }
}
