//! Probing: which services a unit would talk to in a stage, and how one of them can answer.
//!
//! Nothing here opens a connection: [`targets`] says what to try, with the values as they resolve.

mod expected;
mod probed;
mod service;
mod targets;

pub use self::expected::{of_contract, targets};
pub use self::probed::Probed;
pub use self::service::{Auth, BadTlsMode, Greeting, Login, Service, Target, Tls, Wanted, is_this_machine};
pub use self::targets::{NotTried, PlaceOfService, merged, places};
pub use crate::model::Answer;
