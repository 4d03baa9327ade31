//! Rows in PostgreSQL.

use jiff::Timestamp;
use postgres::Client;
use postgres::types::ToSql;
use zeroize::Zeroizing;

use super::column::{Column, Holds};
use super::connection::{Connection, Row};
use super::constraint::{Constraints, Reference, references, uniques};
use crate::failure::{Deadline, Failure, NotBrought};
use crate::postgresql::{failure, log_in};
use crate::reach::RowsReach;

/// A connection to a server.
struct Postgres(Client);

/// Logs in to the database.
pub(super) fn open(reach: &RowsReach, deadline: Deadline) -> Result<impl Connection + use<>, Failure> {
    let mut client = log_in(&reach.at, reach.password.as_ref(), &reach.trust, deadline.left()?)?;
    let limit = format!("SET statement_timeout = {}", deadline.left()?.as_millis().max(1));
    client.batch_execute(&limit).map_err(|error| failure(&error))?;
    Ok(Postgres(client))
}

impl Postgres {
    /// A table as the catalogue is asked for it.
    fn named(&self, table: &[String]) -> String {
        table.iter().map(|part| self.quoted(part)).collect::<Vec<_>>().join(".")
    }

    /// The foreign keys of the table on one of their sides, which is the column of the catalogue for it.
    fn references(&mut self, side: &str, table: &str) -> Result<Vec<Reference>, Failure> {
        let asked = format!(
            "SELECT c.conname::text, fn.nspname::text, f.relname::text, fa.attname::text, tn.nspname::text, \
             t.relname::text, ta.attname::text FROM pg_catalog.pg_constraint c \
             CROSS JOIN LATERAL unnest(c.conkey, c.confkey) WITH ORDINALITY AS k(number, other, place) \
             JOIN pg_catalog.pg_class f ON f.oid = c.conrelid \
             JOIN pg_catalog.pg_namespace fn ON fn.oid = f.relnamespace \
             JOIN pg_catalog.pg_attribute fa ON fa.attrelid = f.oid AND fa.attnum = k.number \
             JOIN pg_catalog.pg_class t ON t.oid = c.confrelid \
             JOIN pg_catalog.pg_namespace tn ON tn.oid = t.relnamespace \
             JOIN pg_catalog.pg_attribute ta ON ta.attrelid = t.oid AND ta.attnum = k.other \
             WHERE c.contype = 'f' AND c.{side} = pg_catalog.to_regclass($1) ORDER BY c.oid, k.place"
        );
        let rows = self.0.query(&asked, &[&table]).map_err(|error| failure(&error))?;
        Ok(references(rows.into_iter().map(|row| Reference {
            name: row.get(0),
            from: vec![row.get(1), row.get(2)],
            columns: vec![row.get(3)],
            to: vec![row.get(4), row.get(5)],
            others: vec![row.get(6)],
        })))
    }
}

impl Connection for Postgres {
    fn columns(&mut self, table: &[String]) -> Result<Vec<Column>, Failure> {
        let table = self.named(table);
        let rows = self.0.query(
            "SELECT a.attname::text, pg_catalog.format_type(a.atttypid, a.atttypmod), b.typname::text, \
             b.typtype::text, a.atttypmod, a.attnotnull, a.atthasdef OR a.attidentity <> '', \
             a.attgenerated <> '' OR a.attidentity = 'a', \
             ARRAY(SELECT e.enumlabel::text FROM pg_catalog.pg_enum e WHERE e.enumtypid = b.oid \
             ORDER BY e.enumsortorder) FROM pg_catalog.pg_attribute a \
             JOIN pg_catalog.pg_type t ON t.oid = a.atttypid \
             JOIN pg_catalog.pg_type b ON b.oid = CASE t.typtype WHEN 'd' THEN t.typbasetype ELSE t.oid END \
             WHERE a.attrelid = pg_catalog.to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped \
             ORDER BY a.attnum",
            &[&table],
        );
        let column = |row: postgres::Row| {
            let (base, kind): (String, String) = (row.get(2), row.get(3));
            // Four bytes more than the length, or -1 for none.
            let modifier: i32 = row.get(4);
            let is_of_length = ["varchar", "bpchar"].contains(&base.as_str());
            let (never_empty, filled): (bool, bool) = (row.get(5), row.get(6));
            Column {
                name: row.get(0),
                holds: if kind == "e" { Holds::OneOf(row.get(8)) } else { holds(&base) },
                declared: row.get(1),
                longest: usize::try_from(modifier - 4).ok().filter(|_| is_of_length),
                is_needed: never_empty && !filled,
                is_generated: row.get(7),
            }
        };
        Ok(rows.map_err(|error| failure(&error))?.into_iter().map(column).collect())
    }

