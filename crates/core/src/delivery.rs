//! The rules of deliveries: what one changes, in which order stages have it, what must be done around it, and
//! what waits for one.
//!
//! Whoever keeps the records says what has happened so far ([`Past`]); nothing here reads them.

mod change;
mod chores;
mod contract;
mod order;
mod past;
mod there;
mod waiting;

pub use change::{FieldChange, drafted, field_changes};
pub use chores::{around, asked_for, first_not_done, open};
pub use contract::contract_hash;
pub use order::lacking_before;
pub use past::{Event, Past};
pub use there::{RowChange, merged, row_changes};
pub use waiting::{InStage, Waiting, has_news_below, in_stage};
