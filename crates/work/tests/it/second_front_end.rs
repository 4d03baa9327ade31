//! The example of another front end, on the demo.

use std::path::Path;
use std::time::Duration;

use cledger_core::name::Name;
use cledger_work::change::{Changing, Consent};
use cledger_work::keys::{self, KeyChange, ToMake};

use crate::copied::copy;

#[path = "../../examples/delivery.rs"]
#[expect(dead_code, reason = "the example has a `main` of its own")]
mod delivery;

#[test]
fn another_front_end_plans_and_makes_a_delivery_of_the_demo() {
    let folder = tempfile::tempdir().unwrap();
    copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), folder.path());
    let ledger = folder.path().join("ledger");
    let at = delivery::workplace(&ledger, &[]);
    keys::identity(&at, true).unwrap();
    let stages = ["dev", "prod-north"].map(|stage| format!("@{stage}")).to_vec();
    let consent =
        Consent { countersign: vec![Name::parse("prod-north").unwrap()], why: Some("trial".to_owned()) };
    let key = ToMake {
        change: KeyChange { stages, consent, write: true },
        name: Some(Name::parse("front").unwrap()),
        readers: Vec::new(),
        passphrase: None,
    };
    keys::make(&Changing::start(&at, Duration::from_secs(1)).unwrap(), &key).unwrap();
    let (planned, made) = delivery::plan_and_deliver(&at, ["ticket-desk", "dev", "trial"]).unwrap();
    assert!(planned.deliveries[0].plan.changes().len() > 10 && planned.deliveries[0].recorded.is_none());
    let made = made.unwrap();
    assert_eq!(made.deliveries[0].recorded.as_ref().map(|it| it.meta.number), Some(1), "{:?}", made.trouble);
    assert!(folder.path().join("live/dev/ticket-desk/ticket-desk.env").is_file());
    // A production stage is refused unless the table says yes to it.
    let refused = delivery::plan_and_deliver(&at, ["fare-engine", "prod-north", "trial"]).unwrap_err();
    assert_eq!(refused.to_string(), "this changes prod-north, a production stage");
}
