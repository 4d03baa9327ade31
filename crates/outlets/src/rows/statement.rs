//! Statements, put together with the values of their marks in their order.

use zeroize::Zeroizing;

use super::column::Column;
use super::connection::Connection;

/// A statement that grows.
pub(super) struct Statement<'d> {
    database: &'d dyn Connection,
    pub(super) text: String,
    pub(super) values: Vec<Zeroizing<String>>,
}

/// What a column gets: a text of a ledger, or nothing.
pub(super) type Cell<'c> = (&'c Column, Option<Zeroizing<String>>);

impl<'d> Statement<'d> {
    pub(super) fn new(database: &'d dyn Connection) -> Self {
        Self { database, text: String::new(), values: Vec::new() }
    }

    /// Text of the language itself, and quoted names.
    pub(super) fn say(mut self, text: &str) -> Self {
        self.text.push_str(text);
        self
    }

    /// What these columns hold, as text.
    pub(super) fn select<'c>(self, columns: impl IntoIterator<Item = &'c Column>) -> Self {
        let texts: Vec<String> = columns.into_iter().map(|column| self.database.as_text(column)).collect();
        self.say(&texts.join(", "))
    }

    /// A mark for what a column gets.
    fn mark(&mut self, (column, text): &Cell<'_>) -> String {
        let Some(text) = text else { return "NULL".to_owned() };
        self.values.push(self.database.given(column, text));
        self.database.mark(column, self.values.len())
    }

    /// `(column, …) VALUES (…)`.
    pub(super) fn insert(mut self, cells: &[Cell<'_>]) -> Self {
        let columns: Vec<String> =
            cells.iter().map(|(column, _)| self.database.quoted(&column.name)).collect();
        let marks: Vec<String> = cells.iter().map(|cell| self.mark(cell)).collect();
        let (columns, marks) = (columns.join(", "), marks.join(", "));
        self.say(&format!(" ({columns}) VALUES ({marks})"))
    }

    /// `SET column = …, …`.
    pub(super) fn set(mut self, cells: &[Cell<'_>]) -> Self {
        let one = |cell: &Cell<'_>| {
            let mark = self.mark(cell);
            format!("{} = {mark}", self.database.quoted(&cell.0.name))
        };
        let sets: Vec<String> = cells.iter().map(one).collect();
        self.say(&format!(" SET {}", sets.join(", ")))
    }

    /// `WHERE …`, or ` AND …` behind another condition: these columns hold just this.
    pub(super) fn all<'c>(
        mut self,
        word: &str,
        cells: impl IntoIterator<Item = (&'c Column, &'c str)>,
    ) -> Self {
        let mut word = word;
        for (column, text) in cells {
            let condition = self.is(column, text);
            self.text.push_str(&format!(" {word} {condition}"));
            word = "AND";
        }
        self
    }

    /// `WHERE …`, or ` AND …`: a column holds what its table takes for the same as this.
    pub(super) fn alike(mut self, word: &str, column: &Column, text: &str) -> Self {
        self.values.push(self.database.given(column, text));
        let condition = self.database.is_alike(column, self.values.len());
        self.say(&format!(" {word} {condition}"))
    }

    /// `WHERE (…)`: a column holds one of these.
    pub(super) fn any(mut self, column: &Column, texts: &[&str]) -> Self {
        let conditions: Vec<String> = texts.iter().map(|text| self.is(column, text)).collect();
        self.say(&format!(" WHERE ({})", conditions.join(" OR ")))
    }

    /// `WHERE …`: a column's text ends like this.
    pub(super) fn ending(mut self, column: &Column, ending: &str) -> Self {
        self.values.push(Zeroizing::new(ending.to_owned()));
        let condition = self.database.ends_with(column, self.values.len());
        self.say(&format!(" WHERE {condition}"))
    }

    fn is(&mut self, column: &Column, text: &str) -> String {
        self.values.push(self.database.given(column, text));
        self.database.is(column, self.values.len())
    }
}
