//! What each command prints for programs: one document, described in `docs/formats.md`.

pub(crate) mod add;
pub(crate) mod adopt;
pub(crate) mod at;
pub(crate) mod brought;
pub(crate) mod bundle;
pub(crate) mod capture;
pub(crate) mod change;
pub(crate) mod check;
pub(crate) mod chores;
pub(crate) mod compare;
pub(crate) mod declare;
pub(crate) mod deliver;
pub(crate) mod drift;
pub(crate) mod error;
pub(crate) mod fill;
pub(crate) mod folio;
pub(crate) mod history;
pub(crate) mod impact;
pub(crate) mod init;
pub(crate) mod key;
pub(crate) mod list;
pub(crate) mod matrix;
pub(crate) mod outlet;
pub(crate) mod probe;
pub(crate) mod promote;
pub(crate) mod rehome;
pub(crate) mod remove;
pub(crate) mod rename;
pub(crate) mod render;
pub(crate) mod replace;
pub(crate) mod report;
pub(crate) mod resume;
pub(crate) mod search;
pub(crate) mod show;
pub(crate) mod status;
pub(crate) mod trace;
pub(crate) mod trust;
pub(crate) mod waive;
pub(crate) mod withdraw;

/// The version of all documents.
pub(crate) const FORMAT: u32 = 1;
