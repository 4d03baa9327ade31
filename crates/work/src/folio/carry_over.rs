//! Units that were delivered to a stage, carried to another ledger in one step.

use cledger_core::delivery::contract_hash;
use cledger_store::daybook::Wanted;

use super::Folio;
use super::enter::{Entered, ToEnter, enter};
use super::make::{SecretsFor, ToMake, make};
use crate::daybook;
use crate::meant::known_stage;
use crate::opened::Opened;
use crate::trouble::Trouble;
use crate::whole_units::WholeUnits;

/// Makes a folio of units for the sake of the stage that they come from, and takes it into another ledger. What moves
/// is what was delivered there: a contract that is another one by now does not.
pub fn carry_over(opened: &Opened, from: &WholeUnits, asked: &ToEnter) -> Result<Entered, Trouble> {
    let ledger = &opened.ledger;
    let Some(stage) = &from.stage else {
        return Err(
            Trouble::usage("FROM names no stage").help("write UNIT@STAGE, bundle:NAME@STAGE or @STAGE")
        );
    };
    let id = known_stage(ledger, stage.as_str())?;
    let mut book = daybook::required(opened)?;
    for subject in opened.whole_units(from, id)? {
        let owner = ledger.owner(subject).to_string();
        let last = book.entries(&Wanted::last_of(&owner, stage.as_str()), false)?.pop();
        let reason = match last.filter(|entry| entry.meta.kind.is_brought()) {
            None => "was not delivered there",
            Some(entry) if entry.meta.contract != contract_hash(ledger, subject) => {
                "was delivered there with another contract than the ledger has now"
            }
            Some(_) => continue,
        };
        return Err(Trouble::refused(format!("`{owner}@{stage}` does not move: it {reason}"))
            .help(format!("deliver it first: cledger deliver {owner}@{stage}")));
    }
    let units = WholeUnits { stage: None, delivery: None, ..from.clone() };
    let units = if from.is_all() { of_stage(opened, id) } else { units };
    let asked_for = ToMake {
        what: &units,
        from: Some(stage),
        with_values: false,
        secrets_for: SecretsFor::Nobody,
        countersign: &[],
        signer: None,
    };
    let made = make(opened, &asked_for)?;
    for beside in &made.beside {
        opened.at.telling.notice(&format!("{beside}, which does not come along."));
    }
    let folio = Folio::of_bytes(&made.bytes)
        .map_err(|reason| Trouble::outside(format!("the folio is not what was made: {reason}")))?;
    enter(&opened.at, &folio, asked)
}

/// All units of a stage, by their names.
fn of_stage(opened: &Opened, stage: cledger_core::model::StageId) -> WholeUnits {
    use cledger_core::address::Owner;

    use crate::whole_units::Units;
    let owners = opened.ledger.subjects_in(stage).map(|subject| opened.ledger.owner(subject));
    let units = owners.filter(|owner| matches!(owner, Owner::Unit(_, None))).map(Units::Named);
    WholeUnits { units: units.collect(), stage: None, delivery: None }
}
