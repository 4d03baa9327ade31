//! The heart of Copper Ledger: addresses, the model of a ledger, resolution, findings, comparison
//! and drift.
//!
//! Nothing in this crate reads files, the environment or the clock, and nothing prints. What comes
//! from outside a ledger is fetched through [`resolve::Outside`].

pub mod address;
pub mod adopt;
pub mod blanks;
pub mod cipher;
pub mod compare;
pub mod delivery;
pub mod drift;
pub mod effects;
pub mod environment;
pub mod fields;
pub mod findings;
pub mod following;
pub mod impact;
pub mod json;
pub mod kept;
pub mod let_go;
pub mod matrix;
pub mod model;
pub mod name;
pub mod output;
pub mod probe;
pub mod promotion;
pub mod reference;
pub mod rehome;
pub mod render;
pub mod resolve;
pub mod search;
pub mod source;
pub mod trace;
pub mod tree;
pub mod trust;
pub mod types;
pub mod uri;
pub mod value;
