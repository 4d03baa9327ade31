//! Entries: what a unit needs, with its fields.

use std::sync::Arc;

use super::Declaration;
use crate::name::Name;
use crate::source::Place;

/// What sort of thing an entry is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Kind {
    /// One value, whose field has no name.
    Variable,
    /// A connection, with the way its `url` is put together; `None` where it has no `url`.
    Connection {
        /// The protocol, which is also the scheme of the URL.
        protocol: Name,
        /// How its `url` is put together.
        url: Option<UrlShape>,
    },
    /// An address that is called over HTTP, with its authentication.
    Endpoint,
    /// A credential of some form.
    Credential(Form),
    /// A lookup table.
    Table {
        /// Its columns, the key's among them.
        columns: Vec<String>,
        /// The column whose cells tell the rows apart.
        key: String,
    },
}

impl Kind {
    /// The words for all kinds.
    pub const NAMES: [&str; 5] = ["variable", "connection", "endpoint", "credential", "table"];

    /// What people call an entry of this kind.
    pub fn name(&self) -> &'static str {
        match self {
            Kind::Variable => "variable",
            Kind::Connection { .. } => "connection",
            Kind::Endpoint => "endpoint",
            Kind::Credential(_) => "credential",
            Kind::Table { .. } => "table",
        }
    }

    /// The table of contracts that entries of this kind stand in.
    pub fn table(&self) -> &'static str {
        match self {
            Kind::Variable => "variables",
            Kind::Connection { .. } => "connections",
            Kind::Endpoint => "endpoints",
            Kind::Credential(_) => "credentials",
            Kind::Table { .. } => "tables",
        }
    }
}

/// How a connection's `url` is put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct UrlShape {
    /// The field that is the URL's path, if there is one.
    pub place: Option<&'static str>,
    /// Whether the place keeps its `/`, and a leading one is not doubled.
    pub place_keeps_slashes: bool,
}

/// The forms of credentials.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// A user and a password.
    Password,
    /// A token.
    Token,
    /// A private and a public key.
    KeyPair,
    /// A certificate (X.509, in PEM) and its private key.
    Certificate,
}

impl Form {
    /// The forms with their names in contracts.
    pub const ALL: [(Form, &'static str); 4] = [
        (Form::Password, "password"),
        (Form::Token, "token"),
        (Form::KeyPair, "key-pair"),
        (Form::Certificate, "certificate"),
    ];
}

/// Something that a unit needs.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its name, unique within its unit or among the shared entries.
    pub name: Name,
    /// What sort of thing it is.
    pub kind: Kind,
    /// What it is for, in its developers' words.
    pub about: Option<Arc<str>>,
    /// Its fields: the built-in ones in their order, then those added, by name.
    pub fields: Vec<Declaration>,
    /// Its name where it is declared.
    pub place: Place,
}

impl Entry {
    /// The position of the field with this name; `None` as a name is a variable's field.
    pub fn field(&self, name: Option<&str>) -> Option<usize> {
        self.fields.iter().position(|field| field.name.as_ref().map(Name::as_str) == name)
    }

    /// Whether settings and contracts are read against it as against the other, see [`Declaration::reads_as`].
    pub fn reads_as(&self, other: &Self) -> bool {
        (&self.name, &self.kind) == (&other.name, &other.kind)
            && self.fields.len() == other.fields.len()
            && self.fields.iter().zip(&other.fields).all(|(one, other)| one.reads_as(other))
    }

    /// The names of its fields; none for a variable.
    pub fn field_names(&self) -> impl Iterator<Item = &str> {
        self.fields.iter().filter_map(|field| field.name.as_ref().map(Name::as_str))
    }
}
