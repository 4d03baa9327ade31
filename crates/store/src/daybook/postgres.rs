//! The daybook of a team, in PostgreSQL.

use postgres::error::SqlState;
use postgres::{Client, GenericClient, Transaction};

use super::record::{Entry, Open, Row, entries_of, hash_of, signed, unsigned};
use super::{
    Daybook, DaybookError, Meta, Packed, Reading, Record, Resealed, SCHEMA, Wanted, WrappedKey, columns,
    following, new_token,
};

/// The steps from no tables to those of the present version, each from one version to the next.
const STEPS: [&str; 3] = [
    "CREATE TABLE cledger_records (
         place bigint PRIMARY KEY, unit text NOT NULL, stage text NOT NULL, number bigint NOT NULL,
         chore boolean NOT NULL, text text NOT NULL, hash text NOT NULL, open bytea NOT NULL, sealed text,
         UNIQUE (unit, stage, chore, number)
     );
     CREATE TABLE cledger_opened (
         unit text NOT NULL, stage text NOT NULL, text text NOT NULL, open bytea NOT NULL, sealed text,
         PRIMARY KEY (unit, stage)
     );",
    "ALTER TABLE cledger_records RENAME COLUMN sealed TO cipher_text;
     ALTER TABLE cledger_opened RENAME COLUMN sealed TO cipher_text;
     CREATE TABLE cledger_schema (version integer NOT NULL);
     INSERT INTO cledger_schema VALUES (2);",
    // What is left open in tables of the second version has no token: nobody has it in hand any more.
    "ALTER TABLE cledger_records ADD COLUMN digests text;
     ALTER TABLE cledger_records DROP CONSTRAINT cledger_records_unit_stage_chore_number_key;
     CREATE INDEX cledger_records_of ON cledger_records (unit, stage, chore, number);
     ALTER TABLE cledger_opened ADD COLUMN token text NOT NULL DEFAULT '', ADD COLUMN hash text;
     CREATE TABLE cledger_wrapped_keys (
         id text PRIMARY KEY, stage text NOT NULL, generation bigint NOT NULL, text text NOT NULL
     );
     UPDATE cledger_schema SET version = 3;",
];

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
    /// The version of the tables.
    version: u32,
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
            for step in STEPS.iter().skip(there.unwrap_or_default() as usize) {
                transaction.batch_execute(step).map_err(failed)?;
            }
            transaction.commit().map_err(failed)?;
            client.batch_execute(NOT_ALONE).map_err(failed)?;
        }
        known(there.unwrap_or_default().max(SCHEMA)).map(|version| Self { client, version })
    }

    /// Uses them to read alone, and makes nothing; `None` if they are not there.
    pub fn read(mut client: Client) -> Result<Option<Self>, DaybookError> {
        client.batch_execute("SET default_transaction_read_only = on").map_err(failed)?;
        let there = version(&mut client)?.map(known).transpose()?;
        Ok(there.map(|version| Self { client, version }))
    }

    /// The rows that are wanted, with as much of each as is read.
    fn rows(&mut self, wanted: &Wanted, reading: Reading) -> Result<Vec<Row>, DaybookError> {
        let [cipher_text, digests, ..] = columns(self.version);
        let (open, cipher_text) = match reading {
            Reading::Content => ("open", cipher_text),
            Reading::Meta | Reading::Digests => ("''::bytea", "NULL"),
        };
        let digests = if reading == Reading::Meta { "NULL" } else { digests };
        let query = format!(
            "SELECT place, unit, stage, number, chore, text, hash, {open}, {cipher_text}::text, {digests}::text
             FROM cledger_records r
             WHERE ($1::text IS NULL OR unit = $1) AND ($2::text IS NULL OR stage = $2)
             AND ($3::bigint IS NULL OR number = $3)
             AND (NOT $4 OR number > 0 AND number = (SELECT max(number) FROM cledger_records
                                      WHERE unit = r.unit AND stage = r.stage AND chore = r.chore))
             AND ($5::boolean IS NULL OR chore = $5)
             ORDER BY place"
        );
        let number = wanted.number.map(signed);
        let rows =
            self.client.query(&query, &[&wanted.unit, &wanted.stage, &number, &wanted.last, &wanted.beside]);
        let row = |row: postgres::Row| Row {
            place: row.get(0),
            unit: row.get(1),
            stage: row.get(2),
            number: row.get(3),
            chore: row.get(4),
            text: row.get(5),
            hash: row.get(6),
            open: row.get(7),
            cipher_text: row.get(8),
            digests: row.get(9),
        };
        Ok(rows.map_err(failed)?.into_iter().map(row).collect())
    }

    /// A transaction in which nobody else writes records. Whoever reads is not held up.
    fn writing(&mut self) -> Result<Transaction<'_>, DaybookError> {
        let mut transaction = self.client.transaction().map_err(failed)?;
        transaction.batch_execute("LOCK TABLE cledger_records IN EXCLUSIVE MODE").map_err(failed)?;
        Ok(transaction)
    }

    /// Calls one of the server's functions for locks of a session.
    fn locks(&mut self, function: &str, key: &str) -> Result<bool, DaybookError> {
        let query = format!("SELECT {function}(hashtextextended($1, 0))");
        Ok(self.client.query_one(&query, &[&key]).map_err(failed)?.get(0))
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

/// A version that this program knows.
fn known(version: u32) -> Result<u32, DaybookError> {
    if (1..=SCHEMA).contains(&version) { Ok(version) } else { Err(DaybookError::Version(version)) }
}

fn insert(transaction: &mut Transaction<'_>, row: &Row) -> Result<(), DaybookError> {
    let statement = "INSERT INTO cledger_records VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10)";
    let values: [&(dyn postgres::types::ToSql + Sync); 10] = [
        &row.place,
        &row.unit,
        &row.stage,
        &row.number,
        &row.chore,
        &row.text,
        &row.hash,
        &row.open,
        &row.cipher_text,
        &row.digests,
    ];
    transaction.execute(statement, &values).map_err(failed)?;
    Ok(())
}

impl Daybook for PostgresDaybook {
    fn hold(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        // The server gives it back when the connection ends, however that happens.
        if !self.locks("pg_try_advisory_lock_shared", &Self::hold_key("", stage))? {
            return Err(DaybookError::StageBusy(stage.to_owned()));
        }
        if self.locks("pg_try_advisory_lock", &Self::hold_key(unit, stage))? {
            return Ok(());
        }
        self.locks("pg_advisory_unlock_shared", &Self::hold_key("", stage))?;
        Err(DaybookError::Busy(unit.to_owned(), stage.to_owned()))
    }

    fn hold_stage(&mut self, stage: &str) -> Result<(), DaybookError> {
        if self.locks("pg_try_advisory_lock", &Self::hold_key("", stage))? {
            Ok(())
        } else {
            Err(DaybookError::StageBusy(stage.to_owned()))
        }
    }

    fn let_stage_go(&mut self, stage: &str) -> Result<(), DaybookError> {
        self.locks("pg_advisory_unlock", &Self::hold_key("", stage)).map(drop)
    }

    fn let_go(&mut self, unit: &str, stage: &str) -> Result<(), DaybookError> {
        self.locks("pg_advisory_unlock", &Self::hold_key(unit, stage))?;
        self.locks("pg_advisory_unlock_shared", &Self::hold_key("", stage)).map(drop)
    }

    fn open(&mut self, meta: &Meta, packed: &Packed) -> Result<String, DaybookError> {
        let (token, text) = (new_token()?, meta.to_text());
        let hash = hash_of(&text);
        let statement =
            "INSERT INTO cledger_opened VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING";
        let values: [&(dyn postgres::types::ToSql + Sync); 7] =
            [&meta.unit, &meta.stage, &text, &packed.open, &packed.cipher_text, &token, &hash];
        match self.client.execute(statement, &values).map_err(failed)? {
            0 => Err(DaybookError::LeftOpen(meta.unit.clone(), meta.stage.clone())),
            _ => Ok(token),
        }
    }

    fn opened(&mut self, of: Option<(&str, &str)>) -> Result<Vec<Open>, DaybookError> {
        let [cipher_text, _, token, hash] = columns(self.version);
        let query = format!(
            "SELECT text, open, {cipher_text}::text, {token}::text, {hash}::text FROM cledger_opened
             WHERE $1::text IS NULL OR unit = $1 AND stage = $2::text ORDER BY unit, stage"
        );
        let (unit, stage) = (of.map(|of| of.0), of.map(|of| of.1));
        let rows = self.client.query(&query, &[&unit, &stage]).map_err(failed)?;
        let opened = rows.into_iter().map(|row| {
            let packed = Packed { open: row.get(1), cipher_text: row.get(2), digests: None };
            Open::of_row((row.get(0), packed, row.get(3), row.get(4)))
        });
        opened.collect()
    }

    fn take_up(&mut self, open: &Open) -> Result<String, DaybookError> {
        let token = new_token()?;
        let statement = "UPDATE cledger_opened SET token = $1 WHERE unit = $2 AND stage = $3 AND token = $4";
        let Meta { unit, stage, .. } = &open.meta;
        match self.client.execute(statement, &[&token, unit, stage, &open.token]).map_err(failed)? {
            0 => Err(DaybookError::Lost(unit.clone(), stage.clone())),
            _ => Ok(token),
        }
    }

    fn close(&mut self, unit: &str, stage: &str, token: &str) -> Result<(), DaybookError> {
        close(&mut self.client, (unit, stage), token)
    }

    fn record(&mut self, meta: Meta, packed: &Packed, open: Option<&str>) -> Result<Record, DaybookError> {
        let mut transaction = self.writing()?;
        let last = "SELECT place, hash FROM cledger_records ORDER BY place DESC LIMIT 1";
        let last = transaction.query_opt(last, &[]).map_err(failed)?;
        let last = last.map(|row| (row.get(0), row.get(1)));
        let number = "SELECT coalesce(max(number), 0) FROM cledger_records
             WHERE unit = $1 AND stage = $2 AND chore = $3";
        let chore = meta.kind.is_beside();
        let number = transaction.query_one(number, &[&meta.unit, &meta.stage, &chore]).map_err(failed)?;
        let row = following(last, number.get(0), meta, packed);
        insert(&mut transaction, &row)?;
        if let Some(token) = open {
            close(&mut transaction, (&row.unit, &row.stage), token)?;
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
        let mut transaction = self.writing()?;
        let count = transaction.query_one("SELECT count(*) FROM cledger_records", &[]).map_err(failed)?;
        let count: i64 = count.get(0);
        if count > 0 {
            return Err(DaybookError::Failed(format!("it has {count} records already")));
        }
        for record in records {
            insert(&mut transaction, &Row::of(record))?;
        }
        for key in keys {
            keep_key(&mut transaction, key)?;
        }
        transaction.commit().map_err(failed)
    }

    fn reseal(&mut self, resealed: &[Resealed]) -> Result<(), DaybookError> {
        let mut transaction = self.writing()?;
        for Resealed { place, cipher_text, digests } in resealed {
            let statement = "UPDATE cledger_records SET cipher_text = $2, digests = $3 WHERE place = $1";
            transaction.execute(statement, &[&signed(*place), cipher_text, digests]).map_err(failed)?;
        }
        transaction.commit().map_err(failed)
    }

    fn keep_key(&mut self, key: &WrappedKey) -> Result<(), DaybookError> {
        keep_key(&mut self.client, key)
    }

    fn forget_key(&mut self, id: &str) -> Result<(), DaybookError> {
        self.client.execute("DELETE FROM cledger_wrapped_keys WHERE id = $1", &[&id]).map_err(failed)?;
        Ok(())
    }

    fn link(&mut self, place: Option<u64>) -> Result<Option<(u64, String)>, DaybookError> {
        let query = "SELECT place, hash FROM cledger_records WHERE $1::bigint IS NULL OR place = $1
             ORDER BY place DESC LIMIT 1";
        let row = self.client.query_opt(query, &[&place.map(signed)]).map_err(failed)?;
        Ok(row.map(|row| (unsigned(row.get(0)), row.get(1))))
    }

    fn kept_keys(&mut self) -> Result<Vec<WrappedKey>, DaybookError> {
        if self.version < 3 {
            return Ok(Vec::new());
        }
        let query = "SELECT id, stage, generation, text FROM cledger_wrapped_keys ORDER BY id";
        let rows = self.client.query(query, &[]).map_err(failed)?;
        let key = |row: postgres::Row| WrappedKey {
            id: row.get(0),
            stage: row.get(1),
            generation: unsigned(row.get(2)),
            text: row.get(3),
        };
        Ok(rows.into_iter().map(key).collect())
    }
}

fn close(
    client: &mut impl GenericClient,
    (unit, stage): (&str, &str),
    token: &str,
) -> Result<(), DaybookError> {
    let statement = "DELETE FROM cledger_opened WHERE unit = $1 AND stage = $2 AND token = $3";
    match client.execute(statement, &[&unit, &stage, &token]).map_err(failed)? {
        0 => Err(DaybookError::Lost(unit.to_owned(), stage.to_owned())),
        _ => Ok(()),
    }
}

fn keep_key(client: &mut impl GenericClient, key: &WrappedKey) -> Result<(), DaybookError> {
    let WrappedKey { id, stage, generation, text } = key;
    let statement = "INSERT INTO cledger_wrapped_keys VALUES ($1, $2, $3, $4)
        ON CONFLICT (id) DO UPDATE SET stage = $2, generation = $3, text = $4
        WHERE cledger_wrapped_keys.generation < $3";
    client.execute(statement, &[id, stage, &signed(*generation), text]).map_err(failed)?;
    Ok(())
}
