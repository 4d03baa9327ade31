//! What each command prints for people.

pub(crate) mod add;
pub(crate) mod adopt;
pub(crate) mod capture;
pub(crate) mod change;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod deliver;
pub(crate) mod drift;
pub(crate) mod history;
pub(crate) mod impact;
pub(crate) mod key;
pub(crate) mod list;
pub(crate) mod matrix;
pub(crate) mod outlet;
pub(crate) mod probe;
pub(crate) mod rehome;
pub(crate) mod remove;
pub(crate) mod rename;
pub(crate) mod render;
pub(crate) mod replace;
pub(crate) mod rows;
pub(crate) mod search;
pub(crate) mod show;
pub(crate) mod trace;
pub(crate) mod waive;
