//! The services that are probed, for real where they run here.

#![expect(clippy::unwrap_used, reason = "a test fails by panicking")]

mod database;
mod foreseen;
mod mariadb;
mod outlets;
mod probe;
mod relay;
mod rows;
mod servers;
