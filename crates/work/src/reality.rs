//! What is really out there: where it is, how it stands to the ledger, and how it is brought into line.
//!
//! `places` says where to look, `look` compares what is there with what the ledger makes (`making`), `whole` reads
//! what is there beside that, `since` tells edits by hand from what was not delivered yet, `veiling` keeps secrets
//! that are still there, `capturing` and `saying` write captures, `captured` takes them in place of outlets and `delivered` what
//! was delivered, `lookups` finds values that the other side assigns.

pub(crate) mod around;
pub(crate) mod captured;
pub mod capturing;
pub mod delivered;
pub(crate) mod look;
pub(crate) mod looked;
pub mod lookups;
pub(crate) mod making;
pub(crate) mod masking;
pub(crate) mod places;
pub(crate) mod remains;
pub(crate) mod rows;
pub(crate) mod saying;
pub(crate) mod since;
pub mod standing;
pub(crate) mod veiling;
pub(crate) mod way;
pub(crate) mod whole;
