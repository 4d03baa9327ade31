//! What is outside of a ledger: the outlets of its stages, and the services that units talk to.
//!
//! [`read_back`] reads what outlets hold, [`bring`] brings them what they should, [`effect`] makes it count,
//! and [`probe`] tries services; many at once, and each within a time limit. [`mod@file`] reads files that
//! somebody else has written.

pub mod bring;
mod client_certificate;
mod database_url;
mod document;
pub mod effect;
mod failure;
pub mod file;
pub mod held;
mod http;
mod mariadb;
mod oauth;
mod postgresql;
pub mod probe;
pub mod reach;
pub mod read_back;
mod rows;
mod sent;
mod tcp;
mod tls;
mod trust;

pub use failure::Failure;
pub use oauth::OAuth;
pub use postgresql::{is_address, log_in};
pub use rows::{Foreseen, Tables};
pub use trust::Trust;
