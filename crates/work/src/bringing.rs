//! Bringing units to their outlets, and nothing over what is not ours.
//!
//! `baseline` knows what was last brought to each outlet, `sight` looks at what is there, `forms` and `part` read
//! both as names and values, `plan` says name by name what is there, whose it is and what is to be there (`at`),
//! `foresight` what tables say to that, `rules` what stays as it is there, `before` keeps what is overwritten, `bring` brings it and looks again.

pub mod at;
pub(crate) mod baseline;
pub(crate) mod before;
pub(crate) mod bring;
pub mod brought;
pub(crate) mod effects;
mod foresight;
pub(crate) mod forms;
pub(crate) mod grounds;
mod load;
pub(crate) mod part;
pub(crate) mod plan;
mod probing;
pub(crate) mod putting;
pub(crate) mod restoring;
pub(crate) mod returning;
pub(crate) mod rules;
mod sight;
pub(crate) mod whom;
