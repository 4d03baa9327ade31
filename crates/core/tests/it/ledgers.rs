//! Small ledgers, written down where they are used.

use cledger_core::model::Ledger;
use cledger_store::{Memory, Scope, read};

/// Three stages, one after the other; the last is a production one.
pub(crate) const STAGES: &str = "format = 1\nname = \"Small\"\ndefault_stage = \"dev\"\n\
     [[stage]]\nname = \"dev\"\nclass = \"development\"\n\
     [[stage]]\nname = \"test\"\nclass = \"test\"\nafter = [\"dev\"]\n\
     [[stage]]\nname = \"prod\"\nclass = \"production\"\nafter = [\"test\"]\nown = [\"*/region\"]\n";

/// Reads a ledger of these files, with [`STAGES`] where there is no `ledger.toml` among them.
pub(crate) fn ledger(files: &[(&str, &str)]) -> Ledger {
    let mut tree: Memory = files.iter().copied().collect();
    tree.0.entry("ledger.toml".to_owned()).or_insert_with(|| STAGES.to_owned());
    read(&tree, &Scope::Whole).unwrap()
}