    fn constraints(&mut self, table: &[String]) -> Result<Constraints, Failure> {
        let named = self.named(table);
        let full = self.0.query(
            "SELECT n.nspname::text, c.relname::text FROM pg_catalog.pg_class c \
             JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = pg_catalog.to_regclass($1)",
            &[&named],
        );
        let full = full.map_err(|error| failure(&error))?;
        let full = full.first().map(|row| vec![row.get(0), row.get(1)]).unwrap_or_default();
        let unique = self.0.query(
            "SELECT i.indexrelid::regclass::text, a.attname::text FROM pg_catalog.pg_index i \
             CROSS JOIN LATERAL unnest(i.indkey[0:i.indnkeyatts - 1]) WITH ORDINALITY AS k(number, place) \
             JOIN pg_catalog.pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.number \
             WHERE i.indrelid = pg_catalog.to_regclass($1) AND i.indisunique AND i.indisvalid \
             AND i.indpred IS NULL AND i.indexprs IS NULL ORDER BY i.indexrelid, k.place",
            &[&named],
        );
        let unique = unique.map_err(|error| failure(&error))?;
        let unique = uniques(unique.into_iter().map(|row| (row.get(0), row.get(1))));
        Ok(Constraints { table: full, unique, references: self.references("conrelid", &named)? })
    }

    fn referring(&mut self, table: &[String]) -> Result<Vec<Reference>, Failure> {
        let named = self.named(table);
        self.references("confrelid", &named)
    }

    fn quoted(&self, name: &str) -> String {
        format!("\"{name}\"")
    }

    fn as_text(&self, column: &Column) -> String {
        format!("{}::text", self.quoted(&column.name))
    }

    fn mark(&self, column: &Column, number: usize) -> String {
        match column.holds {
            Holds::Text => format!("${number}::text"),
            // As the catalogue has it, so that nothing else can stand there.
            _ => format!("${number}::text::{}", column.declared),
        }
    }

    fn is(&self, column: &Column, number: usize) -> String {
        match column.holds {
            Holds::Text => format!("{} = ${number}::text", self.as_text(column)),
            _ => format!("{} = {}", self.quoted(&column.name), self.mark(column, number)),
        }
    }

    fn is_alike(&self, column: &Column, number: usize) -> String {
        format!("{} = ${number}::text::{}", self.quoted(&column.name), column.declared)
    }

    fn ends_with(&self, column: &Column, number: usize) -> String {
        format!("right({}, length(${number}::text)) = ${number}::text", self.as_text(column))
    }

    fn for_update(&self) -> &'static str {
        " FOR UPDATE"
    }

    fn given(&self, _: &Column, text: &str) -> Zeroizing<String> {
        Zeroizing::new(text.to_owned())
    }

    fn time(&self, column: &Column, time: Timestamp) -> String {
        if column.holds == Holds::Integer { time.as_second().to_string() } else { time.to_string() }
    }

    fn text_types(&self) -> [&'static str; 2] {
        ["text", "text"]
    }

    fn query(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<Vec<Row>, Failure> {
        let texts: Vec<&str> = values.iter().map(|value| value.as_str()).collect();
        let rows = self.0.query(statement, &parameters(&texts)).map_err(|error| failure(&error))?;
        let row = |row: postgres::Row| {
            (0..row.len()).map(|at| row.get::<_, Option<String>>(at).map(Zeroizing::new)).collect()
        };
        Ok(rows.into_iter().map(row).collect())
    }

    fn execute(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<u64, Failure> {
        let texts: Vec<&str> = values.iter().map(|value| value.as_str()).collect();
        self.0.execute(statement, &parameters(&texts)).map_err(|error| failure(&error))
    }

    fn begin(&mut self, held: &str) -> Result<(), Failure> {
        self.0.batch_execute("BEGIN").map_err(|error| failure(&error))?;
        // Rows that are not there yet cannot be locked: two of us wait for each other here.
        let lock = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))";
        self.0.execute(lock, &[&held]).map(drop).map_err(|error| failure(&error))
    }

    fn commit(&mut self) -> Result<(), NotBrought> {
        // Where the connection breaks just now, nobody knows on which side of it the server stands.
        self.0.batch_execute("COMMIT").map_err(|error| match error.as_db_error() {
            Some(_) => failure(&error).into(),
            None => NotBrought::NotKnown(failure(&error).to_string()),
        })
    }
}

fn parameters<'v>(texts: &'v [&'v str]) -> Vec<&'v (dyn ToSql + Sync)> {
    texts.iter().map(|text| text as &(dyn ToSql + Sync)).collect()
}

/// What a type of the catalogue holds.
fn holds(name: &str) -> Holds {
    match name {
        "text" | "varchar" | "bpchar" | "name" | "citext" => Holds::Text,
        "int2" | "int4" | "int8" => Holds::Integer,
        "numeric" | "float4" | "float8" => Holds::Number,
        "bool" => Holds::Boolean,
        "timestamp" | "timestamptz" | "date" | "time" | "timetz" => Holds::Time,
        "json" | "jsonb" => Holds::Json,
        _ => Holds::Other,
    }
}
