//! A daybook that is not the one that was used before, taken for the right one.

use cledger_store::SeenRecord;

use crate::daybook;
use crate::opened::Opened;
use crate::trouble::Trouble;

/// What was seen last of the daybook, and what is last in it now.
#[derive(Debug)]
pub struct DaybookTrusted {
    /// The place in the chain and the hash that were seen last.
    pub before: Option<(u64, String)>,
    /// Those that are last in it.
    pub now: Option<(u64, String)>,
    /// Whether that is remembered.
    pub written: bool,
}

/// Takes the daybook as it is now for the right one, whatever was seen of it before.
pub fn trust_daybook(opened: &Opened, write: bool) -> Result<DaybookTrusted, Trouble> {
    let now = daybook::required(opened)?.link(None)?;
    let (state, folder, name) = (&opened.at.state, &opened.folder, &opened.ledger.name);
    let before = state.recall(folder, name)?.and_then(|known| known.daybook);
    if write {
        let seen = now.clone().map(|(place, hash)| SeenRecord { place, hash });
        state.remember(folder, name, |known| known.daybook = seen)?;
    }
    Ok(DaybookTrusted { before: before.map(|seen| (seen.place, seen.hash)), now, written: write })
}
