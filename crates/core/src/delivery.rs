//! The rules of deliveries: what one changes, in which order stages have it, what must be done around it, and
//! what waits for one.
//!
//! Whoever keeps the records says what has happened so far ([`Past`]); nothing here reads them.

mod change;
mod chores;
mod contract;
mod names;
mod order;
mod past;
mod rows;
mod tested;
mod waiting;

pub use change::{FieldChange, drafted, field_changes};
pub use chores::{Since, around, asked_for, first_not_done, open, open_after, still_open};
pub use contract::contract_hash;
pub use names::{NoPlace, Sides, Step, Whose, alike, steps, target, with_names_of};
pub use order::{lacking_before, referred_first, referring_first};
pub use past::{Arrived, Event, Past};
pub use rows::{RowChange, row_changes};
pub use tested::may_differ;
pub use waiting::{InStage, Waiting, has_news_below, in_stage};
