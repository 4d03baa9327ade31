//! Outlets: where a stage's configuration is delivered to and read back from.

use std::time::Duration;

use wildmatch::WildMatch;

use super::{Output, Source, StageId, StageText};
use crate::address::Pattern;
use crate::name::Name;
use crate::source::Place;

/// An outlet of one or more stages.
#[derive(Debug, Clone)]
pub struct Outlet {
    /// Its name.
    pub name: Name,
    /// For each stage, whether it is one of its outlets.
    pub stages: Vec<bool>,
    /// The units that are delivered there, of all where this is empty.
    pub units: Vec<Pattern>,
    /// Names there that are never ours.
    pub keep: Vec<WildMatch>,
    /// How long it may take to answer.
    pub timeout: Duration,
    /// What it is.
    pub kind: OutletKind,
    /// What makes a delivery count there.
    pub effect: Effecting,
    /// Its name in `ledger.toml`.
    pub place: Place,
}

/// What makes a delivery take effect, and how one sees that it did.
#[derive(Debug, Clone, Default)]
pub struct Effecting {
    /// The program with its arguments that is started after a delivery; nothing where this is empty.
    pub reload: Vec<StageText>,
    /// What answers once it counts.
    pub ready: Option<Ready>,
    /// How long each of the two may take.
    pub within: Duration,
    /// Variables that the program gets although secrets of outlets come from them.
    pub pass: Vec<String>,
}

/// What tells that a delivery counts.
#[derive(Debug, Clone)]
pub enum Ready {
    /// This address answers with a status of success.
    Http(StageText),
    /// This file, from the ledger's folder, is written anew.
    File(StageText),
}

/// The kinds of outlets.
#[derive(Debug, Clone)]
pub enum OutletKind {
    /// Files as rendered, in a folder for each unit.
    Directory {
        /// The folder, from the ledger's; that of the unit itself if it refers to the unit.
        path: StageText,
        /// Whether links below it are followed.
        follow_links: bool,
    },
    /// A JSON document for each unit, behind HTTP.
    Http(Box<HttpOutlet>),
    /// Rows of a table in a PostgreSQL database.
    Postgres(Box<PostgresOutlet>),
    /// The environment of a running process, which is only read.
    Process {
        /// The file with its number, from the ledger's folder.
        pid_file: StageText,
    },
    /// A place that this program cannot reach: a person brings it there.
    ByHand {
        /// What the person has to do.
        chore: String,
    },
}

/// Text that stands in the ledger, or comes from outside when it is used.
#[derive(Debug, Clone)]
pub enum Given {
    /// This text.
    Text(String),
    /// What is found there: `env:NAME` or `file:PATH`.
    From(Source),
}

/// A JSON document for each unit, read with GET and written with PUT (RFC 9110).
#[derive(Debug, Clone)]
pub struct HttpOutlet {
    /// The address of the service.
    pub url: Given,
    /// What follows it; the unit's name comes behind it unless it refers to the unit.
    pub path: StageText,
    /// What is sent as a bearer token (RFC 6750).
    pub token: Option<Source>,
    /// The proxy between.
    pub proxy: Option<String>,
    /// How often it is tried again where it does not answer, or says that it cannot now.
    pub retries: u32,
    /// What of a unit stands there, and under which names.
    pub document: Output,
}

/// Rows of a table: one for each name of a scope.
#[derive(Debug, Clone)]
pub struct PostgresOutlet {
    /// Where the database is: `postgresql://user@host:port/database?sslmode=…`, without a password.
    pub url: Given,
    /// The password.
    pub password: Option<Source>,
    /// The table, with its schema where that is named.
    pub table: Vec<String>,
    /// The table's columns; in our own layout without a `given` name.
    pub columns: RowColumns,
    /// The scope of a unit; `UNIT[+INSTANCE]@STAGE` where it is not given.
    pub scope: Option<StageText>,
    /// What of a unit stands there, and under which names.
    pub rows: Output,
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

impl OutletKind {
    /// The kinds by their names in `ledger.toml`.
    pub const NAMES: [&'static str; 5] = ["directory", "http", "postgres", "process", "by-hand"];

    /// Whether a stage has another place there once it has another name.
    pub fn tells_stage(&self) -> bool {
        let refers = |text: &StageText| text.as_written().contains("${stage.name}");
        match self {
            OutletKind::Directory { path, .. } => refers(path),
            OutletKind::Http(http) => refers(&http.path),
            OutletKind::Postgres(postgres) => postgres.scope.as_ref().is_none_or(refers),
            OutletKind::Process { pid_file } => refers(pid_file),
            OutletKind::ByHand { .. } => false,
        }
    }

    /// The name in `ledger.toml`.
    pub fn name(&self) -> &'static str {
        match self {
            OutletKind::Directory { .. } => "directory",
            OutletKind::Http(_) => "http",
            OutletKind::Postgres(_) => "postgres",
            OutletKind::Process { .. } => "process",
            OutletKind::ByHand { .. } => "by-hand",
        }
    }

    /// What of a unit stands there, where that is not its files.
    pub fn output(&self) -> Option<&Output> {
        match self {
            OutletKind::Http(http) => Some(&http.document),
            OutletKind::Postgres(postgres) => Some(&postgres.rows),
            OutletKind::Directory { .. } | OutletKind::Process { .. } | OutletKind::ByHand { .. } => None,
        }
    }
}

impl Outlet {
    /// Whether a unit or instance of a stage is delivered there.
    pub fn takes(&self, stage: StageId, owner: (&str, Option<&str>)) -> bool {
        let unit = self.units.is_empty() || self.units.iter().any(|it| it.covers_owner(owner.0, owner.1));
        self.stages[usize::from(stage.0)] && unit
    }

    /// Whether it is one of a stage's.
    pub fn is_of(&self, stage: StageId) -> bool {
        self.stages.get(usize::from(stage.0)).copied().unwrap_or(false)
    }

    /// What a person has to do, where this program cannot reach it.
    pub fn by_hand(&self) -> Option<&str> {
        match &self.kind {
            OutletKind::ByHand { chore } => Some(chore),
            _ => None,
        }
    }

    /// Whether a name there is never ours.
    pub fn keeps(&self, name: &str) -> bool {
        self.keep.iter().any(|keep| keep.matches(name))
    }
}
