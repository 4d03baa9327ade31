//! Rows of tables in a database: names and values by scope, and lookup tables that have a table of their own.

mod column;
mod connection;
mod constraint;
mod foresee;
mod lookup;
mod mariadb;
mod postgres;
mod sqlite;
mod statement;
mod step;
mod table;
mod there;

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;

use cledger_core::delivery::RowChange;
use cledger_core::model::Database;
use jiff::{Timestamp, Unit};

use crate::failure::{Deadline, Failure, NotBrought};
use crate::held::{RowsOf, TableOf, Values};
use crate::reach::RowsReach;

use column::Column;
use connection::{Access, Connection, Row};
use constraint::Constraints;
use lookup::Lookup;
use statement::{Cell, Statement};
use step::{Doing, Step, in_order, steps};
use table::Main;
use there::{TableThere, conditions, refused};

pub use foresee::Foreseen;
pub use table::Tables;

/// How many scopes are asked for in one statement.
const AT_ONCE: usize = 200;

impl RowsReach {
    /// Makes the table of our own layout, if it is not there yet; says whether it made it. A table that
    /// is there must have its columns.
    pub fn prepare(&self, limit: Duration) -> Result<bool, Failure> {
        Rows::of(self, Access::Make, Deadline::within(limit))?.prepare()
    }
}

/// A connection to the tables of an outlet.
pub(crate) struct Rows<'r> {
    reach: &'r RowsReach,
    database: Box<dyn Connection>,
    /// Whether tables are asked for what they say of several rows.
    sees_constraints: bool,
    /// The tables that were looked at; those that are not there have no columns.
    known: BTreeMap<Vec<String>, TableThere>,
}

/// What tables have of those that are asked for.
pub(crate) struct Found {
    /// Their values, in their order, and the tables as they are there.
    pub(crate) units: Vec<(Values, Arc<Tables>)>,
    /// All scopes that end as asked.
    pub(crate) scopes: Vec<String>,
}

impl<'r> Rows<'r> {
    /// To read what is there.
    pub(crate) fn to_read(reach: &'r RowsReach, deadline: Deadline) -> Result<Self, Failure> {
        Self::of(reach, Access::Read, deadline)
    }

    /// To change rows.
    pub(crate) fn to_change(reach: &'r RowsReach, deadline: Deadline) -> Result<Self, Failure> {
        Self::of(reach, Access::Write, deadline)
    }

    fn of(reach: &'r RowsReach, access: Access, deadline: Deadline) -> Result<Self, Failure> {
        let database = open(reach, access, deadline)?;
        Ok(Self { reach, database, sees_constraints: false, known: BTreeMap::new() })
    }

    /// A table's name, quoted.
    fn quoted(&self, table: &[String]) -> String {
        table.iter().map(|part| self.database.quoted(part)).collect::<Vec<_>>().join(".")
    }

    fn prepare(&mut self) -> Result<bool, Failure> {
        if !self.database.columns(&self.reach.table)?.is_empty() {
            self.main(&RowsOf::default())?;
            return Ok(false);
        }
        let columns = &self.reach.columns;
        let [scope, name, value] =
            [&columns.scope, &columns.name, &columns.value].map(|it| self.database.quoted(it));
        let [long, short] = self.database.text_types();
        let made = format!(
            "CREATE TABLE {} ({scope} {short} NOT NULL, {name} {short} NOT NULL, {value} {long} NOT NULL, \
             PRIMARY KEY ({scope}, {name}))",
            self.quoted(&self.reach.table)
        );
        self.database.execute(&made, &[])?;
        Ok(true)
    }

    /// A table as it is there, if it is.
    fn look(&mut self, parts: &[String]) -> Result<Option<TableThere>, Failure> {
        if !self.known.contains_key(parts) {
            let columns = self.database.columns(parts)?;
            let is_asked = self.sees_constraints && !columns.is_empty();
            let constraints =
                if is_asked { self.database.constraints(parts)? } else { Constraints::default() };
            self.known.insert(parts.to_vec(), TableThere { parts: parts.to_vec(), columns, constraints });
        }
        Ok(self.known.get(parts).filter(|table| !table.columns.is_empty()).cloned())
    }

    /// The table of names and values, which must hold what rows of a unit are made of.
    fn main(&mut self, of: &RowsOf) -> Result<Option<Main>, Failure> {
        let reach = self.reach;
        if reach.table.is_empty() {
            return Ok(None);
        }
        let table = self.look(&reach.table)?.ok_or_else(|| no_table(&reach.table))?;
        let columns = &reach.columns;
        let [scope, name, value] =
            [&columns.scope, &columns.name, &columns.value].map(|name| table.column(name).cloned());
        table.has(&of.only, &of.written)?;
        Ok(Some(Main { scope: scope?, name: name?, value: value?, table }))
    }

