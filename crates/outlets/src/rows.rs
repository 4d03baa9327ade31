//! Rows of a table in PostgreSQL: names and values, by scope.

use std::collections::BTreeMap;
use std::time::Duration;

use cledger_core::delivery::RowChange;
use postgres::Client;
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure, NotBrought};
use crate::held::Values;
use crate::postgresql::{failure, log_in};
use crate::reach::PostgresReach;

/// What `pg_attribute` says of one column.
struct Column {
    name: String,
    data_type: String,
    /// The most characters that it holds.
    longest: Option<usize>,
}

impl PostgresReach {
    /// Makes the table of our own layout, if it is not there yet; says whether it made it. A table that
    /// is there must have its columns.
    pub fn prepare(&self, limit: Duration) -> Result<bool, Failure> {
        Rows::of(self, Deadline::within(limit))?.prepare()
    }
}

/// A connection to the table of an outlet.
pub(crate) struct Rows<'r> {
    reach: &'r PostgresReach,
    client: Client,
}

impl<'r> Rows<'r> {
    /// Logs in to the database.
    pub(crate) fn of(reach: &'r PostgresReach, deadline: Deadline) -> Result<Self, Failure> {
        let password = reach.password.as_ref();
        let mut client = log_in(&reach.url, password, &reach.trust, deadline.left()?)?;
        let limit = format!("SET statement_timeout = {}", deadline.left()?.as_millis().max(1));
        client.batch_execute(&limit).map_err(|error| failure(&error))?;
        Ok(Self { reach, client })
    }

    /// The table's name, quoted.
    fn table(&self) -> String {
        self.reach.table.iter().map(|part| quoted(part)).collect::<Vec<_>>().join(".")
    }

    fn name(&self) -> String {
        self.reach.table.join(".")
    }

    /// Makes the table of our own layout, if it is not there. Says whether it made it.
    pub(crate) fn prepare(&mut self) -> Result<bool, Failure> {
        if !self.columns()?.is_empty() {
            self.check()?;
            return Ok(false);
        }
        let columns = &self.reach.columns;
        let [scope, name, value] = [&columns.scope, &columns.name, &columns.value].map(|it| quoted(it));
        let made = self.client.batch_execute(&format!(
            "CREATE TABLE {} ({scope} text NOT NULL, {name} text NOT NULL, {value} text NOT NULL, \
             PRIMARY KEY ({scope}, {name}))",
            self.table()
        ));
        made.map_err(|error| failure(&error))?;
        Ok(true)
    }

    /// Whether the table can hold what it must, and the longest text of each of its three columns.
    pub(crate) fn check(&mut self) -> Result<[Option<usize>; 3], Failure> {
        let columns = self.columns()?;
        if columns.is_empty() {
            return Err(Failure::unexpected(format!("there is no table `{}`", self.name())));
        }
        let asked = [&self.reach.columns.scope, &self.reach.columns.name, &self.reach.columns.value];
        let mut longest = [None; 3];
        for (place, asked) in longest.iter_mut().zip(asked) {
            let Some(column) = columns.iter().find(|column| column.name == *asked) else {
                let names: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
                let (table, has) = (self.name(), names.join(", "));
                return Err(Failure::unexpected(format!("`{table}` has no column `{asked}`: it has {has}")));
            };
            if !["text", "varchar", "bpchar", "name"].contains(&column.data_type.as_str()) {
                let kind = &column.data_type;
                return Err(Failure::unexpected(format!("the column `{asked}` holds no text, but {kind}")));
            }
            *place = column.longest;
        }
        Ok(longest)
    }

    /// The columns of the table; none if there is no such table.
    fn columns(&mut self) -> Result<Vec<Column>, Failure> {
        let rows = self.client.query(
            "SELECT a.attname::text, t.typname::text, a.atttypmod FROM pg_catalog.pg_attribute a \
             JOIN pg_catalog.pg_type t ON t.oid = a.atttypid \
             WHERE a.attrelid = pg_catalog.to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped \
             ORDER BY a.attnum",
            &[&self.table()],
        );
        let column = |row: postgres::Row| {
            // Four bytes more than the length, or -1 for none.
            let modifier: i32 = row.get(2);
            Column { name: row.get(0), data_type: row.get(1), longest: usize::try_from(modifier - 4).ok() }
        };
        Ok(rows.map_err(|error| failure(&error))?.into_iter().map(column).collect())
    }

    /// The values of these scopes, by scope; and all scopes that end like this.
    pub(crate) fn read(
        &mut self,
        scopes: &[String],
        ending: Option<&str>,
    ) -> Result<(BTreeMap<String, Values>, Vec<String>), Failure> {
        self.check()?;
        let mut found: BTreeMap<String, Values> = BTreeMap::new();
        let query = self.select("= ANY($1)");
        for row in self.client.query(&query, &[&scopes]).map_err(|error| failure(&error))? {
            add(found.entry(row.get(0)).or_default(), &row)?;
        }
        let Some(ending) = ending else { return Ok((found, Vec::new())) };
        let scope = quoted(&self.reach.columns.scope);
        let query = format!(
            "SELECT DISTINCT {scope}::text FROM {} WHERE right({scope}::text, length($1)) = $1 ORDER BY 1",
            self.table()
        );
        let rows = self.client.query(&query, &[&ending]).map_err(|error| failure(&error))?;
        Ok((found, rows.into_iter().map(|row| row.get(0)).collect()))
    }

