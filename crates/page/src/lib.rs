//! Reports for people without a terminal: what a stage, a comparison or a whole ledger looks like, as HTML, Markdown or
//! CSV.
//!
//! [`Page`] is what is reported, whatever the form; the modules below `parts` make it of what the use cases of
//! `cledger-work` give, those below `form` write it. A page has no secret: cells are made of values that anybody may see.

mod form;
mod model;
mod parts;

pub use form::csv::{NotOneTable, csv};
pub use form::html::html;
pub use form::markdown::markdown;
pub use model::{Bars, Block, Cell, Flow, Grid, Head, Lane, Lanes, Page, Row, Section, Table};
pub use parts::{PARTS, Part, Report, report};