    /// The table of a lookup table; none where it need not be there, and is not.
    fn lookup(&mut self, of: &TableOf) -> Result<Option<Lookup>, Failure> {
        let Some(table) = self.look(&of.table)? else {
            return if of.is_needed { Err(no_table(&of.table)) } else { Ok(None) };
        };
        table.has(&of.only, &of.written)?;
        let key = table.column(&of.key)?.clone();
        let cell = |(name, column): &(String, String)| Ok((name.clone(), table.column(column)?.clone()));
        let cells = of.columns.iter().map(cell).collect::<Result<_, Failure>>()?;
        Ok(Some(Lookup { of: of.clone(), table, key, cells }))
    }

    fn tables(&mut self, of: &RowsOf) -> Result<Tables, Failure> {
        let main = self.main(of)?;
        let lookups = of.tables.iter().map(|table| self.lookup(table));
        Ok(Tables { main, lookups: lookups.filter_map(Result::transpose).collect::<Result<_, _>>()? })
    }

    /// The values of these, in their order; and all scopes that end like this.
    pub(crate) fn read(&mut self, asked: &[&RowsOf], ending: Option<&str>) -> Result<Found, Failure> {
        let mut units = Vec::new();
        for of in asked {
            let tables = self.tables(of)?;
            let mut values = Values::new();
            for lookup in &tables.lookups {
                self.add_lookup(lookup, "", &mut values)?;
            }
            units.push((values, Arc::new(tables)));
        }
        // Most have the same condition.
        let mut alike: BTreeMap<&[(String, String)], Vec<usize>> = BTreeMap::new();
        for (at, of) in asked.iter().enumerate() {
            alike.entry(&of.only).or_default().push(at);
        }
        for places in alike.into_values() {
            for some in places.chunks(AT_ONCE) {
                let tables = Arc::clone(&units[some[0]].1);
                let Some(main) = &tables.main else { continue };
                let mut scopes: BTreeMap<&str, usize> = BTreeMap::new();
                for &at in some {
                    let scope = asked[at].scope.as_str();
                    main.scope.refuse(scope).map_err(|why| refused(&format!("the scope `{scope}`"), &why))?;
                    scopes.insert(scope, at);
                }
                let names: Vec<&str> = scopes.keys().copied().collect();
                for row in self.rows(main, asked[some[0]], &names, "")? {
                    let scope = row.first().and_then(Option::as_ref);
                    if let Some(&at) = scope.and_then(|scope| scopes.get(scope.as_str())) {
                        add(&mut units[at].0, row, main)?;
                    }
                }
            }
        }
        for (of, (values, tables)) in asked.iter().zip(&mut units) {
            tables.in_words_of(values, &of.said.0);
        }
        let scopes = match ending {
            Some(ending) => self.scopes(asked.first().copied().unwrap_or(&RowsOf::default()), ending)?,
            None => Vec::new(),
        };
        Ok(Found { units, scopes })
    }

    /// All scopes that end like this.
    fn scopes(&mut self, of: &RowsOf, ending: &str) -> Result<Vec<String>, Failure> {
        let Some(main) = self.main(of)? else { return Ok(Vec::new()) };
        let statement = Statement::new(&*self.database)
            .say("SELECT DISTINCT ")
            .select([&main.scope])
            .say(&format!(" FROM {}", self.quoted(&main.table.parts)))
            .ending(&main.scope, ending)
            .all("AND", conditions(&main.table, &of.only)?)
            .say(" ORDER BY 1");
        let (text, values) = (statement.text, statement.values);
        let rows = self.database.query(&text, &values)?;
        let name = |row: Row| row.into_iter().next().flatten().map(|name| name.to_string());
        Ok(rows.into_iter().filter_map(name).collect())
    }

    /// Scope, name and value of the rows of these scopes.
    fn rows(&mut self, main: &Main, of: &RowsOf, scopes: &[&str], lock: &str) -> Result<Vec<Row>, Failure> {
        let statement = Statement::new(&*self.database)
            .say("SELECT ")
            .select([&main.scope, &main.name, &main.value])
            .say(&format!(" FROM {}", self.quoted(&main.table.parts)))
            .any(&main.scope, scopes)
            .all("AND", conditions(&main.table, &of.only)?)
            .say(lock);
        let (text, values) = (statement.text, statement.values);
        self.database.query(&text, &values)
    }

    /// Adds what a lookup table has, if it has any rows.
    fn add_lookup(&mut self, lookup: &Lookup, lock: &str, values: &mut Values) -> Result<(), Failure> {
        let statement = Statement::new(&*self.database)
            .say("SELECT ")
            .select([&lookup.key].into_iter().chain(lookup.cells.values()))
            .say(&format!(" FROM {}", self.quoted(&lookup.table.parts)))
            .all("WHERE", conditions(&lookup.table, &lookup.of.only)?)
            .say(lock);
        let (text, texts) = (statement.text, statement.values);
        let rows = lookup::of_query(lookup, self.database.query(&text, &texts)?)?;
        if !rows.is_empty() {
            values.insert(lookup.of.name.clone(), lookup::text(&rows));
        }
        Ok(())
    }