    fn select(&self, condition: &str) -> String {
        let columns = &self.reach.columns;
        let [scope, name, value] = [&columns.scope, &columns.name, &columns.value].map(|it| quoted(it));
        let table = self.table();
        format!(
            "SELECT {scope}::text, {name}::text, {value}::text FROM {table} WHERE {scope}::text {condition}"
        )
    }

    /// Makes these changes in one transaction, if the scope's values are those that were seen; `false`
    /// if they are not. What its column cannot hold is refused before anything is written.
    pub(crate) fn change(
        &mut self,
        scope: &str,
        seen: &Values,
        changes: &[RowChange],
    ) -> Result<bool, NotBrought> {
        let longest = self.check().map_err(NotBrought::from)?;
        too_long(longest, scope, changes).map_err(NotBrought::from)?;
        let columns = &self.reach.columns;
        let [scope_column, name_column, value_column] =
            [&columns.scope, &columns.name, &columns.value].map(|it| quoted(it));
        let table = self.table();
        let select = self.select("= $1 FOR UPDATE");
        let wrong = |error: postgres::Error| NotBrought::from(failure(&error));
        let mut transaction = self.client.transaction().map_err(wrong)?;
        // Rows that are not there yet cannot be locked: two of us wait for each other here.
        let lock = "SELECT pg_advisory_xact_lock(hashtextextended($1, 0))";
        transaction.execute(lock, &[&format!("cledger {table} {scope}")]).map_err(wrong)?;
        let mut there = Values::new();
        for row in transaction.query(&select, &[&scope]).map_err(wrong)? {
            add(&mut there, &row).map_err(NotBrought::from)?;
        }
        if there != *seen {
            return Ok(false);
        }
        let mut run = |statement: String, values: &[&(dyn postgres::types::ToSql + Sync)]| {
            let count = transaction.execute(&statement, values).map_err(wrong)?;
            if count == 1 { Ok(()) } else { Err(NotBrought::Failed(format!("{count} rows instead of one"))) }
        };
        let key = format!("WHERE {scope_column}::text = $1 AND {name_column}::text = $2");
        for change in changes {
            match change {
                RowChange::Insert(name, value) => run(
                    format!(
                        "INSERT INTO {table} ({scope_column}, {name_column}, {value_column}) \
                         VALUES ($1, $2, $3)"
                    ),
                    &[&scope, name, &value.as_str()],
                )?,
                RowChange::Update(name, value) => run(
                    format!("UPDATE {table} SET {value_column} = $3 {key}"),
                    &[&scope, name, &value.as_str()],
                )?,
                RowChange::Remove(name) => run(format!("DELETE FROM {table} {key}"), &[&scope, name])?,
            }
        }
        // Where the connection breaks just now, nobody knows on which side of it the server stands.
        transaction.commit().map_err(|error| match error.as_db_error() {
            Some(_) => wrong(error),
            None => NotBrought::NotKnown(failure(&error).to_string()),
        })?;
        Ok(true)
    }
}

/// Adds a row of scope, name and value; a row without one of the two is none.
fn add(values: &mut Values, row: &postgres::Row) -> Result<(), Failure> {
    let (Some(name), Some(value)) = (row.get::<_, Option<String>>(1), row.get::<_, Option<String>>(2)) else {
        return Ok(());
    };
    if values.contains_key(&name) {
        let scope: &str = row.get(0);
        return Err(Failure::unexpected(format!("`{scope}` has two rows for `{name}`")));
    }
    values.insert(name, Zeroizing::new(value));
    Ok(())
}

fn too_long(longest: [Option<usize>; 3], scope: &str, changes: &[RowChange]) -> Result<(), Failure> {
    let [for_scope, for_name, for_value] = longest;
    let refuse = |what: String, most: usize| {
        Failure::unexpected(format!("{what} is longer than its column, which holds {most} characters"))
    };
    let fits = |text: &str, most: Option<usize>| most.is_none_or(|most| text.chars().count() <= most);
    if !fits(scope, for_scope) {
        return Err(refuse(format!("the scope `{scope}`"), for_scope.unwrap_or_default()));
    }
    for change in changes {
        if let RowChange::Insert(name, value) | RowChange::Update(name, value) = change {
            if !fits(name, for_name) {
                return Err(refuse(format!("the name `{name}`"), for_name.unwrap_or_default()));
            }
            if !fits(value, for_value) {
                return Err(refuse(format!("the value of `{name}`"), for_value.unwrap_or_default()));
            }
        }
    }
    Ok(())
}

/// An identifier in quotes; none has quotes inside.
fn quoted(identifier: &str) -> String {
    format!("\"{identifier}\"")
}
