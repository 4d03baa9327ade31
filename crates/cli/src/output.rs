//! Turning results into text for people and documents for programs.
//!
//! The core's result types come in, lines go to the [`console`]. What is shared by several commands
//! is here; what one command prints is in `text/` and `json/`, one file a command.

pub(crate) mod checked;
pub(crate) mod clean;
pub(crate) mod console;
pub(crate) mod diagnostics;
mod fold;
pub(crate) mod json;
pub(crate) mod junit;
pub(crate) mod lines;
pub(crate) mod origin;
pub(crate) mod places;
mod results;
pub(crate) mod sarif;
pub(crate) mod shown;
pub(crate) mod style;
pub(crate) mod table;
pub(crate) mod text;
pub(crate) mod time;
pub(crate) mod values;
