//! What the ledger at hand may reach, and how its keys were seen last: recalled once, when it is read.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use cledger_core::cipher::KeyScope;
use cledger_core::model::{Class, LayerId, Ledger};
use cledger_core::resolve::Unfetched;
use cledger_core::trust::{Granted, Named, of_ledger};
use cledger_store::{Disk, Scope, State, Watch, read};

use crate::app::App;
use crate::error::{CliError, status};

/// The environment variable by which a pipeline says that ledgers are trusted.
const TRUST_VARIABLE: &str = "CLEDGER_TRUST";

/// What is known of a ledger.
pub(crate) struct Known {
    pub(crate) granted: Granted,
    pub(crate) watch: Arc<Watch>,
    /// Why nothing can be recalled, if so.
    pub(crate) trouble: Option<String>,
}

impl Known {
    /// Recalls what is remembered of a ledger.
    pub(crate) fn of(state: &State, root: &Path, ledger: &Ledger, trust: bool) -> Self {
        let (remembered, trouble) = match state.recall(root, &ledger.name) {
            Ok(remembered) => (remembered.unwrap_or_default(), None),
            Err(error) => (cledger_store::Remembered::default(), Some(error.to_string())),
        };
        let by_variable = std::env::var_os(TRUST_VARIABLE).is_some_and(|value| value == "1");
        let granted = if trust || by_variable { Granted::All } else { Granted::Only(remembered.trusted) };
        Self { granted, watch: Arc::new(Watch::new(remembered.keys, careful(ledger))), trouble }
    }
}

/// The production stages and their groups.
pub(crate) fn careful(ledger: &Ledger) -> BTreeSet<KeyScope> {
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

/// What a refusal says that nobody has trusted this ledger yet.
pub(crate) fn not_trusted(what: &str) -> CliError {
    CliError::refused(format!("{what}: nobody has said yet that this ledger is trusted"))
        .help("look at what it names, and say so: cledger trust; or --trust for one run")
}

impl App<'_> {
    /// Refuses to reach what nobody has said that the ledger may.
    pub(crate) fn require<'n>(&self, names: impl IntoIterator<Item = &'n Named>) -> Result<(), CliError> {
        require(self.granted(), names)
    }
}

/// Refuses to reach what is not granted.
pub(crate) fn require<'n>(
    granted: &Granted,
    names: impl IntoIterator<Item = &'n Named>,
) -> Result<(), CliError> {
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
    Err(CliError::Plain {
        status: status::REFUSED,
        message: message.to_owned(),
        pointed: Some(listed.join("\n")),
        help: Some("look at what it names, and say so: cledger trust; or --trust for one run".to_owned()),
    })
}

/// Lets a ledger that this program has just made reach what it names: whoever makes it has said so. What cannot
/// be remembered is told.
pub(crate) fn trust_own(root: &Path, app: &App<'_>) {
    // What was just written can be read, or the next command says why not.
    let Ok(ledger) = read(&Disk::new(root), &Scope::Whole) else { return };
    let names = of_ledger(&ledger, &Unfetched).into_keys().collect();
    let remembered = app.state.remember(root, &ledger.name, |known| known.trusted = Some(names));
    if let Err(error) = remembered {
        app.console.notice(&format!("That this ledger is trusted is not remembered: {error}."));
    }
}
