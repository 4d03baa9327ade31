//! What a database has to be able to do, whichever it is.

use jiff::Timestamp;
use zeroize::Zeroizing;

use super::column::{Column, Holds};
use super::constraint::{Constraints, Reference};
use crate::failure::{Failure, NotBrought};

/// A row that was read: empty cells are `None`.
pub(crate) type Row = Vec<Option<Zeroizing<String>>>;

/// What a database is opened for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Access {
    /// Nothing is written.
    Read,
    /// Rows of a table that is there.
    Write,
    /// The table, too, and the database if it is a file.
    Make,
}

/// A connection to a database. Values are text on both sides; statements hold none, but `?`-like marks for them.
pub(crate) trait Connection {
    /// The columns of a table; none if there is no such table.
    fn columns(&mut self, table: &[String]) -> Result<Vec<Column>, Failure>;

    /// What a table that is there says of several rows.
    fn constraints(&mut self, table: &[String]) -> Result<Constraints, Failure>;

    /// The tables whose rows refer to those of a table, which is named with its schema.
    fn referring(&mut self, table: &[String]) -> Result<Vec<Reference>, Failure>;

    /// A name in quotes; none has quotes inside.
    fn quoted(&self, name: &str) -> String;

    /// What gives a column's value as text.
    fn as_text(&self, column: &Column) -> String;

    /// The mark for the value with this number, from 1, on its way to a column.
    fn mark(&self, column: &Column, number: usize) -> String;

    /// The condition that a column holds just this value.
    fn is(&self, column: &Column, number: usize) -> String;

    /// The condition that a column holds what is the same as this value for the table's own constraints.
    fn is_alike(&self, column: &Column, number: usize) -> String;

    /// The condition that a column's text ends as this value does.
    fn ends_with(&self, column: &Column, number: usize) -> String;

    /// What locks rows that are read for a change.
    fn for_update(&self) -> &'static str;

    /// A text of a ledger as this database takes it for a column.
    fn given(&self, column: &Column, text: &str) -> Zeroizing<String>;

    /// A time, for a column.
    fn time(&self, column: &Column, time: Timestamp) -> String;

    /// The type of columns in our own layout: text as long as it can be, and text that can be part of a key.
    fn text_types(&self) -> [&'static str; 2];

    /// Rows that a statement gives.
    fn query(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<Vec<Row>, Failure>;

    /// How many rows a statement changed.
    fn execute(&mut self, statement: &str, values: &[Zeroizing<String>]) -> Result<u64, Failure>;

    /// Begins a transaction, and waits for others of us that change what has this name.
    fn begin(&mut self, held: &str) -> Result<(), Failure>;

    /// Ends the transaction. Without that, all of it is undone when the connection goes.
    fn commit(&mut self) -> Result<(), NotBrought>;
}

/// A truth as `1` or `0`, where a database has no words for it.
pub(super) fn as_digit(column: &Column, text: &str) -> Zeroizing<String> {
    let text = match (&column.holds, text) {
        (Holds::Boolean, "true") => "1",
        (Holds::Boolean, "false") => "0",
        (_, text) => text,
    };
    Zeroizing::new(text.to_owned())
}
