//! What is done with a ledger, as use cases without a terminal.
//!
//! A use case takes plain values, opens the ledger once ([`opened::Opened`], or locked for a change as
//! [`change::Changing`]), does one thing, and gives back a result that whoever called it shows. What it may ask
//! a person, and whom it tells how far it is, are two traits ([`asking`]). It never prints, reads no arguments
//! and no environment: [`workplace::Workplace`] says where, by whom and when something is done.
//!
//! Rules of resolution, comparison, deliveries and promotion are in the core; here they meet the disk, the
//! daybook and what is outside.

pub mod add;
pub mod adopt;
pub mod against;
pub mod anchor;
mod answers;
mod archive;
pub mod asking;
pub mod bringing;
pub mod browse;
pub mod capture;
pub mod cells;
pub mod change;
pub mod check;
pub mod compare;
pub mod conditions;
mod covering;
mod daybook;
pub mod declare;
pub mod deliver;
mod differing;
pub mod drift;
mod existing;
pub mod fill;
pub mod folio;
mod former_names;
mod gate;
pub mod generated;
pub mod impact;
pub mod init;
pub mod keys;
mod known;
pub mod live_names;
mod lookup_rows;
pub mod matrix;
pub mod meant;
mod meanwhile;
pub mod opened;
pub mod outlet;
pub mod probe;
pub mod promote;
pub mod reality;
pub mod rehome;
pub mod remove;
pub mod rename;
pub mod render;
mod rendered;
pub mod replace;
pub mod resume;
pub mod routine;
pub mod run;
pub mod set;
pub mod setting;
mod several;
pub mod share;
mod shared_book;
pub mod show;
pub mod shown;
pub mod touched;
pub mod trace;
pub mod trouble;
pub mod trust;
pub mod waive;
pub mod whole_units;
pub mod workplace;

pub use known::trust_own;
pub use opened::Opened;
pub use trouble::{Kind, Trouble};
pub use workplace::Workplace;
