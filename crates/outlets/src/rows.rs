//! Rows of a table in a database: names and values, by scope.

mod column;
mod connection;
mod mariadb;
mod postgres;
mod sqlite;

use std::collections::BTreeMap;
use std::time::Duration;

use cledger_core::delivery::RowChange;
use zeroize::Zeroizing;

use crate::failure::{Deadline, Failure, NotBrought};
use crate::held::{RowsOf, Values, Written};
use crate::reach::RowsReach;

use column::Column;
use connection::{Access, Connection, Row, open};

pub(crate) use postgres::refusal;

/// How many scopes are asked for in one statement.
const AT_ONCE: usize = 200;

impl RowsReach {
    /// Makes the table of our own layout, if it is not there yet; says whether it made it. A table that
    /// is there must have its columns.
    pub fn prepare(&self, limit: Duration) -> Result<bool, Failure> {
        Rows::of(self, Access::Make, Deadline::within(limit))?.prepare()
    }
}

/// A connection to the table of an outlet.
pub(crate) struct Rows<'r> {
    reach: &'r RowsReach,
    database: Box<dyn Connection>,
}

/// The columns that rows of ours are made of.
struct Layout {
    scope: Column,
    name: Column,
    value: Column,
    all: Vec<Column>,
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
        Ok(Self { reach, database: open(reach, access, deadline)? })
    }

    /// The table's name, quoted.
    fn table(&self) -> String {
        self.reach.table.iter().map(|part| self.database.quoted(part)).collect::<Vec<_>>().join(".")
    }

    fn prepare(&mut self) -> Result<bool, Failure> {
        if !self.database.columns(&self.reach.table)?.is_empty() {
            self.layout(&RowsOf::default())?;
            return Ok(false);
        }
        let columns = &self.reach.columns;
        let [scope, name, value] =
            [&columns.scope, &columns.name, &columns.value].map(|it| self.database.quoted(it));
        let [long, short] = self.database.text_types();
        let made = format!(
            "CREATE TABLE {} ({scope} {short} NOT NULL, {name} {short} NOT NULL, {value} {long} NOT NULL, \
             PRIMARY KEY ({scope}, {name}))",
            self.table()
        );
        self.database.execute(&made, &[])?;
        Ok(true)
    }

    /// The columns of the table, which must hold what rows of ours are made of.
    fn layout(&mut self, of: &RowsOf) -> Result<Layout, Failure> {
        let all = self.database.columns(&self.reach.table)?;
        let table = self.reach.table.join(".");
        if all.is_empty() {
            return Err(Failure::unexpected(format!("there is no table `{table}`")));
        }
        let find = |asked: &str| {
            all.iter().find(|column| column.name == asked).cloned().ok_or_else(|| {
                let names: Vec<&str> = all.iter().map(|column| column.name.as_str()).collect();
                let has = names.join(", ");
                Failure::unexpected(format!("`{table}` has no column `{asked}`: it has {has}"))
            })
        };
        let columns = &self.reach.columns;
        let [scope, name, value] = [&columns.scope, &columns.name, &columns.value].map(|it| find(it));
        let (scope, name, value) = (scope?, name?, value?);
        for (asked, text) in &of.only {
            find(asked)?.refuse(text).map_err(|why| refused(&format!("`where`, {asked}"), &why))?;
        }
        for (asked, written) in &of.written {
            let column = find(asked)?;
            if column.is_generated {
                let message = format!("the column `{asked}` of `{table}` is filled by the database alone");
                return Err(Failure::unexpected(message));
            }
            if let Written::Text(text) = written {
                column.refuse(text).map_err(|why| refused(&format!("`fixed`, {asked}"), &why))?;
            }
        }
        Ok(Layout { scope, name, value, all })
    }

    /// The values of these scopes, in their order; and all scopes that end like this.
    pub(crate) fn read(
        &mut self,
        asked: &[&RowsOf],
        ending: Option<&str>,
    ) -> Result<(Vec<Values>, Vec<String>), Failure> {
        let mut found: Vec<Values> = asked.iter().map(|_| Values::new()).collect();
        // Most have the same condition.
        let mut alike: BTreeMap<&[(String, String)], Vec<usize>> = BTreeMap::new();
        for (at, of) in asked.iter().enumerate() {
            alike.entry(&of.only).or_default().push(at);
        }
        let nothing = RowsOf::default();
        let of_first = asked.first().copied().unwrap_or(&nothing);
        for places in alike.into_values() {
            let layout = self.layout(asked[places[0]])?;
            for some in places.chunks(AT_ONCE) {
                let scopes: BTreeMap<String, usize> =
                    some.iter().map(|&at| (asked[at].scope.clone(), at)).collect();
                for at in some {
                    let why = layout.scope.refuse(&asked[*at].scope);
                    why.map_err(|why| refused(&format!("the scope `{}`", asked[*at].scope), &why))?;
                }
                let names: Vec<&str> = scopes.keys().map(String::as_str).collect();
                for row in self.rows(&layout, asked[some[0]], &names, "")? {
                    let Some(&at) =
                        row.first().and_then(Option::as_ref).and_then(|it| scopes.get(it.as_str()))
                    else {
                        continue;
                    };
                    add(&mut found[at], row, &layout)?;
                }
            }
        }
        let Some(ending) = ending else { return Ok((found, Vec::new())) };
        let layout = self.layout(of_first)?;
        let scope = self.database.as_text(&layout.scope);
        let (mut conditions, mut values) = self.conditions(&layout, of_first, 2);
        conditions.insert(0, self.database.ends_with(&layout.scope, 1));
        values.insert(0, Zeroizing::new(ending.to_owned()));
        let (table, conditions) = (self.table(), conditions.join(" AND "));
        let statement = format!("SELECT DISTINCT {scope} FROM {table} WHERE {conditions} ORDER BY 1");
        let names = self.database.query(&statement, &values)?;
        let name = |row: Row| row.into_iter().next().flatten().map(|name| name.to_string());
        Ok((found, names.into_iter().filter_map(name).collect()))
    }

    /// The conditions of rows that are ours, with the values of their marks from this number on.
    fn conditions(
        &self,
        layout: &Layout,
        of: &RowsOf,
        first: usize,
    ) -> (Vec<String>, Vec<Zeroizing<String>>) {
        let columns = of
            .only
            .iter()
            .filter_map(|(name, text)| Some((layout.all.iter().find(|column| column.name == *name)?, text)));
        let one = |(at, (column, text)): (usize, (&Column, &String))| {
            (self.database.is(column, first + at), self.database.given(column, text))
        };
        columns.enumerate().map(one).unzip()
    }

    /// Scope, name and value of the rows of these scopes.
    fn rows(
        &mut self,
        layout: &Layout,
        of: &RowsOf,
        scopes: &[&str],
        lock: &str,
    ) -> Result<Vec<Row>, Failure> {
        let [scope, name, value] =
            [&layout.scope, &layout.name, &layout.value].map(|column| self.database.as_text(column));
        let any: Vec<String> =
            (1..=scopes.len()).map(|number| self.database.is(&layout.scope, number)).collect();
        let mut values: Vec<Zeroizing<String>> =
            scopes.iter().map(|scope| self.database.given(&layout.scope, scope)).collect();
        let (mut conditions, more) = self.conditions(layout, of, scopes.len() + 1);
        conditions.insert(0, format!("({})", any.join(" OR ")));
        values.extend(more);
        let (table, conditions) = (self.table(), conditions.join(" AND "));
        let statement = format!("SELECT {scope}, {name}, {value} FROM {table} WHERE {conditions}{lock}");
        self.database.query(&statement, &values)
    }

    /// Makes these changes in one transaction, if the scope's values are those that were seen; `false`
    /// if they are not. What a column cannot hold is refused before anything is written.
    pub(crate) fn change(
        &mut self,
        of: &RowsOf,
        seen: &Values,
        changes: &[RowChange],
    ) -> Result<bool, NotBrought> {
        let layout = self.layout(of)?;
        fits(&self.reach.table.join("."), &layout, of, changes)?;
        let mut held = format!("cledger {} {}", self.table(), of.scope);
        for (name, text) in &of.only {
            held.push_str(&format!(" {name}={text}"));
        }
        self.database.begin(&held)?;
        let lock = self.database.for_update();
        let mut there = Values::new();
        for row in self.rows(&layout, of, &[&of.scope], lock)? {
            add(&mut there, row, &layout)?;
        }
        if there != *seen {
            return Ok(false);
        }
        for change in changes {
            let (statement, values) = self.statement(&layout, of, change);
            let count = self.database.execute(&statement, &values);
            let count = count.map_err(|failure| refused(&format!("row `{}`", change.name()), &failure))?;
            if count != 1 {
                let name = change.name();
                return Err(NotBrought::Failed(format!("row `{name}`: {count} rows instead of one")));
            }
        }
        self.database.commit()?;
        Ok(true)
    }

    /// What makes a change, with the values of its marks in their order.
    fn statement(
        &self,
        layout: &Layout,
        of: &RowsOf,
        change: &RowChange,
    ) -> (String, Vec<Zeroizing<String>>) {
        let (database, table) = (&self.database, self.table());
        let mut values = Vec::new();
        let mut beside = Vec::new();
        for (name, written) in &of.written {
            let Some(column) = layout.all.iter().find(|column| column.name == *name) else { continue };
            let text = match written {
                Written::Text(text) => database.given(column, text),
                Written::Now => Zeroizing::new(database.now(column)),
            };
            beside.push((column, text));
        }
        let sets = |sets: Vec<(&Column, Zeroizing<String>)>, values: &mut Vec<Zeroizing<String>>| {
            let one = |(column, text): (&Column, Zeroizing<String>)| {
                values.push(text);
                (database.quoted(&column.name), database.mark(column, values.len()))
            };
            sets.into_iter().map(one).collect::<Vec<_>>()
        };
        let (scope, name) = (&layout.scope, &layout.name);
        if let RowChange::Insert(text, value) = change {
            let mut all = vec![
                (scope, database.given(scope, &of.scope)),
                (name, database.given(name, text)),
                (&layout.value, database.given(&layout.value, value)),
            ];
            for (name, text) in &of.only {
                let column = layout.all.iter().find(|column| column.name == *name);
                all.extend(column.map(|column| (column, database.given(column, text))));
            }
            all.extend(beside);
            let (columns, marks): (Vec<String>, Vec<String>) = sets(all, &mut values).into_iter().unzip();
            let (columns, marks) = (columns.join(", "), marks.join(", "));
            return (format!("INSERT INTO {table} ({columns}) VALUES ({marks})"), values);
        }
        let start = match change {
            RowChange::Update(_, value) => {
                let mut all = vec![(&layout.value, database.given(&layout.value, value))];
                all.extend(beside);
                let all: Vec<String> = sets(all, &mut values)
                    .into_iter()
                    .map(|(column, mark)| format!("{column} = {mark}"))
                    .collect();
                format!("UPDATE {table} SET {}", all.join(", "))
            }
            _ => format!("DELETE FROM {table}"),
        };
        values.push(database.given(scope, &of.scope));
        values.push(database.given(name, change.name()));
        let mut conditions = vec![database.is(scope, values.len() - 1), database.is(name, values.len())];
        let (more, texts) = self.conditions(layout, of, values.len() + 1);
        conditions.extend(more);
        values.extend(texts);
        (format!("{start} WHERE {}", conditions.join(" AND ")), values)
    }
}

