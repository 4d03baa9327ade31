//! What tables say of several rows: which of them may not be alike, and which need another.

/// What a table says of its rows beside their columns, as the database's catalogue has it. What counts for some rows
/// alone or for what is computed of columns is not among it.
#[derive(Debug, Clone, Default)]
pub(crate) struct Constraints {
    /// The table's name with its schema.
    pub(crate) table: Vec<String>,
    /// What no two rows have alike.
    pub(crate) unique: Vec<Unique>,
    /// The rows of other tables, or of this one, that its rows need.
    pub(crate) references: Vec<Reference>,
}

/// Columns in which no two rows hold the same.
#[derive(Debug, Clone)]
pub(crate) struct Unique {
    pub(crate) name: String,
    pub(crate) columns: Vec<String>,
}

/// Columns of a table that hold what columns of some row of another do (a foreign key).
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Reference {
    pub(crate) name: String,
    /// The table that refers, with its schema, and its columns.
    pub(crate) from: Vec<String>,
    pub(crate) columns: Vec<String>,
    /// The table that is referred to, and the columns there, in the same order.
    pub(crate) to: Vec<String>,
    pub(crate) others: Vec<String>,
}

/// Puts together what a catalogue says column by column, in the order of columns.
pub(super) fn uniques(columns: impl IntoIterator<Item = (String, String)>) -> Vec<Unique> {
    let mut found: Vec<Unique> = Vec::new();
    for (name, column) in columns {
        match found.iter_mut().find(|unique| unique.name == name) {
            Some(unique) => unique.columns.push(column),
            None => found.push(Unique { name, columns: vec![column] }),
        }
    }
    found
}

/// Puts together what a catalogue says column by column: of each its constraint with one column on both sides.
pub(super) fn references(columns: impl IntoIterator<Item = Reference>) -> Vec<Reference> {
    let mut found: Vec<Reference> = Vec::new();
    for of_column in columns {
        let is_same = |it: &&mut Reference| it.name == of_column.name && it.from == of_column.from;
        match found.iter_mut().find(is_same) {
            Some(reference) => {
                reference.columns.extend(of_column.columns);
                reference.others.extend(of_column.others);
            }
            None => found.push(of_column),
        }
    }
    found
}
