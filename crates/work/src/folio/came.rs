//! What came into a ledger by folios, so that a later one changes what nobody has changed here, and clashes with what somebody
//! has. It stands in a file of the ledger, for all of its clones.

use std::collections::BTreeMap;

use cledger_store::Tree;
use serde::{Deserialize, Serialize};

use super::CAME;
use super::piece::Piece;
use super::signature::SignedBy;
use crate::trouble::Trouble;

/// What stands at its beginning.
const HEAD: &str = "# What came from other ledgers by `cledger folio enter`, as it came: a later folio changes what is still so.\n\
                    # It is written by that command alone.\n";

/// What came from all other ledgers.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Came {
    #[serde(default, rename = "from")]
    ledgers: BTreeMap<String, BTreeMap<String, Arrived>>,
    /// Who has signed what came from a ledger, by its name: a public key.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    signed_by: BTreeMap<String, String>,
}

/// A piece that came.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Arrived {
    /// What it says, as a hash.
    says: String,
    /// What it was called there, where that is another name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    of: Option<String>,
    /// The version of a unit or bundle.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    version: Option<String>,
}

fn wrong(reason: String) -> Trouble {
    Trouble::usage(format!("`{CAME}` cannot be read: {reason}"))
        .help("take it back from version control: what came would clash otherwise")
}

impl Came {
    /// Reads it.
    pub(super) fn read(tree: &dyn Tree) -> Result<Self, Trouble> {
        let text = tree.text(CAME).map_err(|error| wrong(error.to_string()))?;
        let Some(text) = text else { return Ok(Self::default()) };
        toml::from_str(&text).map_err(|error| wrong(error.message().to_owned()))
    }

    /// What a piece from a ledger said when it came.
    pub(super) fn says(&self, ledger: &str, piece: &Piece) -> Option<&str> {
        Some(&self.ledgers.get(ledger)?.get(&piece.to_string())?.says)
    }

    /// The version of it that came.
    pub(super) fn version(&self, ledger: &str, piece: &Piece) -> Option<&str> {
        self.ledgers.get(ledger)?.get(&piece.to_string())?.version.as_deref()
    }

    /// The names that pieces were given here, each as `OLD=NEW`.
    pub(super) fn renamings(&self, ledger: &str) -> Vec<String> {
        let pieces = self.ledgers.get(ledger).into_iter().flatten();
        pieces.filter_map(|(name, arrived)| Some(format!("{}={name}", arrived.of.as_ref()?))).collect()
    }

    /// Who has signed what came from a ledger.
    pub(super) fn signed_by(&self, ledger: &str) -> Result<Option<SignedBy>, Trouble> {
        let signed_by = self.signed_by.get(ledger).map(|key| SignedBy::parse(key));
        signed_by.transpose().map_err(|trouble| wrong(format!("of `{ledger}` under [signed_by]: {trouble}")))
    }

    /// Takes note of who has signed what comes.
    pub(super) fn note_signer(&mut self, ledger: &str, signer: &SignedBy) {
        self.signed_by.insert(ledger.to_owned(), signer.key());
    }

    /// Takes note of a piece that comes, and what it was called.
    pub(super) fn note(
        &mut self,
        ledger: &str,
        piece: &Piece,
        (says, of): (String, Option<String>),
        version: Option<String>,
    ) {
        let pieces = self.ledgers.entry(ledger.to_owned()).or_default();
        pieces.insert(piece.to_string(), Arrived { says, of, version });
    }

    /// Its text.
    pub(super) fn to_text(&self) -> String {
        // It is made of texts, which always serialise.
        format!("{HEAD}\n{}", toml::to_string(self).unwrap_or_default())
    }
}
