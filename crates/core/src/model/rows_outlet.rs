//! Outlets that are rows of tables in a database.

use super::{Given, Output, StageText};
use crate::name::Name;

/// The most bytes of an identifier that all of the databases take.
const LONGEST: usize = 63;

/// The databases that rows can be in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Database {
    /// A PostgreSQL server.
    Postgres,
    /// A MariaDB server.
    MariaDb,
    /// A file of SQLite.
    Sqlite,
}

impl Database {
    /// All of them.
    pub const ALL: [Database; 3] = [Database::Postgres, Database::MariaDb, Database::Sqlite];

    /// The database of a kind of outlets, if it is one.
    pub fn of_kind(kind: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|database| database.kind() == kind)
    }

    /// The kind of its outlets.
    pub fn kind(self) -> &'static str {
        match self {
            Database::Postgres => "postgres",
            Database::MariaDb => "mariadb",
            Database::Sqlite => "sqlite",
        }
    }
}

/// Rows of a table: one for each name of a scope.
#[derive(Debug, Clone)]
pub struct RowsOutlet {
    /// Which database it is.
    pub database: Database,
    /// Where it is, without a password: `postgresql://user@host:port/database?sslmode=…`, `mariadb://…`, or the
    /// file from the ledger's folder.
    pub at: Given,
    /// The password.
    pub password: Option<StageText>,
    /// The table of names and values, with its schema where that is named; none where lookup tables alone are there.
    pub table: Option<StageText>,
    /// The columns that hold scope, name and value; in our own layout without a `given` name.
    pub columns: RowColumns,
    /// The scope of a unit; `UNIT[+INSTANCE]@STAGE` where it is not given.
    pub scope: Option<StageText>,
    /// What other columns hold.
    pub beside: Vec<(String, Beside)>,
    /// The lookup tables that have a table of their own.
    pub tables: Vec<LookupRows>,
    /// What of a unit stands there, and under which names.
    pub content: Output,
}

/// The rows of a lookup table as rows of a table that it has for itself.
#[derive(Debug, Clone)]
pub struct LookupRows {
    /// The lookup table, as contracts call it.
    pub entry: Name,
    /// The table, with its schema where that is named.
    pub table: StageText,
    /// The column that tells rows apart.
    pub key: String,
    /// The others, by the names that contracts have for them.
    pub columns: Vec<(String, String)>,
    /// What further columns hold.
    pub beside: Vec<(String, Beside)>,
}

impl RowsOutlet {
    /// Whether what stands under these steps is a row, or a cell of one, of a lookup table that has a table of its own.
    pub fn is_of_lookup(&self, steps: &[String]) -> bool {
        let is_it = |table: &LookupRows| steps.first().is_some_and(|first| first == table.entry.as_str());
        steps.len() > 1 && self.tables.iter().any(is_it)
    }

    /// Whether each unit has a way there of its own: another server, database, login or table.
    pub(super) fn way_varies_by_unit(&self) -> bool {
        self.at.as_text().refers_to_unit()
            || self.password.as_ref().is_some_and(StageText::refers_to_unit)
            || self.table.as_ref().is_some_and(StageText::refers_to_unit)
    }
}

/// The columns that hold scope, name and value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowColumns {
    /// Whose row it is.
    pub scope: String,
    /// The name.
    pub name: String,
    /// The value, as text.
    pub value: String,
    /// Whether the table is an application's own, which we did not make.
    pub are_given: bool,
}

impl Default for RowColumns {
    /// Our own layout.
    fn default() -> Self {
        let [scope, name, value] = ["scope", "name", "value"].map(str::to_owned);
        Self { scope, name, value, are_given: false }
    }
}

/// What a column holds beside scope, name and value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Beside {
    /// This tells our rows from others: no row with something else is read, changed or deleted.
    Where(StageText),
    /// Each row that is written gets this.
    Fixed(StageText),
    /// Each row that is written gets the name of who writes it.
    Who,
    /// Each row that is written gets the time of that.
    When,
}

/// Whether a text can be a column's name in every database: none of it ends a quoted name.
pub fn is_column_name(text: &str) -> bool {
    !text.is_empty() && text.len() <= LONGEST && !text.contains(|c: char| "\"`".contains(c) || c.is_control())
}

/// The parts of a table's name: its own, or its schema's and its own.
pub fn parts_of_table(text: &str) -> Option<Vec<String>> {
    let parts: Vec<String> = text.split('.').map(str::to_owned).collect();
    (parts.len() <= 2 && parts.iter().all(|part| is_column_name(part))).then_some(parts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_tables_have_one_or_two_parts_without_quotes() {
        assert_eq!(parts_of_table("app.options"), Some(vec!["app".to_owned(), "options".to_owned()]));
        assert_eq!(parts_of_table("Fahrpläne 2"), Some(vec!["Fahrpläne 2".to_owned()]));
        for bad in ["", ".", "a.b.c", "a\"b", "a`b", "a\nb", &"x".repeat(64)] {
            assert_eq!(parts_of_table(bad), None, "{bad}");
        }
    }
}
