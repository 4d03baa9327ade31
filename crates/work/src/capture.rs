//! What the outlets of a stage hold now, written down.

use cledger_core::address::{Address, Pattern};
use cledger_core::model::LayerId;
use cledger_store::{Capture, CapturedOutlet, CapturedUnit};

use crate::daybook;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::reality::around::Around;
use crate::reality::capturing::{Hiding, outlet};
use crate::reality::look::{Seeing, look};
use crate::reality::places;
use crate::reality::veiling;
use crate::trouble::{Kind, Trouble};

pub use crate::reality::capturing::SecretsAs;

/// A capture that was made.
#[derive(Debug)]
pub struct Captured {
    /// What was written down.
    pub capture: Capture,
    /// How much of each outlet.
    pub counted: Vec<Counted>,
}

/// What was captured of one outlet.
#[derive(Debug, Clone)]
pub struct Counted {
    /// Its name.
    pub outlet: String,
    /// Its kind.
    pub kind: String,
    /// How many units are there.
    pub there: usize,
    /// How many are not.
    pub not_there: usize,
    /// Why others could not be looked at.
    pub not_known: Vec<String>,
}

impl Captured {
    /// What kind of trouble there was, if any.
    pub fn kind(&self) -> Option<Kind> {
        let all_known = self.counted.iter().all(|outlet| outlet.not_known.is_empty());
        (!all_known).then_some(Kind::Outside)
    }
}

/// Writes down what the outlets of a stage hold, of these units alone if any is named.
pub fn capture(
    opened: &Opened,
    address: &Address,
    units: &[String],
    secrets: SecretsAs,
) -> Result<Captured, Trouble> {
    let Some(stage) = address.stage.as_ref().filter(|_| address.owner.is_none()) else {
        let message = format!("`{address}` names no stage");
        return Err(Trouble::usage(message).help("write @STAGE, and units behind it"));
    };
    let mut patterns = Vec::new();
    for unit in units {
        patterns.push(Pattern::parse(&format!("{unit}@{stage}"))?);
    }
    if patterns.is_empty() {
        patterns.push(Pattern::parse(&format!("@{stage}"))?);
    }
    let (at, ledger, keys) = (&opened.at, &opened.ledger, opened.keys());
    let id = known_stage(ledger, stage.as_str())?;
    let scope = ledger.key_scope(LayerId::Stage(id));
    if secrets != SecretsAs::LeftOut && !keys.has_key(&scope) {
        let message = format!("`{stage}` has no key under which secrets could be captured");
        let help = format!("make one: cledger key make @{stage} --write; or add --secrets left-out");
        return Err(Trouble::refused(message).help(help));
    }
    let (resolver, around) = (opened.resolver(), Around::of(opened));
    let places = places::outlets(&patterns, ledger, &around)?;
    let mut looked = look(places, &resolver, at.today()?, Seeing::Live(&*at.telling))?;
    if let Some(mut book) = daybook::reading(opened)? {
        veiling::by_deliveries(&mut *book, looked.iter_mut().flat_map(|looked| &mut looked.units))?;
    }
    let hiding = Hiding { keys, scope, how: secrets };
    let mut capture = Capture::new(&ledger.name, stage.clone(), at.now(), at.who.clone());
    for looked in &looked {
        capture.outlets.push(outlet(ledger, looked, &hiding)?);
    }
    let counted = capture.outlets.iter().map(counted).collect();
    Ok(Captured { capture, counted })
}

fn counted(outlet: &CapturedOutlet) -> Counted {
    let units = || outlet.units.values();
    Counted {
        outlet: outlet.name.to_string(),
        kind: outlet.kind.clone(),
        there: units().filter(|unit| matches!(unit, CapturedUnit::There { .. })).count(),
        not_there: units().filter(|unit| matches!(unit, CapturedUnit::NotThere)).count(),
        not_known: units()
            .filter_map(|unit| match unit {
                CapturedUnit::NotKnown { reason } => Some(reason.clone()),
                _ => None,
            })
            .collect(),
    }
}
