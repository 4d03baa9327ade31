//! Where stages are delivered to and read back from.

pub mod list;
pub mod lookup;
pub mod prepare;
pub mod put;
pub mod put_captured;
