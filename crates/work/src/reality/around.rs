//! Where and how outlets are found: what stands around a ledger.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::{Arc, Mutex};

use cledger_core::resolve::Outside;
use cledger_core::trust::Granted;
use cledger_outlets::{OAuth, Trust};

use crate::opened::Opened;

/// Tokens by what they are given for.
pub(crate) type Tokens = Arc<Mutex<BTreeMap<String, Arc<OAuth>>>>;

/// Where and how outlets are found.
pub(crate) struct Around<'a> {
    pub(crate) ledger_folder: &'a Path,
    /// Gives addresses and tokens that do not stand in the ledger.
    pub(crate) outside: &'a dyn Outside,
    pub(crate) trust: Trust,
    /// The tokens that were fetched so far, by what they are given for.
    pub(crate) tokens: Tokens,
    /// What the ledger may reach.
    pub(crate) granted: Granted,
    /// Who works here; empty where nobody says so.
    pub(crate) who: String,
}

impl<'a> Around<'a> {
    /// The surroundings of a ledger that is open: what the system trusts, and what the ledger may reach.
    pub(crate) fn of(opened: &'a Opened) -> Self {
        Self {
            ledger_folder: &opened.folder,
            outside: &opened.surroundings,
            trust: Trust::of_system(),
            tokens: Arc::default(),
            granted: opened.granted().clone(),
            who: opened.at.who(),
        }
    }

    /// The same where something that is kept is read in place of outlets, and nothing is reached.
    pub(crate) fn unreached(opened: &'a Opened) -> Self {
        Self { granted: Granted::All, ..Self::of(opened) }
    }
}
