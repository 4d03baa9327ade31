//! A second front end: plans a delivery, and makes it, with answers from a table in place of a terminal.
//!
//! `cargo run -p cledger-work --example delivery -- LEDGER UNIT STAGE REASON [PRODUCTION-STAGE…]`

use std::path::{Path, PathBuf};
use std::sync::Arc;

use cledger_core::{address::Owner, name::Name};
use cledger_store::{Identity, Scope, State};
use cledger_work::asking::{Asking, Nobody};
use cledger_work::change::Consent;
use cledger_work::deliver::{Delivered, ToDeliver, deliver};
use cledger_work::whole_units::WholeUnits;
use cledger_work::{Opened, Trouble, Workplace};

/// The production stages that whoever is asked says yes to; every other question stays open.
struct Table(Vec<String>);

impl Asking for Table {
    fn countersigns(&self, stage: &Name, _: &str) -> Result<bool, Trouble> {
        Ok(self.0.iter().any(|known| known == stage.as_str()))
    }
}

/// A workplace for a ledger, with an identity and a memory beside it.
pub(crate) fn workplace(ledger: &Path, yes: &[String]) -> Arc<Workplace> {
    Arc::new(Workplace {
        named: Some(ledger.to_owned()),
        here: PathBuf::from("."),
        identity: Arc::new(Identity::at(Some(ledger.join("../identity")), Arc::new(|_: &str| None))),
        state: State::at(Some(ledger.join("../state"))),
        who: Some("second-front-end".to_owned()),
        host: None,
        usual_stage: None,
        today: None,
        clock: jiff::Timestamp::now,
        is_trusted: true,
        daybook: None,
        telling: Box::new(Nobody),
        asking: Box::new(Table(yes.to_vec())),
        stepping: Box::new(Nobody),
    })
}

/// Plans the delivery of a unit to a stage, and makes it if nothing is missing for it.
pub(crate) fn plan_and_deliver(
    at: &Arc<Workplace>,
    [unit, stage, why]: [&str; 3],
) -> Result<(Delivered, Option<Delivered>), Trouble> {
    let name = |text: &str| Name::parse(text).map_err(|error| Trouble::usage(format!("`{text}`: {error}")));
    let plan = ToDeliver {
        what: WholeUnits::of(Owner::Unit(name(unit)?, None), Some(&name(stage)?)),
        consent: Consent { countersign: Vec::new(), why: Some(why.to_owned()) },
        ..ToDeliver::all_of(None)
    };
    let opened = Opened::read(at, &Scope::Whole)?;
    let planned = deliver(&opened, &plan)?;
    let made = planned.gaps.is_empty().then(|| deliver(&opened, &ToDeliver { write: true, ..plan }));
    Ok((planned, made.transpose()?))
}

#[expect(clippy::print_stdout, reason = "an example talks to its caller")]
fn main() -> Result<(), Trouble> {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let [ledger, unit, stage, why, yes @ ..] = &words[..] else {
        return Err(Trouble::usage("write LEDGER UNIT STAGE REASON [PRODUCTION-STAGE…]"));
    };
    let (planned, made) = plan_and_deliver(&workplace(Path::new(ledger), yes), [unit, stage, why])?;
    for delivery in &planned.deliveries {
        println!("{}: {} fields change", delivery.plan.owner, delivery.plan.changes().len());
    }
    let recorded = made.iter().flat_map(|made| &made.deliveries).filter_map(|it| it.recorded.as_ref());
    recorded.for_each(|record| println!("delivered, as number {}", record.meta.number));
    made.and_then(|made| made.trouble).map_or(Ok(()), Err)
}