/// Adds a row of scope, name and value; a row without one of the two is none.
fn add(values: &mut Values, mut row: Row, layout: &Layout) -> Result<(), Failure> {
    let (Some(Some(value)), Some(Some(name))) = (row.pop(), row.pop()) else { return Ok(()) };
    if values.contains_key(name.as_str()) {
        let name = name.as_str();
        return Err(Failure::unexpected(format!("there are two rows for `{name}` in one scope")));
    }
    values.insert(name.to_string(), layout.value.told(value));
    Ok(())
}

/// Refuses what columns cannot hold, and new rows that would lack something.
fn fits(table: &str, layout: &Layout, of: &RowsOf, changes: &[RowChange]) -> Result<(), Failure> {
    let Layout { scope, name: column_of_name, value: column_of_value, all } = layout;
    let beside = of.only.iter().map(|(name, _)| name).chain(of.written.iter().map(|(name, _)| name));
    let said: Vec<&String> =
        [&scope.name, &column_of_name.name, &column_of_value.name].into_iter().chain(beside).collect();
    let lacking: Vec<String> = all
        .iter()
        .filter(|column| column.is_needed && !said.contains(&&column.name))
        .map(|column| format!("`{}` ({})", column.name, column.declared))
        .collect();
    if !lacking.is_empty() && changes.iter().any(|change| matches!(change, RowChange::Insert(..))) {
        let lacking = lacking.join(", ");
        return Err(Failure::unexpected(format!(
            "`{table}` needs more of each new row than is said: {lacking}; say it with `fixed`, `where`, `who` or \
             `when` of the outlet"
        )));
    }
    let scope = scope.refuse(&of.scope);
    scope.map_err(|why| refused(&format!("the scope `{}`", of.scope), &why))?;
    for change in changes {
        if let RowChange::Insert(name, value) | RowChange::Update(name, value) = change {
            column_of_name.refuse(name).map_err(|why| refused(&format!("the name `{name}`"), &why))?;
            column_of_value.refuse(value).map_err(|why| refused(&format!("the value of `{name}`"), &why))?;
        }
    }
    Ok(())
}

fn refused(what: &str, why: &dyn std::fmt::Display) -> Failure {
    Failure::unexpected(format!("{what}: {why}"))
}
