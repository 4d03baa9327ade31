//! How the ledger wants to be judged.

use std::collections::BTreeMap;

use super::Rule;
use crate::findings::{Code, Severity};

/// How many days ahead a last day is near, unless the ledger says otherwise.
pub const EXPIRING_DAYS: i64 = 30;

/// What `ledger.toml` says of findings.
#[derive(Debug, Clone)]
pub struct Judging {
    /// How many days ahead a last day is near.
    pub expiring_days: i64,
    /// Severities that are other than usual, by code.
    pub severities: BTreeMap<Code, Severity>,
    /// The ledger's own rules.
    pub rules: Vec<Rule>,
}

impl Default for Judging {
    fn default() -> Self {
        Self { expiring_days: EXPIRING_DAYS, severities: BTreeMap::new(), rules: Vec::new() }
    }
}