    /// Makes these changes in one transaction, if the unit's values are those that were seen; `false`
    /// if they are not. What a column cannot hold is refused before anything is written.
    pub(crate) fn change(
        &mut self,
        of: &RowsOf,
        seen: &Values,
        changes: &[RowChange],
    ) -> Result<bool, NotBrought> {
        // A row alone is in the right order.
        self.sees_constraints = changes.len() > 1 || !of.tables.is_empty();
        let tables = self.tables(of)?;
        tables.takes(of, seen, changes)?;
        self.database.begin(&held(&self.quoted(&self.reach.table), of))?;
        let lock = self.database.for_update();
        let mut there = Values::new();
        if let Some(main) = &tables.main {
            for row in self.rows(main, of, &[&of.scope], lock)? {
                add(&mut there, row, main)?;
            }
        }
        for lookup in &tables.lookups {
            self.add_lookup(lookup, lock, &mut there)?;
        }
        tables.in_words_of(&mut there, &of.said.0);
        if there != *seen {
            return Ok(false);
        }
        let now = Timestamp::now().round(Unit::Second).unwrap_or_default();
        for step in in_order(steps(&tables, of, &there, changes, (&*self.database, now))?) {
            self.take(step)?;
        }
        self.database.commit()?;
        Ok(true)
    }

    /// Changes one row.
    fn take(&mut self, step: Step<'_>) -> Result<(), NotBrought> {
        let Step { what, table, mut cells, row, .. } = step;
        let of_row = || row.iter().map(|(column, text)| (*column, text.as_str()));
        let statement = match step.doing {
            Doing::Insert => {
                cells.extend(row.iter().map(|(column, text)| (*column, Some(text.clone()))));
                self.insert(table, &cells)
            }
            Doing::Update => self.update(table, &cells, of_row()),
            Doing::Remove => self.delete(table, of_row()),
        };
        let Statement { text, values, .. } = statement;
        let count = self.database.execute(&text, &values).map_err(|failure| refused(&what, &failure))?;
        if count == 1 {
            return Ok(());
        }
        Err(NotBrought::Failed(format!("{what}: {count} rows instead of one")))
    }

    fn insert(&self, table: &TableThere, cells: &[Cell<'_>]) -> Statement<'_> {
        let into = format!("INSERT INTO {}", self.quoted(&table.parts));
        Statement::new(&*self.database).say(&into).insert(cells)
    }

    fn update<'c>(
        &self,
        table: &TableThere,
        cells: &[Cell<'_>],
        of: impl IntoIterator<Item = (&'c Column, &'c str)>,
    ) -> Statement<'_> {
        let update = format!("UPDATE {}", self.quoted(&table.parts));
        Statement::new(&*self.database).say(&update).set(cells).all("WHERE", of)
    }

    fn delete<'c>(
        &self,
        table: &TableThere,
        of: impl IntoIterator<Item = (&'c Column, &'c str)>,
    ) -> Statement<'_> {
        let delete = format!("DELETE FROM {}", self.quoted(&table.parts));
        Statement::new(&*self.database).say(&delete).all("WHERE", of)
    }
}

/// Opens the database of an outlet.
fn open(reach: &RowsReach, access: Access, deadline: Deadline) -> Result<Box<dyn Connection>, Failure> {
    Ok(match reach.database {
        Database::Postgres => Box::new(postgres::open(reach, deadline)?),
        Database::MariaDb => Box::new(mariadb::open(reach, deadline)?),
        Database::Sqlite => Box::new(sqlite::open(reach, access, deadline)?),
    })
}

/// The name of what is changed by one of us at a time.
fn held(table: &str, of: &RowsOf) -> String {
    let mut held = format!("cledger {table} {}", of.scope);
    let lookups = of.tables.iter().flat_map(|table| &table.only);
    for (name, text) in of.only.iter().chain(lookups) {
        held.push_str(&format!(" {name}={text}"));
    }
    held
}

fn no_table(table: &[String]) -> Failure {
    Failure::unexpected(format!("there is no table `{}`", table.join(".")))
}

/// Adds a row of scope, name and value; a row without one of the two is none.
fn add(values: &mut Values, mut row: Row, main: &Main) -> Result<(), Failure> {
    let (Some(Some(value)), Some(Some(name))) = (row.pop(), row.pop()) else { return Ok(()) };
    if values.contains_key(name.as_str()) {
        let name = name.as_str();
        return Err(Failure::unexpected(format!("there are two rows for `{name}` in one scope")));
    }
    values.insert(name.to_string(), main.value.told(value));
    Ok(())
}
