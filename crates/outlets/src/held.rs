//! What units have at outlets, and where.

use std::collections::BTreeMap;
use std::path::PathBuf;

use cledger_store::Links;
use zeroize::Zeroizing;

use crate::file::FileError;

/// Names and values.
pub type Values = BTreeMap<String, Zeroizing<String>>;

/// What is read back for one unit or instance.
#[derive(Debug, Clone)]
pub enum Asked {
    /// These files of a folder.
    Files(UnitFiles),
    /// The environment of the process whose number is in this file.
    Environment(PathBuf),
    /// A document, or a part of one.
    Document(DocumentOf),
    /// Its rows.
    Rows(RowsOf),
}

/// The document of a unit, and its part of that.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct DocumentOf {
    /// Its address; where a query finds it, that of the list that leads there.
    pub url: String,
    /// The query that leads from a page of the list to the document's address (RFC 9535).
    pub find: Option<String>,
    /// The steps in a page to the address of the next one, where no `Link` says so.
    pub next: Option<Vec<String>>,
    /// The steps to the unit's part; all of it where there are none.
    pub at: Vec<String>,
    /// What a new document holds beside the part, by name.
    pub new: Vec<(String, String)>,
}

impl DocumentOf {
    /// All of the document at an address.
    pub fn at_address(url: impl Into<String>) -> Self {
        Self { url: url.into(), ..Self::default() }
    }
}

/// The rows of a unit.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct RowsOf {
    /// Their scope.
    pub scope: String,
    /// What other columns hold in rows that are ours, by column.
    pub only: Vec<(String, String)>,
    /// What other columns get in each row that is written.
    pub written: Vec<(String, Written)>,
    /// The lookup tables that have a table of their own.
    pub tables: Vec<TableOf>,
    /// How the ledger says these values now, or said them when they were brought: what a column holds that is the same
    /// in its type is told in these words.
    pub said: Said,
}

/// Values that may be secrets, and are never printed.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Said(pub Vec<Values>);

impl std::fmt::Debug for Said {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Said(…)")
    }
}

/// The table that a lookup table has for itself.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct TableOf {
    /// The name among the unit's values that stands for all of its rows.
    pub name: String,
    /// The table, with its schema where that is named.
    pub table: Vec<String>,
    /// The column that tells rows apart.
    pub key: String,
    /// The others, by the names that the ledger has for them.
    pub columns: Vec<(String, String)>,
    /// What other columns hold in rows that are ours, by column.
    pub only: Vec<(String, String)>,
    /// What other columns get in each row that is written.
    pub written: Vec<(String, Written)>,
    /// Whether it must be there.
    pub is_needed: bool,
}

/// What a column gets in each row that is written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Written {
    /// This text.
    Text(String),
    /// The time of that.
    Now,
}

/// Files that a unit has in an outlet.
#[derive(Debug, Clone)]
pub struct UnitFiles {
    /// The outlet's folder, from the one that the way leads to. Links on the way there are its owner's.
    pub base: PathBuf,
    /// The unit's folder below it.
    pub below: PathBuf,
    /// The files' paths below that.
    pub paths: Vec<String>,
    /// What becomes of links below the outlet's folder.
    pub links: Links,
    /// Whether other files of the folder are told as well.
    pub all: bool,
}

/// A file as it is there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileThere {
    /// What stands in it.
    pub text: Zeroizing<String>,
    /// Its permission bits (`chmod(2)`), where they are known.
    pub mode: Option<u32>,
}

/// The files of a unit's folder.
#[derive(Debug, Default)]
pub struct FilesThere {
    /// Those that were asked for, by path.
    pub files: BTreeMap<String, Result<FileThere, FileError>>,
    /// The paths of others, where they are told.
    pub others: Vec<String>,
    /// Whether there are more than are told: too many, or too deep.
    pub has_more: bool,
}

/// What a unit or instance has there.
#[derive(Debug)]
pub enum Held {
    /// Its files.
    Files(FilesThere),
    /// Its environment variables, by name.
    Environment(BTreeMap<String, String>),
    /// Its document, and its entity tag if there is one.
    Document(Zeroizing<String>, Option<String>),
    /// Its rows.
    Rows(Values),
    /// Nothing: it is not there.
    NotThere,
    /// Nobody can tell, for this reason.
    NotKnown(String),
}
