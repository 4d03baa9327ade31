//! Ways to outlets: what one has to know to get there.

use std::path::PathBuf;
use std::sync::Arc;

use cledger_core::model::{Database, RowColumns};

use crate::oauth::OAuth;
use crate::trust::Trust;

pub use crate::client_certificate::ClientCertificate;
pub use crate::sent::Sent;

/// The way to an outlet.
#[derive(Debug, Clone)]
pub enum Reach {
    /// Files and processes of this machine, from this folder; messages name paths from there.
    Local(PathBuf),
    /// Documents behind HTTP.
    Http(HttpReach),
    /// A table in a database.
    Rows(RowsReach),
    /// There is none, for this reason.
    None(String),
}

/// How one shows who one is over HTTP.
#[derive(Debug, Clone, Default)]
pub enum HttpLogin {
    /// Not at all.
    #[default]
    None,
    /// A bearer token (RFC 6750).
    Bearer(Sent),
    /// A user and a password (RFC 7617).
    Basic(String, Sent),
    /// A token that is fetched once, when the first request needs it.
    OAuth(Arc<OAuth>),
}

/// The way to a service that keeps JSON documents.
#[derive(Debug, Clone)]
pub struct HttpReach {
    /// Whether its addresses begin with `https`.
    pub over_tls: bool,
    /// What is shown at the door.
    pub login: HttpLogin,
    /// The certificate that is shown before that.
    pub certificate: Option<ClientCertificate>,
    /// The proxy between.
    pub proxy: Option<String>,
    /// How often a request is made again.
    pub retries: u32,
    /// Whose certificates are trusted.
    pub trust: Trust,
}

/// The way to a table.
#[derive(Debug, Clone)]
pub struct RowsReach {
    /// Which database it is in.
    pub database: Database,
    /// The address of the database, in which no password is needed; the path of its file, where it is one.
    pub at: Sent,
    /// The password.
    pub password: Option<Sent>,
    /// The table, with its schema where that is named.
    pub table: Vec<String>,
    /// Its columns.
    pub columns: RowColumns,
    /// Whose certificates are trusted.
    pub trust: Trust,
}
