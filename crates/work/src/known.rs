//! What is known of a ledger before it is read: what it may reach, and how its keys were seen last.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use cledger_core::cipher::KeyScope;
use cledger_core::model::{Class, LayerId, Ledger};
use cledger_core::resolve::Unfetched;
use cledger_core::trust::{Granted, Named, of_ledger};
use cledger_store::{Disk, Remembered, Scope, Watch, read};

use crate::trouble::Trouble;
use crate::workplace::Workplace;

/// What is known of a ledger.
pub(crate) struct Known {
    pub(crate) granted: Granted,
    pub(crate) watch: Arc<Watch>,
    /// Whether somebody has said before what the ledger may reach.
    pub(crate) was_trusted: bool,
    /// Why nothing can be recalled, if so.
    pub(crate) trouble: Option<String>,
}

impl Known {
    /// Recalls what is remembered of a ledger.
    pub(crate) fn of(workplace: &Workplace, root: &Path, ledger: &Ledger) -> Self {
        let (remembered, trouble) = match workplace.state.recall(root, &ledger.name) {
            Ok(remembered) => (remembered.unwrap_or_default(), None),
            Err(error) => (Remembered::default(), Some(error.to_string())),
        };
        let was_trusted = remembered.trusted.is_some();
        let granted = if workplace.is_trusted { Granted::All } else { Granted::Only(remembered.trusted) };
        let watch = Arc::new(Watch::new(remembered.keys, careful(ledger)));
        Self { granted, watch, was_trusted, trouble }
    }
}

/// The production stages and their groups.
fn careful(ledger: &Ledger) -> BTreeSet<KeyScope> {
    let stages = ledger.stage_ids().filter(|&id| ledger.stage(id).class == Class::Production);
    let layers = stages.flat_map(|id| {
        let groups = ledger.stage(id).groups.iter().map(|&group| LayerId::Group(group));
        groups.chain([LayerId::Stage(id)])
    });
    layers.map(|layer| ledger.key_scope(layer)).collect()
}

/// A thing as messages name it.
pub(crate) fn said(named: &Named) -> String {
    format!("{} {}", named.thing.word(), named.name)
}

/// How one says what a ledger may reach.
const SAY_SO: &str = "look at what it names, and say so: cledger trust; or --trust for one run";

/// What a refusal says that nobody has trusted this ledger yet.
pub(crate) fn not_trusted(what: &str) -> Trouble {
    Trouble::refused(format!("{what}: nobody has said yet that this ledger is trusted")).help(SAY_SO)
}

/// Refuses to reach what is not granted.
pub(crate) fn require<'n>(
    granted: &Granted,
    names: impl IntoIterator<Item = &'n Named>,
) -> Result<(), Trouble> {
    let refused = granted.refused(names);
    if refused.is_empty() {
        return Ok(());
    }
    let listed: Vec<String> = refused.iter().map(said).collect();
    let message = if granted.is_unsaid() {
        "nothing is reached: nobody has said yet that this ledger is trusted, and it names"
    } else {
        "nothing is reached: the ledger names what it did not when it was trusted"
    };
    Err(Trouble::refused(message).pointed(listed.join("\n")).help(SAY_SO))
}

/// Lets a ledger that was just made here reach what it names: whoever makes it has said so. What cannot be
/// remembered is told.
pub fn trust_own(workplace: &Workplace, root: &Path) {
    // What was just written can be read, or the next command says why not.
    let Ok(ledger) = read(&Disk::new(root), &Scope::Whole) else { return };
    let names = of_ledger(&ledger, &Unfetched).into_keys().collect();
    let remembered = workplace.state.remember(root, &ledger.name, |known| known.trusted = Some(names));
    if let Err(error) = remembered {
        workplace.telling.notice(&format!("That this ledger is trusted is not remembered: {error}."));
    }
}
